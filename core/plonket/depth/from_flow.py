"""Inverse depth of a frame from dense movement to others, triangulated: smooth, and right away from edges."""

from __future__ import annotations

import cv2
import numba
import numpy as np

from plonket.base.conventions import F32, FAST, U8
from plonket.depth.straight import Lies

ROUNDS = 3
SOFT_PX = 0.6
"""Distance from a view's movement to where a depth would put it, from which on it counts less."""


def flows(grey: U8, others: list[U8]) -> F32:
    """(v, h, w, 2) dense movement from a picture to others."""
    dis = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    return np.stack([np.asarray(dis.calc(grey, one, None), np.float32) for one in others])  # type: ignore[call-overload]


def triangulated(moved: F32, lies: list[Lies], low: float, high: float) -> tuple[F32, F32]:
    """(h, w) inverse depth, and how far in pixels the views that count are from it at the median; see `flows`."""
    _, h, w, _ = moved.shape
    turn, shift = np.stack([one.turn for one in lies]), np.stack([one.shift for one in lies])
    out, off = np.zeros((h, w), np.float32), np.full((h, w), np.float32(99))
    _triangulate(moved, turn, shift, np.float32(low), np.float32(high), out, off)
    return out, off


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _triangulate(moved: F32, turn: F32, shift: F32, low: np.float32, high: np.float32, out: F32, off: F32) -> None:
    n, h, w, _ = moved.shape
    for y in numba.prange(h):
        left, right, each = np.empty((n, 2), np.float32), np.empty((n, 2), np.float32), np.empty(n, np.float32)
        for x in range(w):
            top = low_sum = np.float32(0)
            for v in range(n):
                a, b = turn[v, y], shift[v, y]
                ax = a[0, 0] * x + a[0, 1] * y + a[0, 2]
                ay = a[1, 0] * x + a[1, 1] * y + a[1, 2]
                az = a[2, 0] * x + a[2, 1] * y + a[2, 2]
                u, t = x + moved[v, y, x, 0], y + moved[v, y, x, 1]
                inv = np.float32(1) / max(az, np.float32(1e-6))
                # d left = right, in pixels.
                left[v, 0], left[v, 1] = (b[0] - u * b[2]) * inv, (b[1] - t * b[2]) * inv
                right[v, 0], right[v, 1] = u - ax * inv, t - ay * inv
                each[v] = np.float32(1)
            best_d, best_off = np.float32(0), np.float32(1e9)
            # Views that disagree are of places that something hides: each is tried as the one to agree with.
            for start in range(n):
                num = left[start, 0] * right[start, 0] + left[start, 1] * right[start, 1]
                den = left[start, 0] ** 2 + left[start, 1] ** 2
                if den < np.float32(1e-12):
                    continue
                d = min(max(num / den, low), high)
                total = np.float32(0)
                for _ in range(ROUNDS):
                    top = low_sum = total = np.float32(0)
                    for v in range(n):
                        rx, ry = d * left[v, 0] - right[v, 0], d * left[v, 1] - right[v, 1]
                        r2 = (rx * rx + ry * ry) / np.float32(SOFT_PX * SOFT_PX)
                        weight = np.float32(1) / (np.float32(1) + r2) ** 2
                        top += weight * (left[v, 0] * right[v, 0] + left[v, 1] * right[v, 1])
                        low_sum += weight * (left[v, 0] ** 2 + left[v, 1] ** 2)
                        total += r2 / (np.float32(1) + r2)
                    if low_sum > np.float32(1e-12):
                        d = min(max(top / low_sum, low), high)
                if total < best_off:
                    best_d, best_off = d, total
            out[y, x], off[y, x] = best_d, best_off / np.float32(n)
