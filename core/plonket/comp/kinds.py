"""The registry of layer kinds."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from plonket.comp.looked import looked
from plonket.comp.picture import CLEAR, Picture
from plonket.comp.sources import Sources
from plonket.conventions import F32, F64
from plonket.layers import beam, pin, still
from plonket.layers.common import LayerModel
from plonket.masks.combine import combined, space_of
from plonket.motion.following import shifted
from plonket.registry import Entry, Registry

LAYERS: Registry[Callable[[Any, Any, int, tuple[int, int], F64], Picture]] = Registry("layer")
LAYERS.add(
    Entry(
        kind="still",
        label="Placed",
        help="A picture or clip that stays where you put it, or follows a motion.",
        settings=still.StillLayer,
        run=still.draw,
    )
)
LAYERS.add(
    Entry(
        kind="pin",
        label="Pinned",
        help="A picture or clip pinned by its corners to a surface.",
        settings=pin.PinLayer,
        run=pin.draw,
    )
)
LAYERS.add(
    Entry(
        kind="beam",
        label="Beam",
        help="A line or curve between points or perches, with things hung on it.",
        settings=beam.BeamLayer,
        run=beam.draw,
    )
)

OWN_SPACE: dict[str, Callable[[Any, Sources, float], F64 | None]] = {"still": still.lies, "pin": pin.lies}
"""From a layer's own pixels to the clip's, for the kinds that have any."""


def drawn(
    layer: LayerModel, sources: Sources, frame: int, size: tuple[int, int], view: F64, scale: float = 1.0,
    behind: F32 | None = None,
) -> Picture:  # fmt: skip
    """A layer's picture cut by its masks, with its looks.

    `view` leads from the clip's pixels to the picture's, `scale` is the picture's of full resolution, `behind` what the
    layer is laid over.
    """
    kind: str = layer.kind  # type: ignore[attr-defined]
    picture = LAYERS.get(kind).run(layer, sources, frame, size, view)
    if not (layer.masks or layer.looks) or not picture.rgba.size:
        return picture
    lies = OWN_SPACE.get(kind)
    own = lies(layer, sources, frame) if lies else None
    h, w = picture.rgba.shape[:2]
    window = shifted(-picture.x, -picture.y)

    def into(mask: Any) -> F64 | None:
        space = space_of(mask, sources.spaces, frame, own)
        return None if space is None else np.asarray(view @ space)

    def inside(mask: Any) -> F64 | None:
        matrix = into(mask)
        return None if matrix is None else np.asarray(window @ matrix)

    cover = combined(layer.masks, frame, (w, h), inside)
    if cover is not None:
        if not cover.any():
            return CLEAR
        picture = Picture(rgba=picture.rgba * cover[..., None], x=picture.x, y=picture.y)
    return looked(layer.looks, picture, frame, size, scale, into, behind)
