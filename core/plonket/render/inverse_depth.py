"""How far away what a layer shows is, for looks that go by distance."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

from plonket.base.conventions import F64
from plonket.document.bases import LayerBase
from plonket.layers.solid import inverse_depth_of, spot_inverse_depth
from plonket.layers.sources import Sources
from plonket.layers.standing import StandingLayer
from plonket.looks.common import InverseDepth


def inverse_depth_for(
    layer: LayerBase | None, sources: Sources, frame: int, size: tuple[int, int], view: F64
) -> Callable[[], InverseDepth | None]:
    """Distances of the room, and of a layer that stands in it, worked out once when they are asked for.

    `layer` None: the whole picture. What follows no room shows the first solved one.
    """

    @cache
    def inverse_depth() -> InverseDepth | None:
        target = getattr(getattr(layer, "follow", None), "target", None)
        stands = target is not None and sources.seat(target) is not None
        room = target if stands else sources.room
        found = inverse_depth_of(sources, room, frame, size, view) if room is not None else None
        if found is None:
            return None
        flat = stands and not isinstance(layer, StandingLayer)
        return InverseDepth(room=found, own=spot_inverse_depth(sources, target, frame) if flat else None)

    return inverse_depth
