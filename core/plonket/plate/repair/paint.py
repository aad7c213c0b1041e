"""The paint desk: strokes laid over a frame, in linear light."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, Protocol

import cv2
import numba
import numpy as np

from plonket.base.colour import decode, encode, linear_of
from plonket.base.conventions import F32, F64, FAST
from plonket.image.membrane import rim_values, stretch
from plonket.plate.repair.texture import fill_texture

RIM_SPREAD = 0.35
"""How far from the rim's middle the light (its logarithm) may be that a heal stroke takes over."""


class StrokeLike(Protocol):
    """What is known of a stroke: see `plonket.plate.clean.Stroke`."""

    tool: Literal["clone", "heal", "paint", "restore", "suggest"]
    path: list[tuple[float, float]]
    size: float
    hard: float
    flow: float
    dx: float
    dy: float
    colour: str
    seed: int


def painted(light: F32, strokes: Sequence[StrokeLike], untouched: F32 | None = None) -> F32:
    """A frame with strokes laid over it, one after the other.

    Parameters
    ----------
    light : linear (h, w, 3). untouched : what *restore* brings back; without it, `light`.
    """
    out = light.copy()
    for stroke in strokes:
        _lay(out, stroke, light if untouched is None else untouched)
    return out


def _lay(out: F32, stroke: StrokeLike, untouched: F32) -> None:
    h, w = out.shape[:2]
    path = np.asarray(stroke.path, np.float64)
    radius = stroke.size / 2
    room = radius + (24 if stroke.tool == "heal" else 2)
    x0, y0 = max(0, int(path[:, 0].min() - room)), max(0, int(path[:, 1].min() - room))
    x1, y1 = min(w, int(path[:, 0].max() + room) + 2), min(h, int(path[:, 1].max() + room) + 2)
    if x1 <= x0 or y1 <= y0:
        return
    cover = np.zeros((y1 - y0, x1 - x0), np.float32)
    _brushed(cover, path - [x0, y0], radius, min(stroke.hard / 100, 0.999))
    cover *= np.float32(stroke.flow / 100)
    window = out[y0:y1, x0:x1]
    match stroke.tool:
        case "paint":
            new = np.broadcast_to(linear_of(stroke.colour).astype(np.float32), window.shape)
        case "restore":
            new = untouched[y0:y1, x0:x1]
        case "suggest":
            hole = np.zeros((h, w), np.bool_)
            hole[y0:y1, x0:x1] = cover > 0.02
            coded = (encode(np.clip(out, 0, 1)) * 255).astype(np.float32)
            filled = np.clip(fill_texture(coded, hole, seed=stroke.seed), 0, 255)
            new = decode(filled[y0:y1, x0:x1] / 255).astype(np.float32)
        case _:
            new, there = _moved(out, x0, y0, cover.shape, stroke.dx, stroke.dy)
            cover *= there
            if stroke.tool == "heal":
                new = _healed(new, window, cover)
    window += cover[..., None] * (new - window)


def _moved(out: F32, x0: int, y0: int, shape: tuple[int, int], dx: float, dy: float) -> tuple[F32, F32]:
    """The picture as it is dx, dy away, and (h, w) where there is any: whole pixels, so that nothing softens."""
    h, w = out.shape[:2]
    ys, xs = np.arange(shape[0]) + y0 + round(dy), np.arange(shape[1]) + x0 + round(dx)
    there = ((ys >= 0) & (ys < h))[:, None] & ((xs >= 0) & (xs < w))[None]
    return out[np.clip(ys, 0, h - 1)[:, None], np.clip(xs, 0, w - 1)[None]].copy(), there.astype(np.float32)


def _healed(new: F32, window: F32, cover: F32) -> F32:
    """The taken picture in the light of the place: what differs along the rim is spread over the stroke."""
    inside = cover > 0.02
    if inside.all() or not inside.any():
        return new
    ratio = np.log((window + 0.004) / (np.maximum(new, 0) + 0.004)).astype(np.float32)
    # What still stands at the stroke's edge is to go too: only light that fits most of the rim is taken over.
    rim = (cv2.dilate(inside.astype(np.uint8), np.ones((9, 9), np.uint8)) > 0) & ~inside
    middle = np.median(ratio[rim], axis=0) if rim.any() else np.zeros(3, np.float32)
    ratio = np.clip(ratio, middle - RIM_SPREAD, middle + RIM_SPREAD).astype(np.float32)
    off = stretch(rim_values(ratio, ~inside, 8.0), inside)
    return ((new + 0.004) * np.exp(np.clip(off, -3, 3)) - 0.004).astype(np.float32)


@numba.njit(cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _brushed(out: F32, path: F64, radius: float, hard: float) -> None:
    """Coverage of a stroke: full up to `hard` of its radius, gone at the radius, never steeper than a pixel."""
    h, w = out.shape
    edge = max(radius * (1 - hard), 1.0)
    n = max(path.shape[0] - 1, 1)
    for k in range(n):
        ax, ay = path[k, 0], path[k, 1]
        last = min(k + 1, path.shape[0] - 1)
        ux, uy = path[last, 0] - ax, path[last, 1] - ay
        square = ux * ux + uy * uy
        x0, x1 = max(0, int(min(ax, ax + ux) - radius) - 1), min(w, int(max(ax, ax + ux) + radius) + 2)
        y0, y1 = max(0, int(min(ay, ay + uy) - radius) - 1), min(h, int(max(ay, ay + uy) + radius) + 2)
        for y in range(y0, y1):
            for x in range(x0, x1):
                dx, dy = x + 0.5 - ax, y + 0.5 - ay
                t = min(max((dx * ux + dy * uy) / square, 0.0), 1.0) if square > 1e-12 else 0.0
                ex, ey = dx - t * ux, dy - t * uy
                u = min(max((radius + 0.5 - np.sqrt(ex * ex + ey * ey)) / edge, 0.0), 1.0)
                if edge > 1:
                    u = u * u * (3 - 2 * u)
                out[y, x] = max(out[y, x], u)

