"""The phone's fast path for tests: textured flat surfaces, exact lens, no path tracing."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64
from plonket.room.lens import Lens
from synth.phone.camera import PhoneCamera

FAR = 1e30
"""Stands for "not hit": compiled with fast arithmetic, infinities cannot be tested for."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Surface:
    """A flat textured surface.

    Attributes
    ----------
    corners : (4, 3) metres, clockwise from top left, or a function of time that gives them.
    texture : linear RGB or RGBA (straight), float32 (h, w, 3 or 4); its corners lie on `corners`.
    """

    name: str
    corners: F64 | Callable[[float], F64]
    texture: F32

    def at(self, t: float) -> F64:
        return np.asarray(self.corners(t) if callable(self.corners) else self.corners, np.float64)


def quick_light(
    surfaces: list[Surface],
    camera: PhoneCamera,
    times: F64,
    *,
    samples: int = 3,
    light: Callable[[float], float] | None = None,
    background: tuple[float, float, float] = (0.05, 0.05, 0.06),
) -> Iterator[F32]:
    """Linear light of each frame, float32 (h, w, 3).

    Parameters
    ----------
    surfaces : nearest last where they cross at equal depth; otherwise sorted by depth per ray.
    samples : samples a side per pixel; each is taken at its own instant of the exposure.
    light : brightness factor as a function of time.
    """
    textures = []
    for one in surfaces:
        tex = np.ascontiguousarray(one.texture, np.float32)
        if tex.shape[2] == 3:
            tex = np.dstack([tex, np.ones(tex.shape[:2], np.float32)])
        textures.append(tex)
    heights = np.array([t.shape[0] for t in textures])
    widths = np.array([t.shape[1] for t in textures])
    starts = np.concatenate([[0], np.cumsum(heights * widths)[:-1]])
    flat = np.concatenate([t.reshape(-1, 4) for t in textures])
    width, height = camera.size
    n = samples * samples
    order = _instants(n)
    straight, per = _straightened(camera)
    for t in times:
        out = np.zeros((height, width, 3), np.float32)
        nodes = 9 if camera.readout_s else 2
        eye = np.empty((nodes, n, 3))
        rot = np.empty((nodes, n, 3, 3))
        frames = np.empty((nodes, n, len(surfaces), 3, 3))
        for k in range(nodes):
            row = height * k / (nodes - 1)
            for s in range(n):
                lag = ((order[s] + 0.5) / n - 0.5) * camera.exposure_s
                when = float(camera.row_time(float(t), row)) + lag
                eye[k, s], rot[k, s] = camera.pose(when)
                for j, surface in enumerate(surfaces):
                    c = surface.at(when)
                    frames[k, s, j] = c[0], c[1] - c[0], c[3] - c[0]
        _trace(flat, starts, widths, heights, eye, rot, frames, _boxes(camera, eye, rot, frames), camera.focal_px,
               straight, per, samples, np.array(background, np.float32), out)  # fmt: skip
        yield out * np.float32(light(float(t)) if light else 1.0)


def quick_depth(surfaces: list[Surface], camera: PhoneCamera, t: float) -> F64:
    """(h, w) z-depth in metres through the middle of each pixel at the moment its row is read; inf where nothing is."""
    width, height = camera.size
    lens = Lens(focal=camera.focal_px, principal=(camera.principal[0], camera.principal[1]), k1=camera.k1, k2=camera.k2)
    x, y = np.meshgrid(np.arange(width) + 0.5, np.arange(height) + 0.5)
    rays = lens.rays(np.stack([x, y], axis=-1)) * [1, -1, -1]
    out = np.full((height, width), np.inf)
    rows = [slice(k, k + 1) for k in range(height)] if camera.readout_s else [slice(None)]
    for part in rows:
        when = float(camera.row_time(t, (part.start or 0) + 0.5)) if camera.readout_s else t
        eye, turn = camera.pose(when)
        ways = rays[part] @ turn.T
        for one in surfaces:
            corners = one.at(when)
            origin, across, down = corners[0], corners[1] - corners[0], corners[3] - corners[0]
            normal = np.cross(across, down)
            with np.errstate(all="ignore"):
                far = ((origin - eye) @ normal) / (ways @ normal)
                at = eye + far[..., None] * ways - origin
            square = np.array([[across @ across, across @ down], [across @ down, down @ down]])
            uv = np.stack([at @ across, at @ down], axis=-1) @ np.linalg.inv(square)
            hit = (far > 1e-3) & (uv >= 0).all(axis=-1) & (uv <= 1).all(axis=-1) & (far < out[part])
            if one.texture.shape[2] == 4:
                th, tw = one.texture.shape[:2]
                u, v = (np.clip((np.nan_to_num(uv[..., k]) * n).astype(int), 0, n - 1) for k, n in ((0, tw), (1, th)))
                hit &= one.texture[v, u, 3] > 0.5
            out[part][hit] = far[hit]
    return out


