"""Smooth noise of space and time: the same for the same seed, anywhere and at any moment.

Gradient noise on a hashed lattice (K. Perlin, Improving Noise, 2002, doi:10.1145/566654.566636), in octaves.
"""

from __future__ import annotations

import numba
import numpy as np

from plonket.base.conventions import F32, F64, FAST


@numba.njit(cache=True, inline="always")  # type: ignore[misc]
def _slope(ix: int, iy: int, iz: int, seed: int, x: float, y: float, z: float) -> float:
    h = np.uint32(ix) * np.uint32(0x9E3779B1) ^ np.uint32(iy) * np.uint32(0x85EBCA77)
    h = h ^ np.uint32(iz) * np.uint32(0xC2B2AE3D) ^ np.uint32(seed) * np.uint32(0x27D4EB2F)
    h = (h ^ (h >> np.uint32(15))) * np.uint32(0x2C1B3C6D)
    h = (h ^ (h >> np.uint32(12))) * np.uint32(0x297A2D39)
    h = (h ^ (h >> np.uint32(15))) % np.uint32(12)
    u = x if h < 8 else y
    v = y if h < 4 else z
    return (u if h & np.uint32(1) == 0 else -u) + (v if h & np.uint32(2) == 0 else -v)


@numba.njit(cache=True)  # type: ignore[misc]
def noise3(x: float, y: float, z: float, seed: int) -> float:
    """Gradient noise about nought, within -1 to 1."""
    ix, iy, iz = int(np.floor(x)), int(np.floor(y)), int(np.floor(z))
    fx, fy, fz = x - ix, y - iy, z - iz
    u = fx * fx * fx * (fx * (fx * 6 - 15) + 10)
    v = fy * fy * fy * (fy * (fy * 6 - 15) + 10)
    w = fz * fz * fz * (fz * (fz * 6 - 15) + 10)
    out = 0.0
    for k in range(2):
        wk = w if k else 1 - w
        for j in range(2):
            vj = v if j else 1 - v
            a = _slope(ix, iy + j, iz + k, seed, fx, fy - j, fz - k)
            b = _slope(ix + 1, iy + j, iz + k, seed, fx - 1, fy - j, fz - k)
            out += wk * vj * (a + u * (b - a))
    return out


@numba.njit(cache=True)  # type: ignore[misc]
def octaves(x: float, y: float, z: float, count: int, seed: int) -> float:
    """Noise with finer and weaker noise on it, within about -1 to 1."""
    total, share, norm = 0.0, 1.0, 0.0
    for k in range(count):
        total += share * noise3(x, y, z, seed + 31 * k)
        norm += share
        share *= 0.55
        x, y, z = x * 1.97 + 11.3, y * 1.97 - 7.1, z * 1.53 + 3.7
    return total / norm


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def noise_field(out: F32, back: F64, size: float, shift: F64, z: float, count: int, seed: int) -> None:
    """Fill (h, w) with noise on a surface.

    `back` (3, 3) leads from the array's pixels to the surface, whose noise has lumps of about `size` pixels and is moved by
    `shift` (2,); `z` is how far it has changed, in lumps.
    """
    for j in numba.prange(out.shape[0]):
        for i in range(out.shape[1]):
            x, y = i + 0.5, j + 0.5
            d = back[2, 0] * x + back[2, 1] * y + back[2, 2]
            u = ((back[0, 0] * x + back[0, 1] * y + back[0, 2]) / d - shift[0]) / size
            v = ((back[1, 0] * x + back[1, 1] * y + back[1, 2]) / d - shift[1]) / size
            out[j, i] = octaves(u, v, z, count, seed)


def noise_at(xy: F64, z: F64, count: int, seed: int) -> F64:
    """Noise (n,) at places (n, 2) in lumps and moments (n,)."""
    out = np.empty(len(xy))
    _noise_at(np.ascontiguousarray(xy, np.float64), np.ascontiguousarray(z, np.float64), count, seed, out)
    return out


@numba.njit(parallel=True, cache=True)  # type: ignore[misc]
def _noise_at(xy: F64, z: F64, count: int, seed: int, out: F64) -> None:
    for k in numba.prange(xy.shape[0]):
        out[k] = octaves(xy[k, 0], xy[k, 1], z[k], count, seed)
