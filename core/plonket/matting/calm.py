"""A matte's noise averaged away where its picture has no edge."""

from __future__ import annotations

import cv2
import numba
import numpy as np

from plonket.base.conventions import F32, FAST

STRIP = 40
"""Rows that are worked through together: sums over squares go on from row to row."""


def calmed(matte: F32, guide: F32, radius_px: float) -> F32:
    """A matte with its noise averaged away where the picture has no edge, and left alone where it has one.

    A guided filter (K. He, J. Sun and X. Tang, 2013, doi:10.1109/TPAMI.2012.213) with the picture's brightness and the matte
    itself as guides: what is told as an edge is weighed against the noise of the calmest places.

    Parameters
    ----------
    matte, guide : (h, w), about 0 to 1. radius_px : squares of twice as much and one a side are averaged.
    """
    r = max(1, round(radius_px))
    matte = np.ascontiguousarray(matte, np.float32)
    if min(matte.shape) <= r:
        return matte
    out, total = np.zeros_like(matte), np.zeros_like(matte)
    means = np.empty((4, *matte.shape), np.float32)
    smooth, misfit = np.empty_like(matte), np.empty_like(matte)
    for seen in (cv2.GaussianBlur(guide, (5, 5), 0.6), cv2.GaussianBlur(matte, (7, 7), 1.0)):
        g = np.ascontiguousarray(seen, np.float32)
        _moments(g, matte, r, means)
        # The noise of the calmest places, judged from a part of the picture.
        spread = (means[2, ::3, ::3] - means[0, ::3, ::3] ** 2).ravel()
        eps = max(4 * float(np.partition(spread, len(spread) // 5)[len(spread) // 5]), 1e-6)
        _fitted(means, g, matte, r, np.float32(eps), smooth, misfit)
        # The better fit of the two counts more.
        _weighed(smooth, misfit, r, out, total)
    return np.asarray(np.clip(out / total, 0, 1), np.float32)


@numba.njit(cache=True, inline="always")  # type: ignore[misc]
def _within(k: int, n: int) -> int:
    """An index beyond the edge, mirrored about the outermost one."""
    k = -k if k < 0 else k
    return 2 * n - 2 - k if k >= n else k


@numba.njit(cache=True, inline="always")  # type: ignore[misc]
def _taken(y: int, first: int, step: int, r: int, h: int) -> tuple[int, np.float32]:
    """The row that is taken into sums over 2 r + 1 rows, and with which sign.

    The first row of a strip takes in all its neighbours; each further one gives the last of them away and takes the next.
    """
    if y == first:
        return _within(y + step - r, h), np.float32(1.0)
    if step == 0:
        return _within(y - r - 1, h), np.float32(-1.0)
    return _within(y + r, h), np.float32(1.0)


@numba.njit(cache=True, fastmath=FAST, inline="always")  # type: ignore[misc]
def _across(column: F32, r: int, out: F32) -> None:
    """Sums over 2 r + 1 neighbours of sums of columns, padded by r at both ends, which this fills by mirroring."""
    w = out.shape[0]
    for k in range(r):
        column[k] = column[2 * r - k]
        column[r + w + k] = column[r + w - 2 - k]
    for x in range(w):
        out[x] = column[x]
    for k in range(1, 2 * r + 1):
        for x in range(w):
            out[x] += column[x + k]


@numba.njit(parallel=True, cache=True, fastmath=FAST)  # type: ignore[misc]
def _moments(g: F32, p: F32, r: int, out: F32) -> None:
    """Means of the guide, the matte, the guide's square and the product of both over squares: (4, h, w)."""
    h, w = g.shape
    share = np.float32(1.0) / np.float32((2 * r + 1) ** 2)
    for strip in numba.prange((h + STRIP - 1) // STRIP):
        y0, y1 = strip * STRIP, min(h, (strip + 1) * STRIP)
        column = np.zeros((4, w + 2 * r), np.float32)
        sums = np.empty((4, w), np.float32)
        for y in range(y0, y1):
            for step in range(2 if y > y0 else 2 * r + 1):
                row, sign = _taken(y, y0, step, r, h)
                for x in range(w):
                    a, b = g[row, x], p[row, x]
                    column[0, x + r] += sign * a
                    column[1, x + r] += sign * b
                    column[2, x + r] += sign * a * a
                    column[3, x + r] += sign * a * b
            for c in range(4):
                _across(column[c], r, sums[c])
            for c in range(4):
                for x in range(w):
                    out[c, y, x] = sums[c, x] * share


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _fitted(means: F32, g: F32, p: F32, r: int, eps: np.float32, smooth: F32, misfit: F32) -> None:
    """What the lines that explain the matte by the guide make of it, and how far that is from the matte, squared."""
    h, w = g.shape
    share = np.float32(1.0) / np.float32((2 * r + 1) ** 2)
    for strip in numba.prange((h + STRIP - 1) // STRIP):
        y0, y1 = strip * STRIP, min(h, (strip + 1) * STRIP)
        column = np.zeros((2, w + 2 * r), np.float32)
        sums = np.empty((2, w), np.float32)
        for y in range(y0, y1):
            for step in range(2 if y > y0 else 2 * r + 1):
                row, sign = _taken(y, y0, step, r, h)
                for x in range(w):
                    mg, mp = means[0, row, x], means[1, row, x]
                    # Differences of sums may come out below nought by rounding.
                    slope = (means[3, row, x] - mg * mp) / (max(means[2, row, x] - mg * mg, np.float32(0.0)) + eps)
                    column[0, x + r] += sign * slope
                    column[1, x + r] += sign * (mp - slope * mg)
            for c in range(2):
                _across(column[c], r, sums[c])
            for x in range(w):
                told = (sums[0, x] * g[y, x] + sums[1, x]) * share
                smooth[y, x] = told
                misfit[y, x] = (told - p[y, x]) ** 2


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _weighed(smooth: F32, misfit: F32, r: int, out: F32, total: F32) -> None:
    """Adds a fit, weighed by how well it fits round each pixel."""
    h, w = smooth.shape
    share = np.float32(1.0) / np.float32((2 * r + 1) ** 2)
    for strip in numba.prange((h + STRIP - 1) // STRIP):
        y0, y1 = strip * STRIP, min(h, (strip + 1) * STRIP)
        column = np.zeros(w + 2 * r, np.float32)
        sums = np.empty(w, np.float32)
        for y in range(y0, y1):
            # Sums of squares must not go below nought by rounding: taken afresh for each row.
            column[:] = 0
            for step in range(2 * r + 1):
                row = _within(y + step - r, h)
                for x in range(w):
                    column[x + r] += misfit[row, x]
            _across(column, r, sums)
            for x in range(w):
                fit = np.float32(1.0) / (sums[x] * share + np.float32(1e-5))
                out[y, x] += fit * smooth[y, x]
                total[y, x] += fit
