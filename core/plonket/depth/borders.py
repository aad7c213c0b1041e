"""The borders between what is near and what lies behind it, put where the picture's own edges are.

Windows that are matched reach over a border, and what has a pattern wins over what has none: near things come out too large,
most of all where the pattern behind runs along the camera's way. So what lies on both sides of each jump is continued over a
band along it. A pixel there is given to the side that, at its depth, this one pixel looks more like in the other views; what
that does not tell follows its neighbours, but not over edges of the picture: least squares with two labels, as in
L. Grady's random walks (2006, doi:10.1109/TPAMI.2006.233), told by both what is seen and what lies farther off.
"""

from __future__ import annotations

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, FAST, U8

JUMP = np.float32(1.05)
"""Times, from which on neighbouring inverse depths are two surfaces'."""
SAME = np.float32(0.03)
"""Share of an inverse depth up to which a neighbour goes on with its surface."""
APART = 1.04
"""Times by which both sides must differ for a pixel to be given to one of them."""
BAND = 1 / 40
"""Of the picture's width, on either side of a jump."""
INWARD_PX = 5
"""So far from the jump a surface is asked how it goes on: beside it, it may be mixed."""
SLOPE_PX = 3
MOST_CODES = np.float32(16.0)
"""What looks so different looks altogether different."""
UNSURE = 0.02
"""Share of `MOST_CODES` that says nothing."""
OWN, OWN_FAR, OWN_POWER = 0.003, 0.3, 4
"""How much counts on which side a pixel was: at the jump, at the band's end, and by which power it rises between them."""
EDGE_CODES = 3.5
"""Codes from pixel to pixel over which what is known of one says less of the other, by e."""
LEAST_BOND = 1e-4
SETTLED, OVER = 60, 1.6
"""Rounds of over-relaxation, and by how much."""
BLEND = 2.5
"""How fast one side's depth goes over into the other's where neither is sure: there is no border where none is seen."""
VIEWS = 2
"""That count, the most alike: what hides a place hides it on one side."""
TIDY = 5
WAYS = np.array([(1, 0), (-1, 0), (0, 1), (0, -1)], np.int32)


def at_edges(inverse: F32, colour: U8, greys: list[F32], turn: F32, shift: F32, passes: int) -> F32:
    """Inverse depths (h, w), 0 unknown, with their jumps where the picture's edges are.

    Parameters
    ----------
    colour : (h, w, 3) codes. greys : (h, w) codes of this picture, then of the others. turn, shift : how this picture lies to
        each of the others, (v, h, 3, 3) and (v, h, 3); see `Lies`. passes : each begins where the one before ended.
    """
    soft = np.asarray(cv2.GaussianBlur(colour, (0, 0), 0.7), np.float32)
    # A pixel by itself is noisy.
    calm = [np.asarray(cv2.GaussianBlur(one, (0, 0), 0.6), np.float32) for one in greys]
    others = np.ascontiguousarray(np.stack(calm[1:]))
    out = inverse
    for _ in range(passes):
        out = _once(out, soft, calm[0], others, turn, shift)
        middle = cv2.medianBlur(out, TIDY)
        out = np.where((out > 0) & (middle > 0), middle, out).astype(np.float32)
    return out


