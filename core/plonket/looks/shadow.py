"""Drop shadow: the layer's own matte laid on the ground, softer the farther it falls."""

from __future__ import annotations

from typing import Literal

import cv2
import numpy as np

from plonket.base.colour import linear_of
from plonket.base.conventions import F32, F64
from plonket.base.fields import Number, choice, colour, number, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext
from plonket.looks.haze import by_distance


class Shadow(LookBase):
    """What stands there keeps light off the ground, or off a wall behind it."""

    kind: Literal["shadow"] = "shadow"
    falls: Literal["ground", "wall"] = choice(
        "ground", label="Falls on", group="Shadow", names={"ground": "The ground", "wall": "A wall behind"})  # fmt: skip
    length: Number = number(60.0, label="Length", low=-400, high=400, step=1, unit="%", group="Shadow", soft=(-150, 150),
                            help="Of its height; below nought it falls towards the camera.")  # fmt: skip
    lean: Number = number(35.0, label="Leans", low=-85, high=85, step=1, unit="°", group="Shadow")
    narrows: Number = number(12.0, label="Narrows", low=-100, high=95, step=1, unit="%", group="Shadow",
                             help="How much narrower its far end looks.")  # fmt: skip
    foot: Number = number(0.0, label="Foot", low=-500, high=500, step=0.5, unit="px", group="Shadow", soft=(-60, 60),
                          help="Where it stands, below the lowest part of it.")  # fmt: skip
    away_x: Number = number(24.0, label="To the side", low=-4000, high=4000, step=1, unit="px", group="Wall", soft=(-150, 150))
    away_y: Number = number(16.0, label="Down", low=-4000, high=4000, step=1, unit="px", group="Wall", soft=(-150, 150))
    near: Number = number(1.5, label="Soft near", low=0, high=200, step=0.1, unit="px", group="Softness", soft=(0, 20))
    far: Number = number(14.0, label="Soft far", low=0, high=400, step=0.5, unit="px", group="Softness", soft=(0, 60))
    strength: Number = number(55.0, label="Strength", low=0, high=100, step=1, unit="%", group="Softness")
    colour: str = colour("#05070a", label="Colour", group="Softness")


def reach(look: Shadow, frame: int) -> float:
    """How far it falls, in pixels of the clip: the window must hold it."""
    return 6000.0


def run(rgba: F32, look: Shadow, context: LookContext) -> F32:
    """The picture over its own shadow."""
    f = context.frame
    rows = np.flatnonzero((rgba[..., 3] > 0.02).any(axis=1))
    columns = np.flatnonzero((rgba[..., 3] > 0.02).any(axis=0))
    if not len(rows):
        return rgba
    box = (float(columns[0]), float(rows[0]), float(columns[-1] + 1), float(rows[-1] + 1))
    h, w = rgba.shape[:2]
    matrix, away = _ground(box, look, context, h) if look.falls == "ground" else _wall(look, context)
    shift = np.array([[1.0, 0, -0.5], [0, 1.0, -0.5], [0, 0, 1.0]])
    cast = cv2.warpPerspective(rgba[..., 3], shift @ matrix @ np.linalg.inv(shift), (w, h), flags=cv2.INTER_LINEAR)
    near, far = value_at(look.near, f) * context.scale, max(value_at(look.far, f) * context.scale, 0.05)
    soft = np.clip((near + (far - near) * away) / max(near, far), 0, 1).astype(np.float32)
    cast = by_distance(cast[..., None], soft, max(near, far))[..., 0] if max(near, far) > 0.1 else cast
    # Where light comes in from all round, a shadow is weaker far from what throws it.
    share = cast * np.float32(value_at(look.strength, f) / 100) * (1 - 0.45 * away).astype(np.float32)
    dark = np.dstack([*(np.full_like(share, c) for c in linear_of(look.colour)), np.ones_like(share)]) * share[..., None]
    return np.asarray(rgba + dark * (1 - rgba[..., 3:]), np.float32)


def _ground(
    box: tuple[float, float, float, float], look: Shadow, context: LookContext, height: int
) -> tuple[F64, F64]:
    """(3, 3) from the picture to its shadow, and how far from the foot each pixel of the shadow is, 0 to 1."""
    f = context.frame
    left, top, right, bottom = box
    foot = bottom + value_at(look.foot, f) * context.scale
    tall = max(foot - top, 1.0)
    length = value_at(look.length, f) / 100 * tall
    lean = np.tan(np.radians(value_at(look.lean, f))) * abs(length)
    narrow = 1 - value_at(look.narrows, f) / 100
    middle, half = (left + right) / 2, max((right - left) / 2, 0.5)
    source = np.array([[left, top], [right, top], [right, foot], [left, foot]], np.float32)
    ends = np.array([[middle + lean - half * narrow, foot - length], [middle + lean + half * narrow, foot - length],
                     [right, foot], [left, foot]], np.float32)  # fmt: skip
    matrix = cv2.getPerspectiveTransform(source, ends)
    y = np.arange(height)[:, None] + 0.5
    away = np.clip((foot - y) / length if abs(length) > 1e-6 else np.zeros_like(y), 0, 1)
    return np.asarray(matrix, np.float64), away


def _wall(look: Shadow, context: LookContext) -> tuple[F64, F64]:
    f = context.frame
    dx, dy = (value_at(n, f) * context.scale for n in (look.away_x, look.away_y))
    return np.array([[1.0, 0, dx], [0, 1.0, dy], [0, 0, 1.0]]), np.full((1, 1), 0.5)


LOOKS.add(LookEntry(
    kind="shadow", order=170, label="Drop shadow", settings=Shadow, run=run, reach=reach,
    help="Its own shadow on the ground or a wall.",
))  # fmt: skip
