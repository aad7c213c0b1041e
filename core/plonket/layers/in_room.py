"""Things of a solved room among each other: flat ones hidden by what is nearer, and in the order of their distance."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from plonket.base.conventions import F64
from plonket.document.bases import LayerBase
from plonket.document.follow import Follow
from plonket.document.kinds import LAYERS
from plonket.image.picture import Picture
from plonket.layers.hidden import hidden_flat, surface_of
from plonket.layers.solid import solids, spot_inverse_depth
from plonket.layers.sources import Sources
from plonket.layers.surfaces import share_before


def hidden_in_room(
    picture: Picture, layer: LayerBase, sources: Sources, frame: int, size: tuple[int, int], view: F64
) -> Picture:
    """The picture of a flat layer, less what stands before it in its room: what was filmed, models and forms. Other layers are
    as they were: models see to it themselves."""
    follow = _flat_on_spot(layer, sources)
    if follow is None or not picture.rgba.size or LAYERS.of(layer).hides_itself(layer):
        return picture
    picture = hidden_flat(picture, sources, follow.target, frame, size, view, flat=follow.perspective)
    seat = sources.seat(follow.target)
    corners = [c for _, c in solids(sources, follow.target or "", frame)]
    if seat is None or not corners or not picture.rgba.size:
        return picture
    found = surface_of(*seat, frame, flat=follow.perspective)
    if found is None:
        return picture
    share = share_before(seat[0], frame, size, view, corners, *found)
    h, w = picture.rgba.shape[:2]
    x, y = picture.x, picture.y
    part = np.zeros((h, w), np.float32)
    x0, y0, x1, y1 = max(x, 0), max(y, 0), min(x + w, size[0]), min(y + h, size[1])
    if x1 > x0 and y1 > y0:
        part[y0 - y : y1 - y, x0 - x : x1 - x] = share[y0:y1, x0:x1]
    return Picture(rgba=picture.rgba * (1 - part[..., None]), x=x, y=y) if part.any() else picture


def by_distance(layers: Sequence[LayerBase], sources: Sources, frame: int) -> list[LayerBase]:
    """Layers, nearest first, in which those that stand in one room and follow each other lie by their distance there: flat ones
    before the models, which are hidden by those and hide them pixel by pixel. What is not to be hidden keeps its place."""
    out: list[LayerBase] = []
    run: list[LayerBase] = []
    room: object = None
    for layer in layers:
        here = _room_of(layer, sources)
        if run and here is not room:
            out += _sorted(run, sources, frame)
            run = []
        if here is None:
            out.append(layer)
        else:
            run.append(layer)
        room = here
    return out + _sorted(run, sources, frame)


def _sorted(run: list[LayerBase], sources: Sources, frame: int) -> list[LayerBase]:
    if len(run) < 2:
        return run
    models = [one for one in run if _is(one, "filmed")]
    flat = [one for one in run if not _is(one, "filmed")]
    near = {one.id: spot_inverse_depth(sources, _follow(one).target, frame) or 0.0 for one in flat}
    return [*sorted(flat, key=lambda one: -near[one.id]), *models]


def _room_of(layer: LayerBase, sources: Sources) -> object:
    """What is the same for all that stands in one room and may be sorted; None: it does not."""
    follow = _follow(layer)
    if not follow.hidden or not (_is(layer, "filmed") or _flat_on_spot(layer, sources)):
        return None
    seat = sources.seat(follow.target)
    return None if seat is None else seat[0].track


def _flat_on_spot(layer: LayerBase, sources: Sources) -> Follow | None:
    """How a layer follows that is flat and has a place in a room, and is hidden by what is nearer."""
    follow = _follow(layer)
    if not _is(layer, "placed") or not follow.hidden or not sources.on_spot(follow.target):
        return None
    return follow


def _is(layer: LayerBase, trait: str) -> bool:
    return trait in LAYERS.of(layer).traits


def _follow(layer: LayerBase) -> Follow:
    found = getattr(layer, "follow", None)
    return found if isinstance(found, Follow) else Follow(hidden=False)
