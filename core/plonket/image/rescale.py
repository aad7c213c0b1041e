"""A part of a picture at another size: windowed sinc in linear light, held between its neighbours so that nothing rings.

Duchon's kernel with three lobes (C. Duchon, "Lanczos Filtering in One and Two Dimensions", 1979), widened where the picture
gets smaller, so that nothing finer than the new pixels is left over.
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64, FAST

LOBES = 3

Box = tuple[float, float, float, float]
"""x, y of the top-left corner, width and height, in pixels of the picture."""


def cut(rgba: F32, box: Box, size: tuple[int, int]) -> F32:
    """A part of a picture at another size.

    Parameters
    ----------
    rgba : (h, w, 4) linear, premultiplied. box : the part; it may reach beyond the picture. size : (width, height) of what is
        made.

    Returns
    -------
    (height, width, 4), clear where the part lies beyond the picture; pixel on pixel it is the picture's own values. No value
    lies outside those of the pixels next to it.
    """
    h, w = rgba.shape[:2]
    x0, y0, across, down = box
    xs, ys = _Taps(x0, across / size[0], size[0], w), _Taps(y0, down / size[1], size[1], h)
    narrow = np.empty((h, size[0], 4), np.float32)
    if xs.is_plain:
        narrow = np.ascontiguousarray(rgba[:, xs.first[:, 0]])
    else:
        _along_rows(np.ascontiguousarray(rgba), xs.first[:, 0], xs.weights, xs.near, narrow)
    if ys.is_plain:
        out = narrow[ys.first[:, 0]]
    else:
        out = np.empty((size[1], size[0], 4), np.float32)
        _along_columns(narrow, ys.first[:, 0], ys.weights, ys.near, out)
    if (xs.inside < 1).any() or (ys.inside < 1).any():
        out *= (ys.inside[:, None] * xs.inside[None, :])[..., None]
    return out


class _Taps:
    """Which pixels of a line make each new one, and how much of each.

    Attributes
    ----------
    first : (n, 1) index of the first of its pixels. weights : (n, k), they sum to one. near : (n, 2) the first and the one
    after the last of those that it is held between. inside : (n,) how much of a new pixel lies on the picture. is_plain : each
    new pixel is one of the old ones.
    """

    def __init__(self, start: float, step: float, count: int, length: int) -> None:
        edges = np.clip(start + step * np.arange(count + 1), 0, length)
        self.inside: F32 = np.minimum(np.diff(edges) / step, 1).astype(np.float32)
        self.inside[self.inside > 1 - 1e-6] = 1
        at = start + (np.arange(count) + 0.5) * step - 0.5
        wide = max(step, 1.0)
        self.is_plain = bool(abs(step - 1) < 1e-9 and np.abs(at - np.round(at)).max() < 1e-6)
        if self.is_plain:
            self.first = np.clip(np.round(at).astype(np.int64), 0, length - 1)[:, None]
            return
        reach = LOBES * wide
        first = np.ceil(at - reach).astype(np.int64)
        places = first[:, None] + np.arange(int(np.floor(2 * reach)) + 1)
        away = (places - at[:, None]) / wide
        weights = np.where(np.abs(away) < LOBES, np.sinc(away) * np.sinc(away / LOBES), 0)
        # Beyond the picture its edge goes on; what lies there of the part is taken off afterwards.
        held = np.clip(places, 0, length - 1)
        low = np.minimum(held[:, 0], max(length - places.shape[1], 0))
        most = min(places.shape[1], length)
        folded = np.zeros((count, most))
        rows = np.broadcast_to(np.arange(count)[:, None], held.shape)
        np.add.at(folded, (rows, held - low[:, None]), weights)
        self.first = low[:, None]
        self.weights: F32 = (folded / folded.sum(axis=1, keepdims=True)).astype(np.float32)
        next_ones = np.stack([np.ceil(at - wide + 1e-9), np.floor(at + wide - 1e-9) + 1], axis=1).astype(np.int64)
        near = np.clip(next_ones - low[:, None], 0, most)
        near[:, 1] = np.maximum(near[:, 1], near[:, 0] + 1)
        near[:, 0] = np.minimum(near[:, 0], most - 1)
        near[:, 1] = np.clip(near[:, 1], 1, most)
        self.near: NDArray[np.int64] = near


@numba.njit(parallel=True, cache=True, fastmath=FAST)  # type: ignore[misc]
def _along_rows(source: F32, first: F64, weights: F32, near: F64, out: F32) -> None:
    count = weights.shape[1]
    for y in numba.prange(out.shape[0]):
        for x in range(out.shape[1]):
            a, n0, n1 = first[x], near[x, 0], near[x, 1]
            for c in range(4):
                total = np.float32(0.0)
                for k in range(count):
                    total += weights[x, k] * source[y, a + k, c]
                low = high = source[y, a + n0, c]
                for k in range(n0 + 1, n1):
                    low, high = min(low, source[y, a + k, c]), max(high, source[y, a + k, c])
                out[y, x, c] = min(max(total, low), high)


@numba.njit(parallel=True, cache=True, fastmath=FAST)  # type: ignore[misc]
def _along_columns(source: F32, first: F64, weights: F32, near: F64, out: F32) -> None:
    count = weights.shape[1]
    width = out.shape[1]
    for y in numba.prange(out.shape[0]):
        a, n0, n1 = first[y], near[y, 0], near[y, 1]
        for x in range(width):
            for c in range(4):
                out[y, x, c] = np.float32(0.0)
        for k in range(count):
            w = weights[y, k]
            for x in range(width):
                for c in range(4):
                    out[y, x, c] += w * source[a + k, x, c]
        for x in range(width):
            for c in range(4):
                low = high = source[a + n0, x, c]
                for k in range(n0 + 1, n1):
                    low, high = min(low, source[a + k, x, c]), max(high, source[a + k, x, c])
                out[y, x, c] = min(max(out[y, x, c], low), high)
