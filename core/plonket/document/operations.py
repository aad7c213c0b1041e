"""Changes of a shot that touch more than one thing in it: pure functions from shots to shots.

What knows only the document is here; what has to know where things are is in `plonket.track.retarget`.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import Any

from plonket.base.errors import BadInput
from plonket.base.fields import GOES, PART_GOES, STORED
from plonket.document.bases import LayerBase, MotionBase, Named
from plonket.document.kinds import LAYERS, TREATMENTS
from plonket.document.references import Referring, references
from plonket.document.shot import Footage, Parcel, Shot, read_shot

LISTS = ("motions", "perches", "plate", "stack", "finish", "frames")
LONGEST_NAME = 120


def thing(shot: Shot, thing_id: str) -> Named:
    """A motion, perch, treatment, layer, parcel, look of the finish or frame. Raises `BadInput` without one."""
    for one in shot.things():
        if one.id == thing_id:
            return one
    raise BadInput("shot.gone", "This is not in the shot any more.")


def name_of(shot: Shot, thing_id: str) -> str:
    """The name of a thing. Raises `BadInput` without one."""
    return thing(shot, thing_id).name


def fresh_id(shot: Shot, prefix: str) -> str:
    """An id that nothing in the shot has: the prefix with the lowest number that is free."""
    taken = {one.id for one in (*shot.things(), *shot.markers, *shot.sounds)}
    return next(f"{prefix}-{k}" for k in range(1, 100_000) if f"{prefix}-{k}" not in taken)


def fresh_name(called: str, taken: set[str]) -> str:
    """A name that is not taken: as it is, or with the lowest number from 2 on."""
    if called not in taken:
        return called
    stem = re.sub(r" \d+$", "", called)[: LONGEST_NAME - 6]
    return next(name for k in range(2, 100_000) if (name := f"{stem} {k}") not in taken)


def with_values(shot: Shot, thing_id: str, values: dict[str, Any]) -> Shot:
    """The shot with other values on a thing, wherever it lies."""
    thing(shot, thing_id)

    def changed(items: list[Any]) -> list[Any]:
        return [one.model_copy(update=values) if one.id == thing_id else one for one in items]

    return shot.model_copy(
        update={name: changed(getattr(shot, name)) for name in LISTS}
        | {"parcels": [p.model_copy(update={"stack": changed(p.stack)}) for p in changed(shot.parcels)]}
    )


def leaders(shot: Shot) -> dict[str, str]:
    """What leads each thing, by ids: the motion that its place comes from, by way of perches if need be."""
    motions = {motion.id for motion in shot.motions}
    above: dict[str, str] = {}
    for one in shot.references():
        if one.declared.leads and one.owners:
            above.setdefault(one.owners[-1].id, one.id)
    out = {}
    for follower, first in above.items():
        at, steps = first, 0
        while at not in motions and at in above and steps <= len(above):
            at, steps = above[at], steps + 1
        if at in motions:
            out[follower] = at
    return out


def remove(shot: Shot, thing_id: str) -> Shot:
    """The shot without a motion, perch, treatment, layer or look of the finish.

    What names it holds afterwards what its field's declaration leaves, and layers that cannot be without it (pins, beams) go
    along. Raises `BadInput` when there is no such thing.
    """
    name_of(shot, thing_id)
    shot = _taken_over(shot, thing_id)
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


def duplicate(shot: Shot, thing_id: str) -> tuple[Shot, str]:
    """The shot with a thing once more, right before it where order counts, and the copy's id.

    The copy names what the first one names; what was measured is shared, for it does not change. Raises `BadInput` for what
    there can be only one of.
    """
    one = thing(shot, thing_id)
    if one in shot.parcels:
        raise BadInput("duplicate.parcel", "A parcel is shown once more by copying the layer that shows it.")
    if any(one is t and TREATMENTS.of(t).once for t in shot.plate):
        raise BadInput("duplicate.once", f"There can be only one of {one.name}: {TREATMENTS.of(one).once}.")
    prefix = re.sub(r"-?\d+$", "", thing_id) or "copy"
    made = fresh_id(shot, prefix)
    copy = one.model_copy(update={"id": made, "name": fresh_name(one.name, {t.name for t in shot.things()})}, deep=True)

    def doubled(items: list[Any]) -> list[Any]:
        return [new for item in items for new in ((copy, item) if item.id == thing_id else (item,))]

    update: dict[str, Any] = {name: doubled(getattr(shot, name)) for name in LISTS}
    update["parcels"] = [p.model_copy(update={"stack": doubled(p.stack)}) for p in shot.parcels]
    return _checked(shot.model_copy(update=update)), made


def move(shot: Shot, layer_id: str, before: str | None) -> Shot:
    """The shot with a layer elsewhere in its own list: nearer than the layer `before`, or the furthest of all."""

    def moved(stack: list[LayerBase]) -> list[LayerBase]:
        if all(one.id != layer_id for one in stack) or before == layer_id:
            return stack
        layer = next(one for one in stack if one.id == layer_id)
        rest = [one for one in stack if one.id != layer_id]
        if before is None:
            return [*rest, layer]
        at = next((k for k, one in enumerate(rest) if one.id == before), None)
        if at is None:
            raise BadInput("move.elsewhere", "A layer is moved within its own list; parcels take layers in by themselves.")
        return [*rest[:at], layer, *rest[at:]]

    shot.layer(layer_id)
    return _with_stacks(shot, moved)


def split(shot: Shot, layer_id: str, frame: int) -> tuple[Shot, str]:
    """The shot with a layer ending before a frame, and another one going on from there; the id of the second.

    Raises `BadInput` where that would leave nothing of one of them.
    """
    layer = shot.layer(layer_id)
    last = shot.footage.length - 1 if shot.footage else frame
    begins, ends = layer.begins or 0, last if layer.ends is None else layer.ends
    if not begins < frame <= ends:
        raise BadInput("split.edge", f"{layer.name} can be split between frames {begins} and {ends}: go there first.")
    doubled, made = duplicate(shot, layer_id)
    # The second lies in front of the first in the list, as everything new does; in time it comes after it.
    doubled = with_values(doubled, layer_id, {"ends": frame - 1, "fade_out": 0})
    return with_values(doubled, made, {"begins": frame, "fade_in": 0}), made


def shift(shot: Shot, layer_id: str, by: int) -> Shot:
    """The shot with a layer so many frames later: its beginning and end, its clip, and all its keys.

    It goes no further back than its first key, or its beginning, can.
    """
    layer = shot.layer(layer_id)
    data = layer.model_dump(mode="json")
    earliest = [key["frame"] for key in _keys_in(data)]
    earliest += [data["begins"]] if data["begins"] is not None else []
    by = max(by, -min(earliest, default=0))
    if not by:
        return shot
    for key in _keys_in(data):
        key["frame"] += by
    for name in ("begins", "ends", "starts"):
        if data.get(name) is not None:
            data[name] += by
    moved = LAYERS.of(layer).settings.model_validate(data, context={STORED: True})
    return _checked(_with_stacks(shot, lambda stack: [moved if one.id == layer_id else one for one in stack]))  # type: ignore[misc]


def _keys_in(data: Any) -> Iterator[dict[str, Any]]:
    """All keys of numbers in a thing's plain values, but for what rides on the footage or a motion: that moves with those."""
    if isinstance(data, dict) and data.get("rides", "own") not in ("own", "screen"):
        return
    if isinstance(data, list):
        for item in data:
            yield from _keys_in(item)
    elif isinstance(data, dict):
        if isinstance(data.get("keys"), list) and data["keys"] and "ease" in data["keys"][0]:
            yield from data["keys"]
            return
        for value in data.values():
            yield from _keys_in(value)


