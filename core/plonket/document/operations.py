"""Changes of a shot that touch more than one thing in it: pure functions from shots to shots."""

from __future__ import annotations

from typing import Any

from plonket.base.errors import BadInput
from plonket.base.fields import GOES
from plonket.document.references import Referring
from plonket.document.shot import Shot, read_shot
from plonket.layers.model import ModelLayer
from plonket.layers.parcel import ParcelLayer

LISTS = ("motions", "perches", "plate", "stack", "finish")
LIGHT = ("sun", "sun_heading", "sun_height", "sun_soft", "sun_warm", "sky", "lit_like")
"""What a model takes over from the one that it was lit like."""


def name_of(shot: Shot, thing_id: str) -> str:
    """The name of a motion, perch, treatment, layer or look of the finish. Raises `BadInput` without one."""
    for thing in (*shot.motions, *shot.perches, *shot.plate, *shot.layers, *shot.finish):
        if thing.id == thing_id:
            return thing.name
    raise BadInput("shot.gone", "This is not in the shot any more.")


def remove(shot: Shot, thing_id: str) -> Shot:
    """The shot without a motion, perch, treatment, layer or look of the finish.

    What names it holds afterwards what its field's declaration leaves, and layers that cannot be without it (pins, beams) go
    along. Raises `BadInput` when there is no such thing.
    """
    name_of(shot, thing_id)
    shot = _with_own_light(shot, thing_id)
    gone, left = _gone(shot, thing_id)
    data = shot.model_dump(mode="json")
    # From the end of each list, so that the places of the others stay right.
    for one in reversed(left):
        _leave(data, one)
    for where in (*(data[name] for name in LISTS), *(parcel["stack"] for parcel in data["parcels"])):
        where[:] = [item for item in where if item["id"] not in gone]
    data["parcels"] = [parcel for parcel in data["parcels"] if parcel["id"] not in gone]
    for perch in data["perches"]:
        # Without its room there is no place in it.
        if perch["follow"]["target"] is None:
            perch["spot"] = None
    return read_shot(data, stored=True)


def _gone(shot: Shot, thing_id: str) -> tuple[set[str], list[Referring]]:
    """All that goes with a thing, and the references to it that stay behind, in the order of the document."""
    layers = {layer.id: layer for layer in shot.layers}
    gone, todo = set[str](), [thing_id]
    named = [one for one in shot.references() if one.declared.to not in ("asset", "measurement")]
    while todo:
        now = todo.pop()
        if now in gone:
            continue
        gone.add(now)
        holders = [next((owner.id for owner in one.owners if owner.id in layers), None) for one in named
                   if one.id == now and one.declared.left == GOES]  # fmt: skip
        todo += [layer for layer in holders if layer is not None]
        parcel = _only_shown_by(shot, layers.get(now))
        if parcel is not None:
            todo += [parcel, *(layer.id for layer in next(p.stack for p in shot.parcels if p.id == parcel))]
    # Parts of things have ids of their own, which may be those of other things.
    whole = {id(thing) for thing in (*shot.motions, *shot.perches, *shot.plate, *shot.layers, *shot.parcels, *shot.finish)}
    return gone, [one for one in named if one.id in gone
                  and not any(owner.id in gone for owner in one.owners if id(owner) in whole)]  # fmt: skip


def _only_shown_by(shot: Shot, layer: Any) -> str | None:
    """The parcel that nothing else shows, and none of whose layers something outside needs as a matte."""
    if not isinstance(layer, ParcelLayer):
        return None
    inside = {one.id for p in shot.parcels if p.id == layer.parcel for one in p.stack}
    others = [one for one in shot.layers if one.id != layer.id and one.id not in inside]
    shown = any(isinstance(one, ParcelLayer) and one.parcel == layer.parcel for one in others)
    return None if shown or any(one.matte in inside for one in others) else layer.parcel


def _with_own_light(shot: Shot, thing_id: str) -> Shot:
    """Models that are lit like one that goes keep that light as their own."""
    lender = next((one for one in shot.layers if one.id == thing_id and isinstance(one, ModelLayer)), None)
    if lender is None:
        return shot
    light = {name: getattr(lender, name) for name in LIGHT}

    def lit(stack: list[Any]) -> list[Any]:
        return [one.model_copy(update=light) if isinstance(one, ModelLayer) and one.lit_like == thing_id else one
                for one in stack]  # fmt: skip

    parcels = [p.model_copy(update={"stack": lit(p.stack)}) for p in shot.parcels]
    return shot.model_copy(update={"stack": lit(shot.stack), "parcels": parcels})


def _leave(data: Any, one: Referring) -> None:
    """Put into a field what its declaration leaves."""
    *way, last = [int(step) if step.isdigit() else step for step in one.pointer.split("/")[1:]]
    for step in way:
        data = data[step]
    if isinstance(last, int) and one.declared.left == GOES:
        del data[last]
    else:
        data[last] = one.declared.left
