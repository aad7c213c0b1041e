"""The membrane: the smoothest surface over a hole that meets its rim."""

from __future__ import annotations

import cv2
import numba
import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_matrix
from scipy.sparse.linalg import spsolve

from plonket.base.conventions import F32, FAST

I32 = NDArray[np.int32]

MOST_SIDE = 72
"""Larger holes are solved at reduced size: a membrane has no fine detail."""

RELAXED = 40


@numba.njit(cache=True, fastmath=FAST)  # type: ignore[misc]
def _relax(out: F32, ys: I32, xs: I32, rounds: int) -> None:
    """Each pixel of the hole becomes the mean of its four neighbours, so many times."""
    h, w, channels = out.shape
    new = np.empty((len(ys), channels), np.float32)
    for _ in range(rounds):
        for k in range(len(ys)):
            y, x = ys[k], xs[k]
            up, down = max(y - 1, 0), min(y + 1, h - 1)
            left, right = max(x - 1, 0), min(x + 1, w - 1)
            for c in range(channels):
                new[k, c] = (out[up, x, c] + out[down, x, c] + out[y, left, c] + out[y, right, c]) * np.float32(0.25)
        for k in range(len(ys)):
            for c in range(channels):
                out[ys[k], xs[k], c] = new[k, c]


def rim_values(values: F32, known: NDArray[np.bool_], reach_px: float) -> F32:
    """Values (h, w, c) averaged over what is known within about `reach_px`, everywhere where something is."""
    weight = known.astype(np.float32)
    sigma = max(reach_px / 2, 0.5)
    total = cv2.GaussianBlur(weight, (0, 0), sigma)
    blurred = cv2.GaussianBlur(values * weight[..., None], (0, 0), sigma)
    blurred = blurred.reshape(values.shape)
    return np.asarray(blurred / np.maximum(total, 1e-6)[..., None], np.float32)


def stretch(values: F32, hole: NDArray[np.bool_]) -> F32:
    """`values` (h, w, c) with the hole replaced by the membrane through the values round it.

    Laplace's equation with the rim's values as its border (P. Perez, M. Gangnet and A. Blake, 2003,
    doi:10.1145/882262.882269, eq. 2 without a guidance field); at the picture's edge it ends free.
    """
    h, w = hole.shape
    ys, xs = np.nonzero(hole)
    if not len(ys):
        return values
    if hole.all():
        return np.zeros_like(values)
    side = max(int(np.ptp(ys)), int(np.ptp(xs))) + 1
    if side > MOST_SIDE:
        # Reduced by averages of what is known, solved there, and laid back in.
        k = MOST_SIDE / side
        small = (max(4, round(w * k)), max(4, round(h * k)))
        weight = (~hole).astype(np.float32)
        share = cv2.resize(weight, small, interpolation=cv2.INTER_AREA)
        mean = cv2.resize(values * weight[..., None], small, interpolation=cv2.INTER_AREA).reshape(small[1], small[0], -1)
        mean = mean / np.maximum(share, 1e-6)[..., None]
        solved = stretch(np.asarray(mean, np.float32), share < 0.02)
        out = values.copy()
        out[hole] = cv2.resize(solved, (w, h), interpolation=cv2.INTER_CUBIC).reshape(values.shape)[hole]
        # Near the rim the reduced picture is too rough: relax there at full size.
        _relax(out, ys.astype(np.int32), xs.astype(np.int32), RELAXED)
        return out
    index = np.full(hole.shape, -1)
    index[ys, xs] = np.arange(len(ys))
    rows: list[np.ndarray] = []
    columns: list[np.ndarray] = []
    degree = np.zeros(len(ys))
    right = np.zeros((len(ys), values.shape[2]))
    for dy, dx in ((0, 1), (0, -1), (1, 0), (-1, 0)):
        ny, nx = ys + dy, xs + dx
        inside = (ny >= 0) & (ny < h) & (nx >= 0) & (nx < w)
        degree += inside
        own = np.nonzero(inside)[0]
        other = index[ny[own], nx[own]]
        free = other >= 0
        rows.append(own[free])
        columns.append(other[free])
        border = own[~free]
        right[border] += values[ny[border], nx[border]]
    # One equation each: the mean of the neighbours. A touch on the diagonal keeps closed-off pieces solvable.
    row = np.concatenate([*rows, np.arange(len(ys))])
    column = np.concatenate([*columns, np.arange(len(ys))])
    entries = np.concatenate([-np.ones(sum(len(r) for r in rows)), degree + 1e-9])
    solved = spsolve(csr_matrix((entries, (row, column)), shape=(len(ys), len(ys))), right)
    out = values.copy()
    out[ys, xs] = np.asarray(solved, np.float32).reshape(len(ys), -1)
    return out
