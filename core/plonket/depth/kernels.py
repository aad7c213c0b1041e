"""Matching a picture with others through slanted planes: the compiled part.

A pixel's hypothesis is a plane, as its inverse depth and how that changes across and down the picture: under a pinhole a flat
surface's inverse depth is linear in the pixels. Hypotheses come from neighbours, and the one is kept whose window looks most
alike in the other pictures (after M. Bleyer, C. Rhemann and C. Rother, "PatchMatch Stereo", 2011, and
S. Galliani, K. Lasinger and K. Schindler, 2015, doi:10.1109/ICCV.2015.106).
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, FAST

SIDE, STEP = 5, 2
"""Samples across a window, and pixels between them."""
COUNT = SIDE * SIDE
ALIKE = np.float32(1 / 12.0)
"""One over the codes by which a sample of the window counts less."""
LEAST_SPREAD = np.float32(2.0)
"""Variance of a window in squared codes under which there is nothing to match."""
WELL = np.float32(0.04)
"""Cost below which a plane is good as it is."""
MARGIN = np.float32(0.06)
"""Cost above what is wanted at which the first views are bad enough for the others not to be asked."""
OUT = np.float32(1.2)
"""Cost of a view that does not see a pixel."""


@numba.njit(cache=True, fastmath=FAST, error_model="numpy", inline="always")  # type: ignore[misc]
def _weights(grey: F32, x: int, y: int, weights: F32, values: F32) -> None:
    """How much each sample of a pixel's window counts, and what it shows."""
    h, w = grey.shape
    own = grey[y, x]
    k = 0
    half = SIDE // 2 * STEP
    for j in range(SIDE):
        v = min(max(y - half + j * STEP, 0), h - 1)
        for i in range(SIDE):
            u = min(max(x - half + i * STEP, 0), w - 1)
            values[k] = grey[v, u]
            weights[k] = np.exp(-abs(grey[v, u] - own) * ALIKE)
            k += 1


