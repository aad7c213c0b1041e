"""References are declared once; whatever is taken away, the document that comes of it is valid and names nothing that is gone."""

from __future__ import annotations

import unittest
from collections.abc import Iterator
from typing import Any

from plonket.base.errors import BadInput
from plonket.base.fields import GOES
from plonket.document.operations import (
    duplicate,
    fresh_name,
    into_parcel,
    lay_room,
    leaders,
    move,
    out_of_parcel,
    pack,
    remove,
    replace_footage,
    with_values,
)
from plonket.document.perch import Perch
from plonket.document.references import references
from plonket.document.shot import Footage, Shot, read_shot
from plonket.layers.model import MeshLayer
from tests.core.test_browser_patches import furnished


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
        assert isinstance(box, MeshLayer)
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


class Stacks(unittest.TestCase):
    """Whatever is moved, the document that comes of it is as good as one that is read afresh."""

    def setUp(self) -> None:
        self.shot = furnished()
        self.order = [one.id for one in self.shot.stack]

    def ids(self, shot: Shot) -> list[str]:
        return [one.id for one in read_shot(shot.model_dump(mode="json")).stack]

    def test_layers_go_up_and_down(self) -> None:
        first, second, third = self.order[:3]
        self.assertEqual(self.ids(move(self.shot, first, third))[:2], [second, first])
        self.assertEqual(self.ids(move(self.shot, first, None)), [*self.order[1:], first])
        self.assertEqual(self.ids(move(self.shot, third, first))[:2], [third, first])
        self.assertEqual(self.ids(move(self.shot, first, second)), self.order)
        with self.assertRaises(BadInput):
            move(self.shot, first, self.shot.parcels[0].stack[0].id)
        with self.assertRaises(BadInput):
            move(self.shot, "gone", None)

    def test_into_parcels_and_out_again(self) -> None:
        within = into_parcel(self.shot, "night", "inside")
        self.assertEqual((within.parcels[0].stack[0].id, "night" in self.ids(within)), ("night", False))
        out = out_of_parcel(within, "night")
        shows = next(k for k, one in enumerate(out.stack) if getattr(one, "parcel", None) == "inside")
        self.assertEqual(out.stack[shows - 1].id, "night")
        new, made = pack(self.shot, "embers")
        shown = next(one for one in new.stack if one.id == made)
        self.assertEqual((shown.name, self.ids(new).index(made)), ("Parcel 2", self.order.index("embers")))
        self.assertEqual([[one.id for one in p.stack] for p in new.parcels][-1], ["embers"])
        with self.assertRaises(BadInput):
            out_of_parcel(self.shot, "night")
        with self.assertRaises(BadInput) as caught:
            into_parcel(self.shot, next(one.id for one in self.shot.stack if one.kind == "parcel"), "inside")
        self.assertIn("would need itself", caught.exception.message)

    def test_once_more(self) -> None:
        for one in (*self.shot.stack, *self.shot.perches, *self.shot.finish):
            with self.subTest(one.id):
                doubled, made = duplicate(self.shot, one.id)
                copy = next(t for t in read_shot(doubled.model_dump(mode="json")).things() if t.id == made)
                same = one.model_dump(exclude={"id", "name"})
                self.assertEqual(copy.model_dump(exclude={"id", "name"}), same)
                self.assertNotEqual((copy.id, copy.name), (one.id, one.name))
                self.assertEqual(len(doubled.things()), len(self.shot.things()) + 1)
        steady = next(one for one in self.shot.plate if one.kind == "steady")
        with self.assertRaises(BadInput):
            duplicate(self.shot, steady.id)
        self.assertEqual([fresh_name(n, {"Boat", "Boat 2"}) for n in ("Boat", "Oar", "Boat 2")], ["Boat 3", "Oar", "Boat 3"])


class Leading(unittest.TestCase):
    def test_what_leads_a_thing_by_way_of_perches(self) -> None:
        shot = furnished()
        above = {p.id: p.follow.target for p in shot.perches}
        motions = {m.id for m in shot.motions}
        found = leaders(shot)
        self.assertTrue(set(found.values()) <= motions)
        for layer in shot.layers:
            target = getattr(getattr(layer, "follow", None), "target", None)
            while target in above:
                target = above[target]
            if hasattr(layer, "follow"):
                self.assertEqual(found.get(layer.id), target, layer.id)
        pinned = next(one for one in shot.layers if one.kind == "pin")
        self.assertEqual(found[pinned.id], pinned.plane)  # type: ignore[attr-defined]


class Footages(unittest.TestCase):
    def test_another_clip_keeps_what_can_be_kept_and_drops_what_was_measured(self) -> None:
        shot = furnished()
        new = Footage(asset="9" * 64, name="Other", width=640, height=360, rate="25/1", frames=3, in_frame=0, out_frame=2)
        changed = read_shot(replace_footage(shot, new).model_dump(mode="json"))
        self.assertEqual([m.id for m in changed.motions], [m.id for m in shot.motions])
        self.assertTrue(all(m.measurement is None for m in changed.motions))
        self.assertTrue(all(m.home < 3 for m in changed.motions))
        self.assertEqual([one.id for one in changed.stack], [one.id for one in shot.stack])
        for one in changed.plate:
            self.assertTrue(all(frame < 3 for _, frame in one.frames_set()), one.id)
        self.assertIs(replace_footage(changed, new), changed)

    def test_values_and_rooms_are_set_wherever_a_thing_lies(self) -> None:
        shot = furnished()
        inside = shot.parcels[0].stack[0]
        self.assertFalse(with_values(shot, inside.id, {"shown": False}).layer(inside.id).shown)
        camera = next(m for m in shot.motions if hasattr(m, "room"))
        room = camera.room.model_copy(update={"scale": 3.0})
        self.assertEqual(lay_room(shot, camera.id, room).motion(camera.id).room.scale, 3.0)  # type: ignore[attr-defined]
        with self.assertRaises(BadInput):
            with_values(shot, "nowhere", {})
        self.assertIsInstance(next(iter(shot.perches)), Perch)
