"""Shutter and rolling read-out: carries instants of a set to the time each row is exposed.

Path-traced instants ("keys") are costly, so a frame is made by warping the nearest keys to the
moments its rows see. Every key pixel knows its world position and moving part, so the warp follows
the exact camera path and the exact movement of each part; only the light is taken from the key. What
one key hides behind a moving part is taken from the other.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numba
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import distance_transform_edt

from plonket.base.conventions import F32, F64
from synth.phone.camera import PhoneCamera
from synth.phone.solid import MiniatureSet

if TYPE_CHECKING:
    from synth.phone.film import Exposure

NODES = 16  # rows at which poses are evaluated; between them they are interpolated
STEPS = 5  # instants averaged over a row's exposure
RIM_PX = 2.5
"""How far a moving thing's edge is mixed with what is behind it."""


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
    mass = np.zeros((height, width), np.float32)
    for exposure, key_time, weight in keys:
        light, seen = _warp_key(exposure, key_time, what, camera, t)
        out += np.float32(weight) * light
        mass += np.float32(weight) * seen
    return np.asarray(out / np.maximum(mass, 1e-6)[..., None], np.float32)


def seen_mattes(
    exposure: Exposure, key_time: float, masks: NDArray[np.bool_], what: MiniatureSet, camera: PhoneCamera, t: float
) -> F32:
    """Coverage in the frame at `t` of the pixels marked in `masks` (padded height, width, 3)."""
    warped, seen = _warp_key(replace(exposure, light=masks.astype(np.float32)), key_time, what, camera, t)
    return np.clip(warped / np.maximum(seen, 1e-6)[..., None], 0, 1)


def _warp_key(
    e: Exposure, key_time: float, what: MiniatureSet, camera: PhoneCamera, t: float
) -> tuple[F32, F32]:
    """Light of the frame at `t` as far as this key shows it, and how much of each pixel it shows."""
    width, height = camera.size
    rows = np.linspace(0, height, NODES)
    count = len(e.parts)
    eye = np.empty((NODES, STEPS, 3))
    rot = np.empty((NODES, STEPS, 3, 3))
    carry = np.empty((NODES, STEPS, count, 3, 4))
    part, world = _widened(e.part, e.world)
    # A few places of every moving part stand for its extent.
    some = [world[part == p][::53].astype(np.float64) if p else np.zeros((0, 3)) for p in range(count)]
    centre = np.zeros((NODES, STEPS, count, 3))
    box = np.full((NODES, STEPS, count, 4), np.nan)
    back = [np.linalg.inv(what.part_at(p, key_time)) for p in e.parts]
    for r, y in enumerate(rows):
        for k in range(STEPS):
            when = float(camera.row_time(t, float(y))) + ((k + 0.5) / STEPS - 0.5) * camera.exposure_s
            eye[r, k], rot[r, k] = camera.pose(when)
            for p, name in enumerate(e.parts):
                moved = what.part_at(name, when) @ back[p]
                carry[r, k, p] = moved[:3]
                if not len(some[p]):
                    continue
                places = some[p] @ moved[:3, :3].T + moved[:3, 3]
                centre[r, k, p] = places.mean(axis=0)
                xy = camera.project_at(when, places) + e.pad
                box[r, k, p] = [*(xy.min(axis=0) - 14), *(xy.max(axis=0) + 14)]
    key_eye, key_rot = camera.pose(key_time)
    out = np.empty((height, width, 3), np.float32)
    mass = np.empty((height, width), np.float32)
    _warp(e.light, world, part, eye, rot, carry, centre, box, key_eye, key_rot, camera.focal_px, e.pad, out, mass)
    return out, mass


def _widened(seen: NDArray[np.int16], world: F32) -> tuple[NDArray[np.int16], F32]:
    """Parts and world positions, with moving parts widened by their soft rim, which moves with them."""
    # Fast arithmetic cannot test for NaN: where nothing is seen, the part says so.
    part = np.where(np.isfinite(world[..., 0]), seen, -1).astype(np.int16)
    moving = part > 0
    if not moving.any():
        return part, world
    distance, (iy, ix) = distance_transform_edt(~moving, return_indices=True)
    rim = (distance > 0) & (distance <= RIM_PX)
    world = world.copy()
    part[rim], world[rim] = part[iy[rim], ix[rim]], world[iy[rim], ix[rim]]
    return part, world


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


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _first_guess(tx: float, ty: float, eye: F64, rot: F64, carry: F64, centre: F64, key_eye: F64, key_rot: F64,
                 focal: float, cx: float, cy: float) -> tuple[float, float]:  # fmt: skip
    """Where the thing at (tx, ty) would be in the key if it were a flat board at its part's depth."""
    lx, ly = (tx - cx) / focal, -(ty - cy) / focal
    d = np.empty(3)
    for a in range(3):
        d[a] = rot[a, 0] * lx + rot[a, 1] * ly - rot[a, 2]
    depth = 0.0
    for a in range(3):
        depth -= (centre[a] - eye[a]) * rot[a, 2]
    at = np.empty(3)
    for a in range(3):
        at[a] = eye[a] + depth * d[a] - carry[a, 3]
    # The part's movement is rigid: its inverse turn is its transpose.
    rel = np.empty(3)
    for a in range(3):
        rel[a] = carry[0, a] * at[0] + carry[1, a] * at[1] + carry[2, a] * at[2] - key_eye[a]
    kx = key_rot[0, 0] * rel[0] + key_rot[1, 0] * rel[1] + key_rot[2, 0] * rel[2]
    ky = key_rot[0, 1] * rel[0] + key_rot[1, 1] * rel[1] + key_rot[2, 1] * rel[2]
    kz = key_rot[0, 2] * rel[0] + key_rot[1, 2] * rel[1] + key_rot[2, 2] * rel[2]
    return cx - focal * kx / kz, cy + focal * ky / kz


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _trace_back(wanted: int, sx: float, sy: float, tx: float, ty: float, world: F32, part: NDArray[np.int16], eye: F64,
                rot: F64, carry: F64, focal: float, cx: float, cy: float) -> tuple[float, float, bool]:  # fmt: skip
    """The key's place that shows `wanted` at (tx, ty), by fixed-point steps from a guess; whether there is one."""
    ph, pw = part.shape
    off = 9.0
    for _ in range(6):
        ix, iy = int(np.floor(sx)), int(np.floor(sy))
        if not (0 <= ix < pw and 0 <= iy < ph) or part[iy, ix] != wanted:
            return sx, sy, False
        fx, fy = _flow(world, part, iy, ix, eye, rot, carry, focal, cx, cy)
        nx, ny = tx - (fx - ix - 0.5), ty - (fy - iy - 0.5)
        off = abs(nx - sx) + abs(ny - sy)
        sx, sy = nx, ny
        if off < 0.02:
            break
    ix, iy = int(np.floor(sx)), int(np.floor(sy))
    if not (0 <= ix < pw and 0 <= iy < ph) or part[iy, ix] != wanted:
        return sx, sy, False
    return sx, sy, off < 1.0


