"""Closed curved outlines: what regions and masks are drawn with.

An outline is a ring of points joined by cubic Bezier curves. A point's two handles are offsets
from it; (0, 0) makes a corner. Outlines may be keyed: all keys of one outline have equally many
points, and points and handles go in straight lines from key to key.
"""

from __future__ import annotations

from typing import Annotated

import numba
import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from plonket.base.conventions import F32, F64, U8
from plonket.base.fields import UNSEEN, Settings

FINER = 16
FLATNESS_PX = 0.1
"""How far the polygon that stands for a curve may lie from it."""


class OutlinePoint(Settings):
    """A point of an outline, in pixels, with the offsets of its two handles (0: a corner).

    `feather` is how far from the outline a mask ends there: outside it, or inside when it is negative.
    """

    x: float
    y: float
    in_x: float = 0.0
    in_y: float = 0.0
    out_x: float = 0.0
    out_y: float = 0.0
    feather: float = Field(default=0.0, ge=-2000, le=2000)


class OutlineKey(Settings):
    """The outline's shape at a frame; `followed` where it was found from drawn ones, with its `trust`: of the frames from the
    key before to the key after, how much of its inside looks as it was drawn, at the least."""

    frame: int = Field(ge=0)
    points: list[OutlinePoint] = Field(min_length=3, max_length=400)
    followed: bool = False
    trust: Annotated[float | None, UNSEEN] = Field(default=None, ge=0, le=1)


class Outline(Settings):
    """A closed outline with one shape, or one that changes from key to key."""

    keys: list[OutlineKey] = Field(min_length=1)

    @model_validator(mode="after")
    def _matching(self) -> Outline:
        frames = [k.frame for k in self.keys]
        if frames != sorted(set(frames)):
            raise ValueError("an outline's keys must be in order of frames, one per frame")
        if len({len(k.points) for k in self.keys}) != 1:
            raise ValueError("all keys of an outline need equally many points")
        return self


def polygon_outline(xy: F64, frame: int = 0) -> Outline:
    """An outline with straight sides through (n, 2) pixels."""
    points = [OutlinePoint(x=float(x), y=float(y)) for x, y in np.asarray(xy, np.float64)]
    return Outline(keys=[OutlineKey(frame=frame, points=points)])


def control_points(outline: Outline, frame: float) -> F64:
    """The outline's points at a frame: (n, 7) x, y, in_x, in_y, out_x, out_y, feather; held before and after the keys."""
    shapes = np.array([[[p.x, p.y, p.in_x, p.in_y, p.out_x, p.out_y, p.feather] for p in k.points] for k in outline.keys])
    frames = np.array([k.frame for k in outline.keys], np.float64)
    at = float(np.clip(frame, frames[0], frames[-1]))
    k = int(np.clip(np.searchsorted(frames, at, side="right") - 1, 0, len(frames) - 1))
    if k == len(frames) - 1:
        return np.asarray(shapes[k])
    u = (at - frames[k]) / (frames[k + 1] - frames[k])
    return np.asarray(shapes[k] * (1 - u) + shapes[k + 1] * u)


def flatten(points: F64) -> F64:
    """The closed polygon (m, 2) in pixels that stands for an outline's (n, 7) control points."""
    return np.asarray(flatten_feathered(points)[:, :2])


def flatten_feathered(points: F64, flatness_px: float = FLATNESS_PX) -> F64:
    """The same with the feather at every corner of the polygon: (m, 3) x, y, feather."""
    pieces = []
    for a, b in zip(points, np.roll(points, -1, axis=0), strict=True):
        p0, p1, p2, p3 = a[:2], a[:2] + a[4:6], b[:2] + b[2:4], b[:2]
        # A cubic's distance from its chord is bounded by its second differences.
        bend = max(np.hypot(*(p0 - 2 * p1 + p2)), np.hypot(*(p1 - 2 * p2 + p3)))
        steps = 1 if bend < 1e-9 else int(np.clip(np.ceil(np.sqrt(0.75 * bend / flatness_px)), 2, 256))
        t = np.arange(steps)[:, None] / steps
        s = 1 - t
        at = s**3 * p0 + 3 * s * s * t * p1 + 3 * s * t * t * p2 + t**3 * p3
        pieces.append(np.hstack([at, s * a[6] + t * b[6]]))
    return np.concatenate(pieces)


