"""Depths of several frames brought into one, where most agree."""

from __future__ import annotations

import numba
import numpy as np

from plonket.base.conventions import F32, FAST
from plonket.depth.straight import Lies

AGREES = 0.012
"""Share of a depth by which frames may differ and still tell the same."""
GAP_PX = 0.8
"""Pixels round the place where one lands that it covers: between those of a surface that comes nearer there are no holes."""


def carried_depth(inverse: F32, lies: Lies) -> F32:
    """Inverse depths (h, w) of one frame, 0 unknown, as another one sees them to which it `lies`: the nearest counts; 0 where
    nothing lands."""
    out = np.zeros_like(inverse)
    _splat(inverse, lies.turn, lies.shift, out)
    return out


@numba.njit(cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _splat(inverse: F32, turn: F32, shift: F32, out: F32) -> None:
    h, w = inverse.shape
    for y in range(h):
        a, b = turn[y], shift[y]
        for x in range(w):
            d = inverse[y, x]
            if d <= 0:
                continue
            z = a[2, 0] * x + a[2, 1] * y + a[2, 2] + d * b[2]
            if z <= np.float32(1e-6):
                continue
            inv = np.float32(1) / z
            u = (a[0, 0] * x + a[0, 1] * y + a[0, 2] + d * b[0]) * inv
            v = (a[1, 0] * x + a[1, 1] * y + a[1, 2] + d * b[1]) * inv
            # At depth 1 / d it lies z / d before the other camera.
            there = d * inv
            iu, iv = int(np.floor(u)), int(np.floor(v))
            for j in range(iv, iv + 2):
                for i in range(iu, iu + 2):
                    is_in = 0 <= i < w and 0 <= j < h
                    if is_in and abs(i - u) < GAP_PX and abs(j - v) < GAP_PX:
                        out[j, i] = max(out[j, i], there)


def agreed(own: F32, others: list[F32], least: int) -> tuple[F32, F32]:
    """(h, w) inverse depth that most agree on, 0 where fewer than `least` do; and how many do."""
    stack = np.stack([own, *others])
    out, votes = np.zeros_like(own), np.zeros_like(own)
    _agree(stack, np.float32(AGREES), least, out, votes)
    return out, votes


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _agree(stack: F32, agrees: np.float32, least: int, out: F32, votes: F32) -> None:
    n, h, w = stack.shape
    for y in numba.prange(h):
        for x in range(w):
            best, best_value = 0, np.float32(0)
            for k in range(n):
                d = stack[k, y, x]
                if d <= 0:
                    continue
                count, total = 0, np.float32(0)
                for m in range(n):
                    e = stack[m, y, x]
                    if e > 0 and abs(e - d) < agrees * d:
                        count += 1
                        total += e
                # Among equals the frame's own word counts, or the nearest one's.
                if count > best:
                    best, best_value = count, total / np.float32(count)
            votes[y, x] = best
            out[y, x] = best_value if best >= least else np.float32(0)