BEYOND = 0.04
"""How far round a surface's corners it is looked for, as a share of the picture: edges bend with the lens."""


def _boxes(camera: PhoneCamera, eye: F64, rot: F64, frames: F64) -> NDArray[np.int64]:
    """(surfaces, 4) first and last column and row in which a surface may be seen, at any instant of the exposure."""
    width, height = camera.size
    o, a, b = frames[..., 0, :], frames[..., 1, :], frames[..., 2, :]
    corners = np.stack([o, o + a, o + b, o + a + b], axis=-2)  # (nodes, n, surfaces, 4, 3)
    local = np.einsum("knsci,knij->knscj", corners - eye[:, :, None, None], rot)
    depth = -local[..., 2]
    behind = (depth < 1e-3).any(axis=(0, 1, 3))
    flat = local[..., :2] / np.maximum(depth, 1e-3)[..., None]
    r2 = (flat**2).sum(axis=-1, keepdims=True)
    at = flat * (1 + r2 * (camera.k1 + r2 * camera.k2)) * camera.focal_px * [1, -1] + np.array(camera.principal)
    low, high = at.min(axis=(0, 1, 3)), at.max(axis=(0, 1, 3))
    # Far outside, a strong lens folds back: such surfaces are looked for everywhere.
    behind |= (r2.max(axis=(0, 1, 3, 4)) > 4) & (camera.k1 != 0)
    room = BEYOND * max(width, height)
    out = np.column_stack([low[:, 0] - room, high[:, 0] + room, low[:, 1] - room, high[:, 1] + room])
    out[behind] = (-1, width, -1, height)
    return np.clip(out, -1, max(width, height)).astype(np.int64)


STRAIGHT_STEPS = 4096
"""Linear between so many, the lens is off by less than a millionth of a pixel."""


def _straightened(camera: PhoneCamera) -> tuple[F64, float]:
    """By what a point's place is multiplied to undo the lens, over its squared distance; and steps per unit of that."""
    if not (camera.k1 or camera.k2):
        return np.ones(1), 0.0
    width, height = camera.size
    per = STRAIGHT_STEPS / ((width**2 + height**2) / 4 / camera.focal_px**2)
    bent = np.arange(STRAIGHT_STEPS + 2) / per
    radial = np.ones_like(bent)
    for _ in range(40):
        r2 = bent / radial**2
        radial = 1 + r2 * (camera.k1 + r2 * camera.k2)
    return 1 / radial, per


def _instants(n: int) -> NDArray[np.int64]:
    """Which instant of the exposure each of a pixel's samples sees.

    Samples that lie opposite each other see opposite instants: a blur must be alike to both sides, or
    the picture would lie off its truth.
    """
    rng = np.random.default_rng(1)
    half = n // 2
    first = rng.permutation(half)
    flip = rng.random(half) < 0.5
    early = np.where(flip, n - 1 - first, first)
    middle = np.full(n % 2, half)
    return np.concatenate([early, middle, (n - 1 - early)[::-1]])