def into_parcel(shot: Shot, layer_id: str, parcel_id: str) -> Shot:
    """The shot with a layer in a parcel, in front of what is there."""
    layer = shot.layer(layer_id)
    if all(p.id != parcel_id for p in shot.parcels):
        raise BadInput("shot.gone", "This parcel is not in the shot any more.")
    rest = _with_stacks(shot, lambda stack: [one for one in stack if one.id != layer_id])
    parcels = [p.model_copy(update={"stack": [layer, *p.stack]}) if p.id == parcel_id else p for p in rest.parcels]
    return _checked(rest.model_copy(update={"parcels": parcels}))


def out_of_parcel(shot: Shot, layer_id: str) -> Shot:
    """The shot with a layer out of its parcel, in front of the first layer of the stack that shows it."""
    layer = shot.layer(layer_id)
    parcel = next((p for p in shot.parcels if any(one.id == layer_id for one in p.stack)), None)
    if parcel is None:
        raise BadInput("parcel.outside", f"{layer.name} lies in no parcel.")
    rest = _with_stacks(shot, lambda stack: [one for one in stack if one.id != layer_id])
    at = next((k for k, one in enumerate(rest.stack) if parcel.id in _shown_by(one)), 0)
    return _checked(rest.model_copy(update={"stack": [*rest.stack[:at], layer, *rest.stack[at:]]}))


def pack(shot: Shot, layer_id: str) -> tuple[Shot, str]:
    """The shot with a layer in a new parcel of its own, shown where the layer was, and the id of the layer that shows it."""
    layer = shot.layer(layer_id)
    parcel, shows = fresh_id(shot, "parcel"), fresh_id(shot, "layer")
    name = fresh_name("Parcel", {t.name for t in shot.things()})
    width, height = (shot.footage.width, shot.footage.height) if shot.footage else (1280, 720)
    new = LAYERS.get("parcel").settings.model_validate(
        {"id": shows, "name": name, "parcel": parcel, "width": width, "height": height, "x": width / 2, "y": height / 2}
    )
    rest = _with_stacks(shot, lambda stack: [new if one.id == layer_id else one for one in stack])  # type: ignore[misc]
    made = Parcel(id=parcel, name=name, stack=[layer])
    return _checked(rest.model_copy(update={"parcels": [*rest.parcels, made]})), shows


