"""Inverse depth of a straight, reduced picture in the frame as it was filmed, at full size, its edges where the frame's are."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numba
import numpy as np

from plonket.base.coarse import coarsely
from plonket.base.conventions import F32, F64, FAST, U8
from plonket.depth.straight import COARSE, Straight

JUMPS = np.float32(1.03)
"""Times, from which on neighbouring depths are two surfaces', between which nothing is."""


@dataclass(frozen=True, slots=True)
class LiesAt:
    """Where each pixel of a frame as it was filmed lies in the straight reduced one: array indices u, v (H, W) there."""

    u: F32
    v: F32


def lies_at(straight: Straight, frame: int) -> LiesAt:
    """For every pixel of a frame of the clip's size."""
    lens = straight.track.lens(frame)

    def reduced(at: F64) -> F64:
        return (at if lens.straight else lens.undistort_pixels(at)) * straight.scale - 0.5

    at = coarsely(reduced, straight.track.size, COARSE)
    return LiesAt(*(np.ascontiguousarray(at[..., k]) for k in (0, 1)))


def nearest_of(values: F32, at: LiesAt) -> F32:
    """Values (h, w) of the reduced picture in the frame as it was filmed (H, W)."""
    return np.asarray(cv2.remap(values, at.u, at.v, cv2.INTER_NEAREST, borderMode=cv2.BORDER_REPLICATE), np.float32)


def raised(inverse: F32, small: U8, rgb: U8, at: LiesAt) -> F32:
    """(H, W) z-depth of a frame (H, W, 3), 0 where unknown, of inverse depths (h, w) of its straight reduced picture
    (h, w, 3)."""
    out = np.zeros(at.u.shape, np.float32)
    _raise(inverse, small, rgb, at.u, at.v, out)
    return out


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _raise(inverse: F32, small: U8, rgb: U8, u: F32, v: F32, out: F32) -> None:
    h, w = inverse.shape
    for y in numba.prange(out.shape[0]):
        for x in range(out.shape[1]):
            fx, fy = u[y, x], v[y, x]
            if not (fx >= -1 and fy >= -1 and fx <= w and fy <= h):
                continue
            ix, iy = int(np.floor(fx)), int(np.floor(fy))
            low, high, total, share = np.float32(1e9), np.float32(0), np.float32(0), np.float32(0)
            best, like = np.float32(1e9), np.float32(0)
            unknown = np.float32(0)
            for j in range(2):
                for i in range(2):
                    a, b = min(max(ix + i, 0), w - 1), min(max(iy + j, 0), h - 1)
                    part = (i * (fx - ix) + (1 - i) * (1 - fx + ix)) * (j * (fy - iy) + (1 - j) * (1 - fy + iy))
                    d = inverse[b, a]
                    if d <= 0:
                        unknown += part
                        continue
                    low, high = min(low, d), max(high, d)
                    total += part * d
                    share += part
                    off = np.float32(24) * (np.float32(1) - part)
                    for c in range(3):
                        off += abs(np.float32(small[b, a, c]) - np.float32(rgb[y, x, c]))
                    if off < best:
                        best, like = off, d
            if share <= 0 or unknown > np.float32(0.5):
                continue
            out[y, x] = share / total if high < low * JUMPS else np.float32(1) / like
