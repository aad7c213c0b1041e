"""A still or clip that is placed, turned and sized, and follows a motion or a perch."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.base.conventions import F64
from plonket.document.kinds import LAYERS, LayerEntry
from plonket.image.picture import Picture
from plonket.layers.common import PictureLayer, box_of, exposed, mirrored, shown_frames
from plonket.layers.placed import PlacedLayer, frame_from_own
from plonket.layers.sources import Sources
from plonket.track.spaces import Spaces


class StillLayer(PlacedLayer, PictureLayer):
    """A picture: where it sits, what it follows, how it mixes."""

    kind: Literal["still"] = "still"


def frame_from_still(layer: StillLayer, spaces: Spaces, frame: float) -> F64:
    """The (3, 3) matrix from the picture's pixels to the frame's pixels, full resolution."""
    return np.asarray(frame_from_own(layer, spaces, frame, layer.width, layer.height) @ mirrored(layer))


def clip_from_layer(layer: StillLayer, sources: Sources, frame: float) -> F64:
    """The same, as masks that ride on the picture ask for it."""
    return frame_from_still(layer, sources.spaces, frame)


def draw(layer: StillLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """The layer's picture at a frame; `view` leads from the clip's pixels to the picture's."""

    def at(when: float) -> F64:
        return np.asarray(view @ frame_from_still(layer, sources.spaces, when))

    return exposed(layer, sources, frame, size, at, box_of(layer))


LAYERS.add(LayerEntry(
    kind="still", order=10, label="Placed", settings=StillLayer, run=draw, clip_from_layer=clip_from_layer,
    shows=shown_frames,
    help="A picture or clip that stays where you put it, or follows a motion.",
    traits=frozenset({"picture", "keyed", "placed", "follows", "slips", "matched"}), handles="box",
    groups=("Place", "Mix", "Cut"),
    card={"": "Still"},
    says={"": "Placed still, {width} × {height}"},
))  # fmt: skip
