"""What the masks of a thing cover, in every frame, as a matte for files."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from plonket.base.errors import BadInput
from plonket.base.states import GIVEN, LOST
from plonket.document.bases import LayerBase, Mask, MaskBase
from plonket.document.kinds import LAYERS
from plonket.masks.combine import combined, space_of
from plonket.render.sources import ShotSources
from plonket.track.matte.matte_track import MatteTrack


def masks_as_matte(sources: ShotSources, masks: Sequence[Mask], layer: LayerBase | None) -> MatteTrack:
    """All masks of a thing together on every frame of the shot, where they lie over the footage.

    Parameters
    ----------
    layer : whose own pixels masks may be drawn in; None: the plate's.

    Raises
    ------
    BadInput
        Without footage.
    """
    footage = sources.shot.footage
    if footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet. Bring in a clip first.")
    size = (footage.width, footage.height)
    track = MatteTrack.empty(size, footage.length)
    clip_from_layer = None if layer is None else LAYERS.of(layer).clip_from_layer
    for frame in range(footage.length):
        own = clip_from_layer(layer, sources, frame) if clip_from_layer and layer is not None else None

        def into(mask: MaskBase, at: int = frame, own: np.ndarray | None = own) -> np.ndarray | None:
            return space_of(mask, sources.spaces, at, own)  # type: ignore[arg-type]

        cover = combined(masks, sources.moment(frame), size, into, sources.picked)
        alpha = None if cover is None else np.round(255 * np.clip(cover, 0, 1)).astype(np.uint8)
        there = alpha is not None and bool(alpha.any())
        track = track.with_frame(frame, alpha if there else None, "masks", float(there), GIVEN if there else LOST)
    return track