def replace_footage(shot: Shot, footage: Footage) -> Shot:
    """The shot on another clip.

    Places that were measured or set by hand belong to the old one: they are dropped.
    """
    if shot.footage is not None and shot.footage.asset == footage.asset:
        return shot
    if shot.footage is None and not shot.motions and not shot.plate:
        return shot.model_copy(update={"footage": footage})
    if shot.footage is not None:
        footage = footage.model_copy(update={"opacity": shot.footage.opacity, "ground": shot.footage.ground})
    kept: dict[str, Any] = {"footage": footage}
    for name in ("motions", "plate"):
        emptied = [(one, one.emptied(footage.frames)) for one in getattr(shot, name)]
        kept[name] = [one.model_copy(update=values) for one, values in emptied if values is not None]
    return _checked(shot.model_copy(update=kept))


def lay_room(shot: Shot, motion_id: str, room: Any) -> Shot:
    """The shot with the room of a motion lying otherwise in the creator's world."""
    shot.motion(motion_id)
    return with_values(shot, motion_id, {"room": room})


def with_motion(shot: Shot, motion: MotionBase) -> Shot:
    """The shot with a motion in the place of the one of its id."""
    return shot.model_copy(update={"motions": [motion if m.id == motion.id else m for m in shot.motions]})


def _checked(shot: Shot) -> Shot:
    """The same, checked as a whole. Raises `BadInput`."""
    return read_shot(shot.model_dump(mode="json"), stored=True)


def _with_stacks(shot: Shot, change: Callable[[list[LayerBase]], list[LayerBase]]) -> Shot:
    parcels = [p.model_copy(update={"stack": change(p.stack)}) for p in shot.parcels]
    return shot.model_copy(update={"stack": change(shot.stack), "parcels": parcels})


def _shown_by(layer: LayerBase) -> set[str]:
    """The parcels that a layer shows."""
    return {one.id for one in references(layer) if one.declared.to == "parcel"}


def _gone(shot: Shot, thing_id: str) -> tuple[set[str], list[Referring]]:
    """All that goes with a thing, and the references to it that stay behind, in the order of the document."""
    layers = {layer.id: layer for layer in shot.layers}
    motions = {motion.id for motion in shot.motions}
    gone, todo = set[str](), [thing_id]
    named = [one for one in shot.references() if one.declared.to not in ("asset", "measurement")]
    while todo:
        now = todo.pop()
        if now in gone:
            continue
        gone.add(now)
        holders = [next((owner.id for owner in one.owners if owner.id in layers or (owner.id in motions and not _is_item(one))),
                        None) for one in named if one.id == now and one.declared.left == GOES]  # fmt: skip
        todo += [holder for holder in holders if holder is not None]
        if now in layers:
            for parcel in _only_shown_by(shot, layers[now]):
                todo += [parcel, *(layer.id for layer in next(p.stack for p in shot.parcels if p.id == parcel))]
    # Parts of things have ids of their own, which may be those of other things.
    whole = {id(one) for one in shot.things()}
    return gone, [one for one in named if one.id in gone
                  and not any(owner.id in gone for owner in one.owners if id(owner) in whole)]  # fmt: skip


def _is_item(one: Referring) -> bool:
    """Whether it stands in a list, from which it can be taken."""
    return one.pointer.rpartition("/")[2].isdigit()


def _only_shown_by(shot: Shot, layer: LayerBase) -> list[str]:
    """The parcels that nothing else shows, and none of whose layers something outside needs as a matte."""
    out = []
    for parcel in (one.id for one in references(layer) if one.declared.owns):
        inside = {one.id for p in shot.parcels if p.id == parcel for one in p.stack}
        others = [one for one in shot.layers if one.id != layer.id and one.id not in inside]
        shown = any(parcel in _shown_by(one) for one in others)
        if not shown and not any(one.matte in inside for one in others):
            out.append(parcel)
    return out


def _taken_over(shot: Shot, thing_id: str) -> Shot:
    """The shot in which those that have something from a thing that goes hold it themselves."""
    given = thing(shot, thing_id)
    for one in list(shot.references()):
        if one.id == thing_id and one.declared.takes and one.owners[-1].id != thing_id:
            values = {name: getattr(given, name) for name in one.declared.takes if hasattr(given, name)}
            shot = with_values(shot, one.owners[-1].id, values)
    return shot


def _leave(data: Any, one: Referring) -> None:
    """Put into a field what its declaration leaves."""
    *way, last = [int(step) if step.isdigit() else step for step in one.pointer.split("/")[1:]]
    is_part = one.declared.left == PART_GOES
    if is_part:
        *way, last = way
    for step in way:
        data = data[step]
    if isinstance(last, int) and one.declared.left in (GOES, PART_GOES):
        del data[last]
    else:
        data[last] = None if is_part else one.declared.left
