"""Layers that are placed, turned and sized, and follow a motion or a perch."""

from __future__ import annotations

import numpy as np

from plonket.base.conventions import F64
from plonket.base.fields import Number, number, value_at
from plonket.base.homography import translation
from plonket.document.bases import LayerBase
from plonket.document.follow import Follow
from plonket.track.spaces import Spaces, seated_at


class PlacedLayer(LayerBase):
    """Where it sits and what it follows.

    `x`, `y` are where its anchor lies: in pixels of the reference frame of what it follows, or from the perch it sits on.
    It turns and grows about the anchor.
    """

    follow: Follow = Follow()
    x: Number = number(0.0, label="Place x", low=-32768, high=32768, step=0.1, unit="px", group="Place")
    y: Number = number(0.0, label="Place y", low=-32768, high=32768, step=0.1, unit="px", group="Place")
    turn: Number = number(0.0, label="Turn", low=-3600, high=3600, step=0.1, unit="°", group="Place", soft=(-180, 180))
    size: Number = number(100.0, label="Size", low=0.1, high=5000, step=0.1, unit="%", group="Place", soft=(1, 300))
    anchor_x: Number = number(50.0, label="Anchor x", low=-1000, high=1000, step=0.5, unit="%", group="Place", soft=(0, 100),
                              help="What it turns and grows about, of its width.")  # fmt: skip
    anchor_y: Number = number(50.0, label="Anchor y", low=-1000, high=1000, step=0.5, unit="%", group="Place", soft=(0, 100))


def frame_from_anchor(layer: PlacedLayer, spaces: Spaces, frame: float) -> F64:
    """The (3, 3) matrix from pixels about the layer's anchor to the frame's pixels, full resolution."""
    return seated_at(layer, spaces, frame)


def frame_from_own(layer: PlacedLayer, spaces: Spaces, frame: float, width: float, height: float) -> F64:
    """The (3, 3) matrix from the layer's own picture of that size to the frame's pixels."""
    ax, ay = value_at(layer.anchor_x, frame) / 100, value_at(layer.anchor_y, frame) / 100
    return np.asarray(frame_from_anchor(layer, spaces, frame) @ translation(-width * ax, -height * ay))