@numba.njit(parallel=True, cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _warp(light: F32, world: F32, part: NDArray[np.int16], eye: F64, rot: F64, carry: F64, centre: F64, box: F64,
          key_eye: F64, key_rot: F64, focal: float, pad: int, out: F32, mass: F32) -> None:  # fmt: skip
    height, width = out.shape[:2]
    ph, pw = light.shape[:2]
    nodes, steps, count = carry.shape[:3]
    cx, cy = pw / 2.0, ph / 2.0
    for y in numba.prange(height):
        at = (y + 0.5) / height * (nodes - 1)
        n = min(int(at), nodes - 2)
        f = at - n
        e = eye[n] * (1 - f) + eye[n + 1] * f
        m = rot[n] * (1 - f) + rot[n + 1] * f
        c = carry[n] * (1 - f) + carry[n + 1] * f
        o = centre[n] * (1 - f) + centre[n + 1] * f
        for x in range(width):
            r = g = b = 0.0
            seen = 0.0
            for k in range(steps):
                tx, ty = x + pad + 0.5, y + pad + 0.5
                qx, qy, good = tx, ty, False
                nearest = 1e30
                for p in range(1, count):
                    # Comparisons with the box of a part that is not seen (NaN) are all false.
                    if not (box[n, k, p, 0] < tx < box[n, k, p, 2] and box[n, k, p, 1] < ty < box[n, k, p, 3]):
                        continue
                    gx, gy = _first_guess(tx, ty, e[k], m[k], c[k, p], o[k, p], key_eye, key_rot, focal, cx, cy)
                    sx, sy, found = _trace_back(p, gx, gy, tx, ty, world, part, e[k], m[k], c[k], focal, cx, cy)
                    if found:
                        w = world[int(sy), int(sx)]
                        away = 0.0
                        for a in range(3):
                            moved = c[k, p, a, 0] * w[0] + c[k, p, a, 1] * w[1] + c[k, p, a, 2] * w[2] + c[k, p, a, 3]
                            away -= (moved - e[k, a]) * m[k, a, 2]
                        if away < nearest:
                            nearest, qx, qy, good = away, sx, sy, True
                if not good:
                    qx, qy, good = _trace_back(0, tx, ty, tx, ty, world, part, e[k], m[k], c[k], focal, cx, cy)
                if not good and part[min(max(int(ty), 0), ph - 1), min(max(int(tx), 0), pw - 1)] < 0:
                    good = True  # nothing is there at all, and it stays where it is
                # What this key does not show still counts a little, so that no pixel stays empty.
                share = 1.0 if good else 1e-4
                qx, qy = min(max(qx - 0.5, 1.0), pw - 3.0), min(max(qy - 0.5, 1.0), ph - 3.0)
                ix, iy = int(qx), int(qy)
                u, v = qx - ix, qy - iy
                for j in range(4):
                    wy = share * _cubic(v - (j - 1))
                    for i in range(4):
                        w4 = wy * _cubic(u - (i - 1))
                        r += w4 * light[iy + j - 1, ix + i - 1, 0]
                        g += w4 * light[iy + j - 1, ix + i - 1, 1]
                        b += w4 * light[iy + j - 1, ix + i - 1, 2]
                seen += share
            out[y, x, 0] = max(r / steps, 0.0)
            out[y, x, 1] = max(g / steps, 0.0)
            out[y, x, 2] = max(b / steps, 0.0)
            mass[y, x] = seen / steps


@numba.njit(cache=True, fastmath=True, inline="always", error_model="numpy")  # type: ignore[misc]
def _cubic(d: float) -> float:
    """Catmull-Rom weight at distance d."""
    a = abs(d)
    if a < 1.0:
        return 1.5 * a * a * a - 2.5 * a * a + 1.0
    if a < 2.0:
        return -0.5 * a * a * a + 2.5 * a * a - 4.0 * a + 2.0
    return 0.0