def _once(inverse: F32, soft: F32, grey: F32, others: F32, turn: F32, shift: F32) -> F32:
    ways = np.empty(inverse.shape, np.int8)
    _find_jumps(inverse, ways)
    jumps = ways >= 0
    if not jumps.any():
        return inverse
    away, nearest = cv2.distanceTransformWithLabels((~jumps).astype(np.uint8), cv2.DIST_L2, 5, labelType=cv2.DIST_LABEL_PIXEL)
    at = np.zeros((int(nearest.max()) + 1, 2), np.int32)
    at[nearest[jumps]] = np.argwhere(jumps)
    reach = max(3.0, BAND * inverse.shape[1])
    band = np.argwhere(away <= reach).astype(np.int32)
    sides = _both_sides(inverse, ways, band, at[nearest[away <= reach]])
    told = (sides[:, 1] > 0) & (sides[:, 0] > APART * sides[:, 1])
    band, sides = np.ascontiguousarray(band[told]), np.ascontiguousarray(sides[told])
    if not len(band):
        return inverse
    looks = np.empty((len(band), 2), np.float32)
    _compare(grey, others, turn, shift, band, sides, VIEWS, looks)
    ys, xs = band.T
    own = inverse[ys, xs]
    side = np.where(np.abs(own - sides[:, 0]) < np.abs(own - sides[:, 1]), 1, -1).astype(np.float32)
    side[own <= 0] = 0
    better = (looks[:, 1] - looks[:, 0]) / MOST_CODES
    trust = np.maximum(np.abs(better) - UNSURE, 0)
    held = OWN + OWN_FAR * (away[ys, xs] / reach) ** OWN_POWER
    weight = np.asarray(trust + held, np.float32)
    wanted = np.asarray((trust * np.sign(better) + held * side) / weight, np.float32)
    near = _settled(soft, band, wanted, weight)
    share = np.clip(0.5 + BLEND * near, 0, 1)
    new = sides[:, 1] + (sides[:, 0] - sides[:, 1]) * share
    # As far as a pixel stays on its side it keeps its own depth.
    kept = np.where(side > 0, share, 1 - share) * (side * near > 0)
    new += kept * (own - np.where(side > 0, sides[:, 0], sides[:, 1]))
    out = inverse.copy()
    out[ys, xs] = np.where(own > 0, new, 0)
    return out


def _settled(soft: F32, band: NDArray[np.int32], wanted: F32, weight: F32) -> F32:
    """(n,) from -1, behind, to 1, in front, for the pixels of a band."""
    h, w = soft.shape[:2]
    number = np.full((h, w), -1, np.int32)
    number[band[:, 0], band[:, 1]] = np.arange(len(band), dtype=np.int32)
    across = np.exp(-np.abs(np.diff(soft, axis=1)).max(axis=2) / EDGE_CODES) + LEAST_BOND
    down = np.exp(-np.abs(np.diff(soft, axis=0)).max(axis=2) / EDGE_CODES) + LEAST_BOND
    bonds = (np.ascontiguousarray(across, np.float32), np.ascontiguousarray(down, np.float32))
    odd = (band.sum(axis=1) % 2).astype(bool)
    out = wanted.copy()
    halves = [np.flatnonzero(~odd), np.flatnonzero(odd)]
    for _ in range(SETTLED):
        for half in halves:
            _relax(out, wanted, weight, band, number, *bonds, half, np.float32(OVER))
    return out


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _relax(
    x: F32, wanted: F32, weight: F32, band: NDArray[np.int32], number: NDArray[np.int32], across: F32, down: F32,
    half: NDArray[np.int64], over: np.float32,
) -> None:  # fmt: skip
    h, w = number.shape
    for n in numba.prange(half.shape[0]):
        k = half[n]
        i, j = band[k, 1], band[k, 0]
        top, total = weight[k] * wanted[k], weight[k]
        if i > 0 and number[j, i - 1] >= 0:
            top += across[j, i - 1] * x[number[j, i - 1]]
            total += across[j, i - 1]
        if i < w - 1 and number[j, i + 1] >= 0:
            top += across[j, i] * x[number[j, i + 1]]
            total += across[j, i]
        if j > 0 and number[j - 1, i] >= 0:
            top += down[j - 1, i] * x[number[j - 1, i]]
            total += down[j - 1, i]
        if j < h - 1 and number[j + 1, i] >= 0:
            top += down[j, i] * x[number[j + 1, i]]
            total += down[j, i]
        x[k] += over * (top / total - x[k])


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _find_jumps(inverse: F32, out: NDArray[np.int8]) -> None:
    """For a pixel in front of one beside it (or of the next but one, where that is unknown), the number of its way; else -1."""
    h, w = inverse.shape
    for y in numba.prange(h):
        for x in range(w):
            out[y, x] = -1
            own, most = inverse[y, x], JUMP
            if own <= 0:
                continue
            for k in range(4):
                for far in range(1, 3):
                    u, v = x + WAYS[k, 0] * far, y + WAYS[k, 1] * far
                    if 0 <= u < w and 0 <= v < h and inverse[v, u] > 0:
                        if own / inverse[v, u] > most:
                            most = own / inverse[v, u]
                            out[y, x] = k
                        break