def carry(xy: F64, b_from_a: F64) -> F64:
    """Pixels (n, 2) through a (3, 3) matrix; points at or behind the horizon become NaN."""
    out = np.hstack([xy, np.ones((len(xy), 1))]) @ b_from_a.T
    w = np.where(out[:, 2:] > 1e-9, out[:, 2:], np.nan)
    return np.asarray(out[:, :2] / w)


def fill(polygon: F64, size: tuple[int, int], scale: float = 1.0) -> U8:
    """Coverage of a polygon (m, 2) in pixels on a picture of `size` (width, height): 8-bit (h, w), anti-aliased.

    `scale` is the picture's scale of full resolution.
    """
    out = np.zeros((size[1], size[0]), np.uint8)
    if len(polygon) < 3 or not np.isfinite(polygon).all():
        return out
    at = np.clip(polygon * scale, -1e5, 1e5)
    x0, y0 = (max(0, int(np.floor(v)) - 1) for v in at.min(axis=0))
    x1, y1 = (min(size[k], int(np.ceil(at[:, k].max())) + 1) for k in (0, 1))
    if x1 <= x0 or y1 <= y0:
        return out
    cover = np.zeros((y1 - y0, x1 - x0), np.float32)
    _covered(at - [x0, y0], cover)
    out[y0:y1, x0:x1] = np.clip(cover * 255 + 0.5, 0, 255).astype(np.uint8)
    return out


def inside(polygon: F64, size: tuple[int, int]) -> NDArray[np.bool_]:
    """Pixels (h, w) whose centres lie inside a polygon (m, 2), by the even-odd rule."""
    out = np.zeros((size[1], size[0]), np.bool_)
    _centres(np.asarray(polygon, np.float64), out)
    return out


@numba.njit(cache=True, inline="always")  # type: ignore[misc]
def _crossings(polygon: F64, v: float, into: F64) -> int:
    """Where a horizontal line meets a polygon's sides; how many there are."""
    n, count = polygon.shape[0], 0
    for k in range(n):
        j = k + 1 if k + 1 < n else 0
        ay, by = polygon[k, 1], polygon[j, 1]
        if (ay <= v) != (by <= v):
            into[count] = polygon[k, 0] + (v - ay) / (by - ay) * (polygon[j, 0] - polygon[k, 0])
            count += 1
    return count


@numba.njit(cache=True)  # type: ignore[misc]
def _centres(polygon: F64, out: NDArray[np.bool_]) -> None:
    h, w = out.shape
    buffer = np.empty(polygon.shape[0], np.float64)
    for y in range(h):
        count = _crossings(polygon, y + 0.5, buffer)
        found = np.sort(buffer[:count])
        for k in range(0, count - 1, 2):
            first = max(0, int(np.ceil(found[k] - 0.5)))
            last = min(w - 1, int(np.ceil(found[k + 1] - 0.5)) - 1)
            for x in range(first, last + 1):
                out[y, x] = True


@numba.njit(cache=True)  # type: ignore[misc]
def _covered(polygon: F64, out: F32) -> None:
    """Coverage by area: exact along every one of `FINER` lines a pixel."""
    h, w = out.shape
    buffer = np.empty(polygon.shape[0], np.float64)
    for y in range(h):
        for part in range(FINER):
            count = _crossings(polygon, y + (part + 0.5) / FINER, buffer)
            found = np.sort(buffer[:count])
            for k in range(0, count - 1, 2):
                a, b = max(found[k], 0.0), min(found[k + 1], float(w))
                if b <= a:
                    continue
                first, last = int(a), min(int(b), w - 1)
                if first == last:
                    out[y, first] += (b - a) / FINER
                    continue
                out[y, first] += (first + 1 - a) / FINER
                out[y, last] += (b - last) / FINER
                for x in range(first + 1, last):
                    out[y, x] += 1.0 / FINER


__all__ = [
    "Outline", "OutlineKey", "OutlinePoint", "carry", "control_points", "fill", "flatten", "flatten_feathered",
    "inside", "polygon_outline",
]  # fmt: skip
