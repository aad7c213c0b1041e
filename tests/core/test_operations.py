"""References are declared once; whatever is taken away, the document that comes of it is valid and names nothing that is gone."""

from __future__ import annotations

import unittest
from collections.abc import Iterator
from typing import Any

from plonket.base.errors import BadInput
from plonket.base.fields import GOES
from plonket.document.operations import remove
from plonket.document.references import references
from plonket.document.shot import Shot, read_shot
from plonket.layers.model import ModelLayer
from tests.core.test_workspace import furnished


def strings(thing: Any) -> Iterator[str]:
    """Every text in a document that is not the kind of something."""
    if isinstance(thing, dict):
        for key, value in thing.items():
            if key != "kind":
                yield from strings(value)
    elif isinstance(thing, list):
        for value in thing:
            yield from strings(value)
    elif isinstance(thing, str):
        yield thing


def without(shot: Shot, thing_id: str) -> Shot:
    """The shot after the removal, which must be as good as one that is read afresh."""
    left = remove(shot, thing_id)
    return read_shot(left.model_dump(mode="json"))


class Declared(unittest.TestCase):
    def at(self, document: Any, pointer: str) -> Any:
        for step in pointer.split("/")[1:]:
            document = document[int(step) if step.isdigit() else step]
        return document

    def test_every_reference_is_found_where_it_stands(self) -> None:
        shot = furnished()
        document = shot.model_dump(mode="json")
        found = list(references(shot))
        for one in found:
            self.assertEqual(self.at(document, one.pointer), one.declared.prefix + one.id)
        # Whatever is the id of something stands either as its own id or in a declared reference, nowhere else.
        ids = {thing.id for thing in (*shot.motions, *shot.perches, *shot.layers, *shot.parcels)}
        known = {one.pointer for one in found}

        def undeclared(part: Any, pointer: str = "") -> Iterator[str]:
            if isinstance(part, dict):
                for key, value in part.items():
                    if key not in ("id", "kind", "name", "point"):
                        yield from undeclared(value, f"{pointer}/{key}")
            elif isinstance(part, list):
                for k, value in enumerate(part):
                    yield from undeclared(value, f"{pointer}/{k}")
            elif isinstance(part, str) and part.rpartition(":")[2] in ids and pointer not in known:
                yield pointer

        self.assertEqual(list(undeclared(document)), [])
        self.assertGreater(len({one.declared.to for one in found}), 6)

    def test_what_is_named_must_be_there(self) -> None:
        shot = furnished()
        for one in references(shot):
            if one.declared.to in ("asset", "measurement") or not one.declared.checked:
                continue
            document = shot.model_dump(mode="json")
            *way, last = one.pointer.split("/")[1:]
            place = self.at(document, "".join(f"/{step}" for step in way))
            place[int(last) if last.isdigit() else last] = one.declared.prefix + "nobody"
            with self.assertRaises(BadInput, msg=one.pointer) as caught:
                read_shot(document)
            self.assertRegex(caught.exception.message, "not in the shot|without a motion that solves one")


class Removing(unittest.TestCase):
    def test_anything_can_be_taken_away(self) -> None:
        shot = furnished()
        for look in shot.finish:
            self.assertNotIn(look.id, [one.id for one in without(shot, look.id).finish])
        for things in (shot.motions, shot.perches, shot.layers, shot.plate):
            for thing in things:
                left = without(shot, thing.id)
                for value in strings(left.model_dump(mode="json")):
                    self.assertFalse(value == thing.id or value.endswith(f":{thing.id}"), f"{thing.id} in {value}")

    def test_until_nothing_is_left(self) -> None:
        shot = furnished()
        while shot.motions or shot.perches or shot.stack:
            one = (shot.motions or shot.perches or shot.stack)[-1]
            shot = without(shot, one.id)
        self.assertEqual((shot.stack, shot.parcels), ([], []))

    def test_what_was_lit_as_another_keeps_that_light(self) -> None:
        shot = furnished()
        left = without(shot, "whale")
        box = next(one for one in left.stack if one.id == "chest")
        assert isinstance(box, ModelLayer)
        self.assertEqual((box.lit_like, box.sun), (None, 44.0))


    def test_what_cannot_be_without_it_goes_along_and_all_else_stays(self) -> None:
        shot = furnished()
        for one in references(shot):
            layer = next((owner for owner in one.owners if owner.id in {layer.id for layer in shot.layers}), None)
            if one.declared.to in ("asset", "measurement") or layer is None:
                continue
            left = {thing.id for thing in without(shot, one.id).layers} if one.declared.to != "parcel" else set()
            if one.declared.to != "parcel" and one.id != layer.id:
                self.assertEqual(layer.id in left, one.declared.left != GOES, (layer.id, one.id))

    def test_what_is_gone_already_is_told(self) -> None:
        with self.assertRaises(BadInput):
            remove(furnished(), "nobody")