@numba.njit(cache=True, fastmath=FAST, error_model="numpy", inline="always")  # type: ignore[misc]
def _view_cost(
    other: F32, a: F32, b: F32, x: int, y: int, d: np.float32, gx: np.float32, gy: np.float32, weights: F32, values: F32
) -> np.float32:
    """0 for alike, up to 2: one less the weighted correlation of a window and what another picture shows there."""
    h, w = other.shape
    half = np.float32(SIDE // 2 * STEP)
    step = np.float32(STEP)
    # The plane's own homography: where the window's first corner goes, and how that changes across and down.
    d0 = d - half * (gx + gy)
    px, py = np.float32(x) - half, np.float32(y) - half
    a00, a01, a10, a11, a20, a21 = a[0, 0], a[0, 1], a[1, 0], a[1, 1], a[2, 0], a[2, 1]
    b0, b1, b2 = b[0], b[1], b[2]
    u0, v0, z0 = (a00 * px + a01 * py + a[0, 2] + d0 * b0, a10 * px + a11 * py + a[1, 2] + d0 * b1,
                  a20 * px + a21 * py + a[2, 2] + d0 * b2)  # fmt: skip
    ux, vx, zx = (a00 + gx * b0) * step, (a10 + gx * b1) * step, (a20 + gx * b2) * step
    uy, vy, zy = (a01 + gy * b0) * step, (a11 + gy * b1) * step, (a21 + gy * b2) * step
    last = np.float32(SIDE - 1)
    for j in range(2):
        for i in range(2):
            fi, fj = np.float32(i) * last, np.float32(j) * last
            z = z0 + fi * zx + fj * zy
            if z < np.float32(1e-6):
                return OUT
            u, v = (u0 + fi * ux + fj * uy) / z, (v0 + fi * vx + fj * vy) / z
            if not (u >= 0 and v >= 0 and u < w - 1 and v < h - 1):
                return OUT
    total = mean_a = mean_b = aa = bb = ab = np.float32(0)
    k = 0
    for j in range(SIDE):
        fj = np.float32(j)
        nu, nv, nz = u0 + fj * uy, v0 + fj * vy, z0 + fj * zy
        for _ in range(SIDE):
            inv = np.float32(1) / nz
            u, v = nu * inv, nv * inv
            iu, iv = int(u), int(v)
            fu, fv = u - np.float32(iu), v - np.float32(iv)
            top = other[iv, iu] + fu * (other[iv, iu + 1] - other[iv, iu])
            low = other[iv + 1, iu] + fu * (other[iv + 1, iu + 1] - other[iv + 1, iu])
            seen = top + fv * (low - top)
            wk = weights[k]
            own = values[k]
            total += wk
            mean_a += wk * own
            mean_b += wk * seen
            aa += wk * own * own
            bb += wk * seen * seen
            ab += wk * own * seen
            nu += ux
            nv += vx
            nz += zx
            k += 1
    if total < np.float32(2):
        return OUT
    inv = np.float32(1) / total
    mean_a *= inv
    mean_b *= inv
    va, vb = aa * inv - mean_a * mean_a, bb * inv - mean_b * mean_b
    cov = ab * inv - mean_a * mean_b
    # Where there is nothing to see, everything is alike a little.
    return np.float32(1) - cov / np.sqrt((max(va, np.float32(0)) + LEAST_SPREAD) * (max(vb, np.float32(0)) + LEAST_SPREAD))


@numba.njit(cache=True, fastmath=FAST, error_model="numpy", inline="always")  # type: ignore[misc]
def _cost(
    others: F32, a: F32, b: F32, x: int, y: int, d: np.float32, gx: np.float32, gy: np.float32, weights: F32, values: F32,
    each: F32, best: int, limit: np.float32,
) -> np.float32:  # fmt: skip
    """The mean of the `best` lowest costs among the views: what hides a place hides it on one side. The first two look from
    both sides; where neither is near `limit`, the others are not asked, and it costs as much as what is out of sight."""
    n = others.shape[0]
    for v in range(n):
        if v == 2 and min(each[0], each[1]) >= limit + MARGIN:
            return OUT
        each[v] = _view_cost(others[v], a[v, y], b[v, y], x, y, d, gx, gy, weights, values)
    total = np.float32(0)
    for _ in range(best):
        least = 0
        for v in range(1, n):
            if each[v] < each[least]:
                least = v
        total += each[least]
        each[least] = np.float32(9)
    return total / np.float32(best)


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def rate(grey: F32, others: F32, a: F32, b: F32, plane: F32, cost: F32, best: int) -> None:
    """The cost (h, w) of the planes (h, w, 3) as they are."""
    h, w = grey.shape
    for y in numba.prange(h):
        weights, values, each = np.empty(COUNT, np.float32), np.empty(COUNT, np.float32), np.empty(others.shape[0], np.float32)
        for x in range(w):
            _weights(grey, x, y, weights, values)
            cost[y, x] = _cost(others, a, b, x, y, plane[y, x, 0], plane[y, x, 1], plane[y, x, 2], weights, values, each, best,
                               np.float32(9))


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def improve(
    grey: F32, others: F32, a: F32, b: F32, plane: F32, cost: F32, colour: int, offsets: NDArray[np.int32], low: float,
    high: float, best: int, same: float,
) -> None:  # fmt: skip
    """Take better planes over from neighbours, at every other pixel.

    Parameters
    ----------
    grey : (h, w) codes. others : (v, h', w') codes. a : (v, h, 3, 3), b : (v, h, 3): pixel (x, y, 1) of row y with inverse
        depth d goes to a (x, y, 1) + d b. plane : (h, w, 3), cost : (h, w): changed in place. colour : 0 or 1, which pixels of
        the chessboard. offsets : (k, 2) of neighbours. low, high : inverse depths. best : views that count. same : share of an
        inverse depth by which another one is not worth a look.
    """
    h, w = grey.shape
    for y in numba.prange(h):
        weights, values, each = np.empty(COUNT, np.float32), np.empty(COUNT, np.float32), np.empty(others.shape[0], np.float32)
        for x in range((y + colour) % 2, w, 2):
            if cost[y, x] < WELL:
                continue
            _weights(grey, x, y, weights, values)
            d, gx, gy, c = plane[y, x, 0], plane[y, x, 1], plane[y, x, 2], cost[y, x]
            for k in range(offsets.shape[0]):
                u, v = x + offsets[k, 0], y + offsets[k, 1]
                if u < 0 or v < 0 or u >= w or v >= h:
                    continue
                tx, ty = plane[v, u, 1], plane[v, u, 2]
                td = plane[v, u, 0] - tx * np.float32(offsets[k, 0]) - ty * np.float32(offsets[k, 1])
                if td < low or td > high or abs(td - d) < np.float32(same) * d:
                    continue
                tc = _cost(others, a, b, x, y, td, tx, ty, weights, values, each, best, c)
                if tc < c:
                    d, gx, gy, c = td, tx, ty, tc
            plane[y, x, 0], plane[y, x, 1], plane[y, x, 2], cost[y, x] = d, gx, gy, c
