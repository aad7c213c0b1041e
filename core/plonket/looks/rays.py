"""Rays and radial blur: light drawn out from a point, or round it."""

from __future__ import annotations

from typing import Literal

import numba
import numpy as np

from plonket.base.colour import LUMA, linear_of
from plonket.base.conventions import F32, FAST
from plonket.base.fields import Number, choice, colour, number, value_at
from plonket.document.bases import PlacedLook
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext, lighted


class Rays(PlacedLook):
    """Blur away from a point or round it, or rays that shine out of it."""

    kind: Literal["rays"] = "rays"
    does: Literal["rays", "zoom", "spin"] = choice(
        "rays", label="As", group="Rays",
        names={"rays": "Rays of light", "zoom": "Blur from the point", "spin": "Blur round the point"})  # fmt: skip
    x: Number = number(640.0, label="Point x", low=-32768, high=32768, step=0.5, unit="px", group="Rays")
    y: Number = number(360.0, label="Point y", low=-32768, high=32768, step=0.5, unit="px", group="Rays")
    length: Number = number(30.0, label="Length", low=0, high=100, step=0.5, unit="%", group="Rays",
                            help="Of the way from the point; round it, of 90 degrees.")  # fmt: skip
    threshold: Number = number(60.0, label="From", low=0, high=100, step=1, unit="%", group="Rays",
                               help="What is darker on screen than this throws no rays.")  # fmt: skip
    strength: Number = number(100.0, label="Strength", low=0, high=2000, step=1, unit="%", group="Rays", soft=(0, 400))
    tint: str = colour("#ffffff", label="Colour", group="Rays")


def reach(look: Rays, frame: int) -> float:
    """How far it spreads, in pixels of the clip."""
    return 40 * value_at(look.length, frame)


def run(rgba: F32, look: Rays, context: LookContext) -> F32:
    """The picture blurred along the rays, or with rays added that hide nothing."""
    f = context.frame
    length = float(np.clip(value_at(look.length, f) / 100, 0, 0.999))
    at = context.spot(look, value_at(look.x, f), value_at(look.y, f))
    if at is None or length <= 0:
        return rgba
    out = np.empty_like(rgba)
    if look.does == "spin":
        _spun(np.ascontiguousarray(rgba), float(at[0]), float(at[1]), length * np.pi / 2, out)
        return out
    if look.does == "zoom":
        _drawn_out(np.ascontiguousarray(rgba), float(at[0]), float(at[1]), length, 0.0, out)
        return out
    level = (value_at(look.threshold, f) / 100) ** 2.2
    bright = (rgba[..., :3] @ LUMA)[..., None]
    over = rgba * np.clip((bright - level) / np.maximum(bright, 1e-4), 0, 1)
    _drawn_out(np.ascontiguousarray(over), float(at[0]), float(at[1]), length, 1.5, out)
    shine = out[..., :3] * linear_of(look.tint).astype(np.float32) * np.float32(2 * value_at(look.strength, f) / 100)
    return lighted(rgba[..., :3] + shine, rgba)


@numba.njit(cache=True, fastmath=FAST, inline="always", error_model="numpy")  # type: ignore[misc]
def _add(source: F32, x: float, y: float, share: float, total: F32) -> None:
    """Add a bilinear sample at array indices; beyond the edge, the edge."""
    h, w = source.shape[:2]
    x, y = min(max(x, 0.0), w - 1.0), min(max(y, 0.0), h - 1.0)
    x0, y0 = max(min(int(x), w - 2), 0), max(min(int(y), h - 2), 0)
    x1, y1 = min(x0 + 1, w - 1), min(y0 + 1, h - 1)
    u, v = x - x0, y - y0
    for c in range(4):
        top = source[y0, x0, c] * (1 - u) + source[y0, x1, c] * u
        low = source[y1, x0, c] * (1 - u) + source[y1, x1, c] * u
        total[c] += share * (top * (1 - v) + low * v)


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _drawn_out(source: F32, px: float, py: float, length: float, falls: float, out: F32) -> None:
    """Means along the way towards the point; `falls` makes what is farther away count less."""
    for j in numba.prange(source.shape[0]):
        total = np.empty(4, np.float32)
        for i in range(source.shape[1]):
            dx, dy = px - (i + 0.5), py - (j + 0.5)
            steps = int(min(max(np.sqrt(dx * dx + dy * dy) * length / 1.5, 1.0), 96.0)) + 1
            total[:] = 0
            weight = 0.0
            for k in range(steps):
                t = k / max(steps - 1, 1)
                w = (1 - t) ** falls if falls > 0 else 1.0
                # Blur reaches to both sides; rays come only from the point's side.
                go = t * length if falls > 0 else (t - 0.5) * length
                _add(source, i + dx * go, j + dy * go, w, total)
                weight += w
            for c in range(4):
                out[j, i, c] = total[c] / weight


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _spun(source: F32, px: float, py: float, angle: float, out: F32) -> None:
    for j in numba.prange(source.shape[0]):
        total = np.empty(4, np.float32)
        for i in range(source.shape[1]):
            dx, dy = i + 0.5 - px, j + 0.5 - py
            steps = int(min(max(np.sqrt(dx * dx + dy * dy) * angle / 1.5, 1.0), 96.0)) + 1
            total[:] = 0
            for k in range(steps):
                a = (k / max(steps - 1, 1) - 0.5) * angle if steps > 1 else 0.0
                c, s = np.cos(a), np.sin(a)
                _add(source, px + c * dx - s * dy - 0.5, py + s * dx + c * dy - 0.5, 1.0, total)
            for c4 in range(4):
                out[j, i, c4] = total[c4] / steps


LOOKS.add(LookEntry(
    kind="rays", order=90, label="Rays", settings=Rays, run=run, reach=reach,
    help="Light or blur drawn out from a point.",
))  # fmt: skip
