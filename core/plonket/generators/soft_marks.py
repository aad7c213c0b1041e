"""Short soft lines and round clouds, added to a picture; what is nearer hides them."""

from __future__ import annotations

import numba
import numpy as np

from plonket.base.conventions import F32, F64, FAST
from plonket.generators.common import HIDES

LEAST_RADIUS = 0.6
"""Radius in pixels below which a line gets fainter instead of thinner."""


def draw_streaks(
    out: F32, start: F64, end: F64, radius: F64, light: F32, away: F64 | None = None, hidden: F32 | None = None
) -> None:
    """Add short soft lines to a picture.

    A line holds the light of one round spot of its radius, however long it is. away : (n,) how far before the camera each
    is; what of it lies beyond something of nearness `hidden` (h, w) is not seen.
    """
    near = np.zeros(0) if away is None or hidden is None else 1 / np.maximum(away, 1e-9)
    hidden = np.zeros((0, 0), np.float32) if hidden is None else hidden
    reach = np.maximum(radius, LEAST_RADIUS) * 2 + 1
    tops = np.minimum(start[:, 1], end[:, 1]) - reach
    bottoms = np.maximum(start[:, 1], end[:, 1]) + reach
    _draw_streaks(out, start, end, radius, light.astype(np.float32), tops, bottoms, near, hidden)


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _draw_streaks(
    out: F32, start: F64, end: F64, radius: F64, light: F32, tops: F64, bottoms: F64, near: F64, hidden: F32
) -> None:
    height, width = out.shape[:2]
    bands = 32
    for band in numba.prange(bands):
        y0, y1 = height * band // bands, height * (band + 1) // bands
        for k in range(start.shape[0]):
            if bottoms[k] < y0 or tops[k] >= y1:
                continue
            r = max(radius[k], LEAST_RADIUS)
            faint = (radius[k] / r) ** 2
            ax, ay = start[k, 0], start[k, 1]
            dx, dy = end[k, 0] - ax, end[k, 1] - ay
            square = dx * dx + dy * dy
            share = faint / (1 + np.sqrt(square) / (2 * r))
            reach = 2 * r
            left = max(int(min(ax, end[k, 0]) - reach), 0)
            right = min(int(max(ax, end[k, 0]) + reach) + 1, width)
            for j in range(max(int(tops[k]), y0), min(int(bottoms[k]) + 1, y1)):
                for i in range(left, right):
                    px, py = i + 0.5 - ax, j + 0.5 - ay
                    t = (px * dx + py * dy) / square if square > 1e-9 else 0.0
                    t = min(max(t, 0.0), 1.0)
                    ex, ey = px - t * dx, py - t * dy
                    q = (ex * ex + ey * ey) / (r * r)
                    if q < 4 and not (near.size > 0 and hidden[j, i] * HIDES > near[k]):
                        w = np.exp(-2 * q) * share
                        for c in range(3):
                            out[j, i, c] += light[k, c] * w


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def draw_puffs(out: F32, at: F64, radius: F64, depth: F64, away: F64, round_: F64, hidden: F32) -> None:
    """Add soft round clouds to (h, w): how deep one looks through them, `depth` (n,) in the middle of each.

    away, round_ : (n,) how far before the camera they are and how large, in metres: what of one lies beyond something of
    nearness `hidden` (h, w) is not seen; none where that is empty.
    """
    height, width = out.shape
    bands = 32
    for band in numba.prange(bands):
        y0, y1 = height * band // bands, height * (band + 1) // bands
        for k in range(at.shape[0]):
            r = max(radius[k], 1.0)
            top, bottom = max(int(at[k, 1] - r), y0), min(int(at[k, 1] + r) + 1, y1)
            left, right = max(int(at[k, 0] - r), 0), min(int(at[k, 0] + r) + 1, width)
            for j in range(top, bottom):
                for i in range(left, right):
                    px, py = i + 0.5 - at[k, 0], j + 0.5 - at[k, 1]
                    q = 1 - (px * px + py * py) / (r * r)
                    if q > 0:
                        share = 1.0
                        if hidden.size > 0 and hidden[j, i] > 0:
                            # A cloud goes into what it meets: its nearer half is still seen.
                            share = (1 / hidden[j, i] - away[k] + round_[k]) / (2 * round_[k])
                            share = min(max(share, 0.0), 1.0)
                        out[j, i] += depth[k] * q * q * share

