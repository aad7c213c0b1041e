"""Inverse depth of a straight, reduced picture in the frame as it was filmed, at full size, its edges where the frame's are."""

from __future__ import annotations

import numba
import numpy as np

from plonket.base.conventions import F32, FAST, U8
from plonket.depth.straight import Straight

JUMPS = np.float32(1.03)
"""Times, from which on neighbouring depths are two surfaces', between which nothing is."""


def raised(inverse: F32, straight: Straight, frame: int, rgb: U8) -> F32:
    """(H, W) z-depth of a frame (H, W, 3), 0 where unknown, of inverse depths (h, w) of the straight reduced one."""
    height, width = rgb.shape[:2]
    lens = straight.track.lens(frame)
    x, y = np.meshgrid(np.arange(width) + 0.5, np.arange(height) + 0.5)
    at = np.stack([x, y], axis=-1)
    flat = at if lens.straight else lens.straightened(at)
    u, v = (np.asarray(flat[..., k] * straight.scale - 0.5, np.float32) for k in (0, 1))
    out = np.zeros((height, width), np.float32)
    _raise(inverse, straight.colour(frame), rgb, u, v, out)
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