@numba.njit(cache=True, fastmath=FAST, error_model="numpy", inline="always")  # type: ignore[misc]
def _slope(inverse: F32, x: int, y: int, dx: int, dy: int) -> np.float32:
    """Change a pixel along the surface that a pixel lies on."""
    h, w = inverse.shape
    own, total, count = inverse[y, x], np.float32(0), 0
    for way in (-SLOPE_PX, SLOPE_PX):
        u, v = x + dx * way, y + dy * way
        if 0 <= u < w and 0 <= v < h and inverse[v, u] > 0 and abs(inverse[v, u] - own) < SAME * own:
            total += (inverse[v, u] - own) / np.float32(way)
            count += 1
    return total / np.float32(count) if count else np.float32(0)


@numba.njit(cache=True, fastmath=FAST, error_model="numpy", inline="always")  # type: ignore[misc]
def _continued(inverse: F32, x: int, y: int, dx: int, dy: int, i: int, j: int) -> np.float32:
    """The inverse depth at (i, j) of the surface that goes on from (x, y) along a way, as its plane farther in has it."""
    h, w = inverse.shape
    for _ in range(INWARD_PX):
        u, v = x + dx, y + dy
        if not (0 <= u < w and 0 <= v < h and inverse[v, u] > 0) or abs(inverse[v, u] - inverse[y, x]) > SAME * inverse[y, x]:
            break
        x, y = u, v
    return inverse[y, x] + _slope(inverse, x, y, 1, 0) * np.float32(i - x) + _slope(inverse, x, y, 0, 1) * np.float32(j - y)


def _both_sides(inverse: F32, ways: NDArray[np.int8], band: NDArray[np.int32], jump: NDArray[np.int32]) -> F32:
    """(n, 2) inverse depths of what is in front and behind at pixels (n, 2), by the jumps (n, 2) nearest to them; 0 unknown."""
    out = np.zeros((len(band), 2), np.float32)
    _continue_both(inverse, ways, band, np.ascontiguousarray(jump), out)
    return out


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _continue_both(inverse: F32, ways: NDArray[np.int8], band: NDArray[np.int32], jump: NDArray[np.int32], out: F32) -> None:
    h, w = inverse.shape
    for n in numba.prange(band.shape[0]):
        j, i = band[n, 0], band[n, 1]
        y, x = jump[n, 0], jump[n, 1]
        dx, dy = WAYS[ways[y, x], 0], WAYS[ways[y, x], 1]
        u, v = x + dx, y + dy
        if inverse[v, u] <= 0:
            u, v = u + dx, v + dy
        if not (0 <= u < w and 0 <= v < h):
            continue
        out[n, 0] = _continued(inverse, x, y, -dx, -dy, i, j)
        out[n, 1] = _continued(inverse, u, v, dx, dy, i, j)


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _compare(
    grey: F32, others: F32, turn: F32, shift: F32, band: NDArray[np.int32], depths: F32, views: int, out: F32
) -> None:
    """(n, k) codes by which pixels (n, 2) differ from what the most alike `views` show where inverse depths (n, k) put them."""
    h, w = others.shape[1:]
    count = others.shape[0]
    for n in numba.prange(band.shape[0]):
        each = np.empty(count, np.float32)
        y, x = band[n, 0], band[n, 1]
        for k in range(depths.shape[1]):
            d = depths[n, k]
            for m in range(count):
                a, b = turn[m, y], shift[m, y]
                each[m] = MOST_CODES
                z = a[2, 0] * x + a[2, 1] * y + a[2, 2] + d * b[2]
                if z <= np.float32(1e-6):
                    continue
                u = (a[0, 0] * x + a[0, 1] * y + a[0, 2] + d * b[0]) / z
                v = (a[1, 0] * x + a[1, 1] * y + a[1, 2] + d * b[1]) / z
                if not (u >= 0 and v >= 0 and u < w - 1 and v < h - 1):
                    continue
                iu, iv = int(u), int(v)
                fu, fv = u - np.float32(iu), v - np.float32(iv)
                top = others[m, iv, iu] + fu * (others[m, iv, iu + 1] - others[m, iv, iu])
                low = others[m, iv + 1, iu] + fu * (others[m, iv + 1, iu + 1] - others[m, iv + 1, iu])
                each[m] = min(abs(top + fv * (low - top) - grey[y, x]), MOST_CODES)
            each.sort()
            total = np.float32(0)
            for m in range(min(views, count)):
                total += each[m]
            out[n, k] = total / np.float32(min(views, count))
