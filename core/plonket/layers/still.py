"""A still with alpha that follows a motion."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.comp.blend import BLEND_NAMES, BlendName
from plonket.comp.picture import Picture
from plonket.comp.place import place_still
from plonket.comp.sources import Sources
from plonket.conventions import F64
from plonket.fields import Digest, Identifier, Model, Name, Number, choice, number, switch, value_at
from plonket.motion.following import Follow, carried


class StillLayer(Model):
    """A still picture: where it sits, what it follows, how it mixes.

    `x`, `y` are where its centre lies on the plate, in pixels of the follow's reference frame.
    """

    kind: Literal["still"] = "still"
    id: Identifier
    name: Name
    asset: Digest
    width: int
    height: int
    shown: bool = switch(True, label="Shown")
    follow: Follow = Follow()
    x: Number = number(0.0, label="Place x", low=-32768, high=32768, step=0.1, unit="px", group="Place")
    y: Number = number(0.0, label="Place y", low=-32768, high=32768, step=0.1, unit="px", group="Place")
    turn: Number = number(0.0, label="Turn", low=-3600, high=3600, step=0.1, unit="°", group="Place", soft=(-180, 180))
    size: Number = number(100.0, label="Size", low=0.1, high=5000, step=0.1, unit="%", group="Place", soft=(1, 300))
    opacity: Number = number(100.0, label="Opacity", low=0, high=100, step=1, unit="%", group="Mix")
    blend: BlendName = choice("normal", label="Blend", names=BLEND_NAMES, group="Mix",
                              help="How it mixes with what lies below.")  # fmt: skip


def frame_from_still(layer: StillLayer, matrices: F64 | None, frame: int) -> F64:
    """The (3, 3) matrix from the still's pixels to the frame's pixels, full resolution."""
    angle = np.radians(value_at(layer.turn, frame))
    scale = value_at(layer.size, frame) / 100
    c, s = np.cos(angle) * scale, np.sin(angle) * scale
    at = np.array([value_at(layer.x, frame), value_at(layer.y, frame)])
    place, linear = carried(layer.follow, matrices, frame, at)
    out = np.eye(3)
    out[:2, :2] = linear @ np.array([[c, -s], [s, c]])
    out[:2, 2] = place - out[:2, :2] @ np.array([layer.width / 2, layer.height / 2])
    return out


def draw(layer: StillLayer, sources: Sources, frame: int, size: tuple[int, int], scale: float) -> Picture:
    """The layer's picture at a frame, at `scale` of full resolution."""
    matrices = sources.motion_matrices(layer.follow)
    matrix = np.diag([scale, scale, 1.0]) @ frame_from_still(layer, matrices, frame)
    out = place_still(sources.still(layer.asset), matrix, size)
    opacity = np.clip(value_at(layer.opacity, frame) / 100, 0, 1)
    return out if opacity == 1 else Picture(rgba=out.rgba * np.float32(opacity), x=out.x, y=out.y)