@numba.njit(parallel=True, cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _trace(flat, starts, widths, heights, eye, rot, frames, boxes, focal, straight, per, samples, background, out):  # type: ignore[no-untyped-def]
    height, width = out.shape[:2]
    nodes, n = eye.shape[:2]
    count = starts.shape[0]
    cx, cy = width / 2.0, height / 2.0
    curved = straight.shape[0] > 1
    last = straight.shape[0] - 2
    for y in numba.prange(height):
        at = (y + 0.5) / height * (nodes - 1)
        k = min(int(at), nodes - 2)
        f = at - k
        depth = np.empty(count)
        us = np.empty(count)
        vs = np.empty(count)
        surf = np.empty((count, 13))
        here = np.empty(count, np.int64)
        hit = np.empty(count, np.int64)
        e = np.empty(3)
        r = np.empty((3, 3))
        for s in range(n):
            sx = ((s % samples) + 0.5) / samples
            sy = ((s // samples) + 0.5) / samples
            e[:] = eye[k, s] * (1 - f) + eye[k + 1, s] * f
            r[:] = rot[k, s] * (1 - f) + rot[k + 1, s] * f
            rows = 0
            for j in range(count):
                if boxes[j, 2] <= y <= boxes[j, 3]:
                    here[rows] = j
                    rows += 1
                # What is the same for the whole row: origin, both inverse edges, normal.
                o = frames[k, s, j] * (1 - f) + frames[k + 1, s, j] * f
                ax, ay, az = o[1, 0], o[1, 1], o[1, 2]
                bx, by, bz = o[2, 0], o[2, 1], o[2, 2]
                surf[j, 0], surf[j, 1], surf[j, 2] = o[0, 0] - e[0], o[0, 1] - e[1], o[0, 2] - e[2]
                surf[j, 3], surf[j, 4], surf[j, 5] = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
                aa, bb, ab = ax * ax + ay * ay + az * az, bx * bx + by * by + bz * bz, ax * bx + ay * by + az * bz
                det = aa * bb - ab * ab
                aa, bb, ab = aa / det, bb / det, ab / det
                surf[j, 6], surf[j, 7], surf[j, 8] = ax * bb - bx * ab, ay * bb - by * ab, az * bb - bz * ab
                surf[j, 9], surf[j, 10], surf[j, 11] = bx * aa - ax * ab, by * aa - ay * ab, bz * aa - az * ab
                surf[j, 12] = surf[j, 3] * surf[j, 0] + surf[j, 4] * surf[j, 1] + surf[j, 5] * surf[j, 2]
            for x in range(width):
                lx, ly, lz = (x + sx - cx) / focal, -(y + sy - cy) / focal, -1.0
                if curved:
                    out_at = (lx * lx + ly * ly) * per
                    slot = min(int(out_at), last)
                    part = out_at - slot
                    inward = straight[slot] * (1 - part) + straight[slot + 1] * part
                    lx, ly = lx * inward, ly * inward
                dx = r[0, 0] * lx + r[0, 1] * ly + r[0, 2] * lz
                dy = r[1, 0] * lx + r[1, 1] * ly + r[1, 2] * lz
                dz = r[2, 0] * lx + r[2, 1] * ly + r[2, 2] * lz
                hits = 0
                for q in range(rows):
                    j = here[q]
                    if x < boxes[j, 0] or x > boxes[j, 1]:
                        continue
                    den = surf[j, 3] * dx + surf[j, 4] * dy + surf[j, 5] * dz
                    if abs(den) < 1e-12:
                        continue
                    d = surf[j, 12] / den
                    if d <= 0:
                        continue
                    hx, hy, hz = d * dx - surf[j, 0], d * dy - surf[j, 1], d * dz - surf[j, 2]
                    u = hx * surf[j, 6] + hy * surf[j, 7] + hz * surf[j, 8]
                    v = hx * surf[j, 9] + hy * surf[j, 10] + hz * surf[j, 11]
                    if 0 <= u < 1 and 0 <= v < 1:
                        depth[hits], us[j], vs[j], hit[hits] = d, u, v, j
                        hits += 1
                keep = 1.0
                for _ in range(hits):
                    nearest = 0
                    for q in range(1, hits):
                        if depth[q] < depth[nearest]:
                            nearest = q
                    if keep < 0.004:
                        break
                    depth[nearest] = FAR
                    j = hit[nearest]
                    tw, th = widths[j], heights[j]
                    px, py = us[j] * tw - 0.5, vs[j] * th - 0.5
                    ix, iy = int(np.floor(px)), int(np.floor(py))
                    fx, fy = px - ix, py - iy
                    x0, x1 = min(max(ix, 0), tw - 1), min(max(ix + 1, 0), tw - 1)
                    y0, y1 = min(max(iy, 0), th - 1), min(max(iy + 1, 0), th - 1)
                    base = starts[j]
                    w00, w10 = (1 - fx) * (1 - fy), fx * (1 - fy)
                    w01, w11 = (1 - fx) * fy, fx * fy
                    p00, p10 = base + y0 * tw + x0, base + y0 * tw + x1
                    p01, p11 = base + y1 * tw + x0, base + y1 * tw + x1
                    alpha = (w00 * flat[p00, 3] + w10 * flat[p10, 3] + w01 * flat[p01, 3] + w11 * flat[p11, 3])
                    for c in range(3):
                        value = w00 * flat[p00, c] + w10 * flat[p10, c] + w01 * flat[p01, c] + w11 * flat[p11, c]
                        out[y, x, c] += keep * alpha * value / n
                    keep *= 1 - alpha
                for c in range(3):
                    out[y, x, c] += keep * background[c] / n
