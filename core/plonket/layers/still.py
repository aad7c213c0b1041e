"""A still or clip that is placed, turned and sized, and follows a motion or a perch."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.comp.picture import CLEAR, Picture
from plonket.comp.place import place_still
from plonket.comp.sources import Sources
from plonket.conventions import F64
from plonket.fields import Number, number, value_at
from plonket.layers.common import PictureLayer, averaged, clip_frame, faded, instants
from plonket.motion.following import Follow, shifted
from plonket.motion.spaces import Spaces, seated
from plonket.outline import carry


class StillLayer(PictureLayer):
    """A picture: where it sits, what it follows, how it mixes.

    `x`, `y` are where its centre lies: in pixels of the reference frame of what it follows, or from
    the perch it sits on.
    """

    kind: Literal["still"] = "still"
    follow: Follow = Follow()
    x: Number = number(0.0, label="Place x", low=-32768, high=32768, step=0.1, unit="px", group="Place")
    y: Number = number(0.0, label="Place y", low=-32768, high=32768, step=0.1, unit="px", group="Place")
    turn: Number = number(0.0, label="Turn", low=-3600, high=3600, step=0.1, unit="°", group="Place", soft=(-180, 180))
    size: Number = number(100.0, label="Size", low=0.1, high=5000, step=0.1, unit="%", group="Place", soft=(1, 300))


def frame_from_still(layer: StillLayer, spaces: Spaces, frame: float) -> F64:
    """The (3, 3) matrix from the picture's pixels to the frame's pixels, full resolution."""
    at = np.array([value_at(layer.x, frame), value_at(layer.y, frame)])
    seat = seated(at, layer.turn, layer.size, frame)
    return np.asarray(spaces.placed(layer.follow, frame, at) @ seat @ shifted(-layer.width / 2, -layer.height / 2))


def lies(layer: StillLayer, sources: Sources, frame: float) -> F64:
    """The same, as masks that ride on the picture ask for it."""
    return frame_from_still(layer, sources.spaces, frame)


def box_of(layer: PictureLayer) -> F64:
    """(4, 2) corners of the layer's own picture, clockwise from top left."""
    w, h = layer.width, layer.height
    return np.array([[0, 0], [w, 0], [w, h], [0, h]], np.float64)


def moved_px(box: F64, before: F64, after: F64) -> float:
    """How far the fastest corner goes from one matrix to another, in pixels."""
    d = carry(box, after) - carry(box, before)
    return float(np.nan_to_num(np.hypot(d[:, 0], d[:, 1]), nan=0.0).max())


def draw(layer: StillLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """The layer's picture at a frame; `view` leads from the clip's pixels to the picture's."""
    k = clip_frame(layer, frame, sources.length(layer.asset))
    if k is None:
        return CLEAR
    source = sources.element(layer.asset, k, layer.key)

    def at(when: float) -> F64:
        return np.asarray(view @ frame_from_still(layer, sources.spaces, when))

    speed = 0.0
    if layer.shutter > 0:
        speed = moved_px(box_of(layer), at(max(frame - 0.5, 0.0)), at(frame + 0.5))
    pictures = [place_still(source, at(frame + u), size) for u in instants(layer.shutter, speed)]
    return faded(averaged(pictures), layer, frame)
