"""Shutter and rolling read-out: carries instants of a set to the time each row is exposed.

Path-traced instants ("keys") are costly, so a frame is made by warping the nearest keys to the
moments its rows see. Every key pixel knows its world position and moving part, so the warp follows
the exact camera path; only the light is taken from the key.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numba
import numpy as np
from numpy.typing import NDArray

from plonket.conventions import F32, F64
from plonket.phone.camera import PhoneCamera
from plonket.phone.solid import MiniatureSet

if TYPE_CHECKING:
    from plonket.phone.film import Exposure

NODES = 16  # rows at which poses are evaluated; between them they are interpolated
STEPS = 5  # instants averaged over a row's exposure


def expose_frame(
    keys: list[tuple[Exposure, float, float]], what: MiniatureSet, camera: PhoneCamera, t: float
) -> F32:
    """One frame's linear light, float32 (height, width, 3).

    Parameters
    ----------
    keys : (exposure, its time, weight); weights add up to 1.
    t : time of the frame: the middle of the middle row's exposure.
    """
    width, height = camera.size
    out = np.zeros((height, width, 3), np.float32)
    for exposure, key_time, weight in keys:
        out += np.float32(weight) * _warp_key(exposure, key_time, what, camera, t)
    return out


def seen_mattes(
    exposure: Exposure, key_time: float, masks: NDArray[np.bool_], what: MiniatureSet, camera: PhoneCamera, t: float
) -> F32:
    """Coverage in the frame at `t` of the pixels marked in `masks` (padded height, width, 3)."""
    warped = _warp_key(replace(exposure, light=masks.astype(np.float32)), key_time, what, camera, t)
    return np.clip(warped, 0, 1)


def _warp_key(e: Exposure, key_time: float, what: MiniatureSet, camera: PhoneCamera, t: float) -> F32:
    width, height = camera.size
    rows = np.linspace(0, height, NODES)
    eye = np.empty((NODES, STEPS, 3))
    rot = np.empty((NODES, STEPS, 3, 3))
    carry = np.empty((NODES, STEPS, len(e.parts), 3, 4))
    back = [np.linalg.inv(what.part_at(p, key_time)) for p in e.parts]
    for r, y in enumerate(rows):
        for k in range(STEPS):
            when = float(camera.row_time(t, float(y))) + ((k + 0.5) / STEPS - 0.5) * camera.exposure_s
            eye[r, k], rot[r, k] = camera.pose(when)
            for p, name in enumerate(e.parts):
                carry[r, k, p] = (what.part_at(name, when) @ back[p])[:3]
    out = np.empty((height, width, 3), np.float32)
    # Fast arithmetic cannot test for NaN: where nothing is seen, the part says so.
    part = np.where(np.isfinite(e.world[..., 0]), e.part, -1).astype(np.int16)
    _warp(e.light, e.world, part, eye, rot, carry, camera.focal_px, e.pad, out)
    return out


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _flow(world: F32, part: NDArray[np.int16], iy: int, ix: int, eye: F64, rot: F64, carry: F64,
          focal: float, cx: float, cy: float) -> tuple[float, float]:  # fmt: skip
    """Where the thing seen at padded pixel (ix, iy) is at another moment, in padded pixels."""
    x, y, z = world[iy, ix, 0], world[iy, ix, 1], world[iy, ix, 2]
    m = carry[part[iy, ix]]
    wx = m[0, 0] * x + m[0, 1] * y + m[0, 2] * z + m[0, 3] - eye[0]
    wy = m[1, 0] * x + m[1, 1] * y + m[1, 2] * z + m[1, 3] - eye[1]
    wz = m[2, 0] * x + m[2, 1] * y + m[2, 2] * z + m[2, 3] - eye[2]
    lx = rot[0, 0] * wx + rot[1, 0] * wy + rot[2, 0] * wz
    ly = rot[0, 1] * wx + rot[1, 1] * wy + rot[2, 1] * wz
    lz = rot[0, 2] * wx + rot[1, 2] * wy + rot[2, 2] * wz
    return cx - focal * lx / lz, cy + focal * ly / lz


@numba.njit(parallel=True, cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _warp(light: F32, world: F32, part: NDArray[np.int16], eye: F64, rot: F64, carry: F64,
          focal: float, pad: int, out: F32) -> None:  # fmt: skip
    height, width = out.shape[:2]
    ph, pw = light.shape[:2]
    nodes, steps = eye.shape[:2]
    cx, cy = pw / 2.0, ph / 2.0
    for y in numba.prange(height):
        at = (y + 0.5) / height * (nodes - 1)
        n = min(int(at), nodes - 2)
        f = at - n
        e = eye[n] * (1 - f) + eye[n + 1] * f
        m = rot[n] * (1 - f) + rot[n + 1] * f
        c = carry[n] * (1 - f) + carry[n + 1] * f
        for x in range(width):
            r = g = b = 0.0
            for k in range(steps):
                tx, ty = x + pad + 0.5, y + pad + 0.5
                sx, sy = tx, ty
                for _ in range(4):
                    ix = min(max(int(sx), 0), pw - 1)
                    iy = min(max(int(sy), 0), ph - 1)
                    if part[iy, ix] < 0:
                        break
                    fx, fy = _flow(world, part, iy, ix, e[k], m[k], c[k], focal, cx, cy)
                    sx, sy = tx - (fx - ix - 0.5), ty - (fy - iy - 0.5)
                qx, qy = min(max(sx - 0.5, 1.0), pw - 3.0), min(max(sy - 0.5, 1.0), ph - 3.0)
                ix, iy = int(qx), int(qy)
                u, v = qx - ix, qy - iy
                for j in range(4):
                    wy = _cubic(v - (j - 1))
                    for i in range(4):
                        w = wy * _cubic(u - (i - 1))
                        r += w * light[iy + j - 1, ix + i - 1, 0]
                        g += w * light[iy + j - 1, ix + i - 1, 1]
                        b += w * light[iy + j - 1, ix + i - 1, 2]
            out[y, x, 0] = max(r / steps, 0.0)
            out[y, x, 1] = max(g / steps, 0.0)
            out[y, x, 2] = max(b / steps, 0.0)


@numba.njit(cache=True, fastmath=True, inline="always", error_model="numpy")  # type: ignore[misc]
def _cubic(d: float) -> float:
    """Catmull-Rom weight at distance d."""
    a = abs(d)
    if a < 1.0:
        return 1.5 * a * a * a - 2.5 * a * a + 1.0
    if a < 2.0:
        return -0.5 * a * a * a + 2.5 * a * a - 4.0 * a + 2.0
    return 0.0
