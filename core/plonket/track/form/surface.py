"""The form's surface as it is compared: places on it, what they look like, and how a pose explains a frame."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64, U8
from plonket.room.meshes.forms import Surface
from plonket.room.meshes.raster import seen_by
from plonket.track.form.fit import FormPose

LEVELS = 3
WIDE_PX = 7.0
"""What changes over more than this is light, not the surface: it is taken off before comparing."""
REDUCED = 4
MOST_PLACES = 5000
RIM_PX = 4
"""Places so near to the form's outline are left out: what is behind shows in their blur."""
FLATTEST = 0.2
"""Cosine under which a surface is seen too flatly to be compared."""
NEWLY = 0.35
"""Cosine from which a place that was not seen before is taken on."""


@dataclass(frozen=True, slots=True)
class Levels:
    """A frame at several sizes, slow changes of light taken off: (h, w) each, the full size first."""

    pictures: tuple[F32, ...]

    @staticmethod
    def of(luma: U8) -> Levels:
        out = []
        at = luma.astype(np.float32)
        for k in range(LEVELS):
            if k:
                at = np.asarray(cv2.pyrDown(at), np.float32)
            calm = np.asarray(cv2.GaussianBlur(at, (0, 0), 0.7), np.float32)
            out.append(calm - _slow(calm))
        return Levels(tuple(out))


def _slow(picture: F32) -> F32:
    """What changes over more than `WIDE_PX`; worked out reduced, which nothing shows."""
    h, w = picture.shape
    small = cv2.resize(picture, (max(1, w // REDUCED), max(1, h // REDUCED)), interpolation=cv2.INTER_AREA)
    soft = cv2.GaussianBlur(small, (0, 0), WIDE_PX / REDUCED, borderType=cv2.BORDER_REPLICATE)
    return np.asarray(cv2.resize(soft, (w, h), interpolation=cv2.INTER_LINEAR), np.float32)


class Places:
    """Places on a form's surface with what they look like, taken from the frames in which each was first seen well.

    Attributes
    ----------
    at : (n, 3) metres on the form. normal : (n, 3). look : (n, LEVELS) what each level shows there.
    """

    def __init__(self, surface: Surface, focal: float, size: tuple[int, int], share: float) -> None:
        self.surface, self.focal, self.size = surface, focal, size
        self.share = share
        self.at: F64 = np.zeros((0, 3))
        self.normal: F64 = np.zeros((0, 3))
        self.look: F32 = np.zeros((0, LEVELS), np.float32)
        corners = surface.corners()
        normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        self.normals = normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12)
        # What is on and what is off is told by a lattice over the form's own space.
        self.step = float(np.ptp(surface.vertices, axis=0).max()) / 90
        self.taken: set[tuple[int, int, int]] = set()

    def learn(self, levels: Levels, stood: FormPose, ignored: NDArray[np.bool_] | None) -> int:
        """Take on what is newly seen in a frame, but not where `ignored` (h, w); returns how many places."""
        width, height = self.size
        local = self.surface.corners() @ stood.turn.T + stood.place
        depth, which = seen_by(local, self.focal, (width / 2, height / 2), self.size)
        inside = cv2.erode((which >= 0).astype(np.uint8), np.ones((2 * RIM_PX + 1,) * 2, np.uint8), borderValue=0) > 0
        if ignored is not None:
            inside &= ~ignored
        if not inside.any():
            return 0
        picture = levels.pictures[0]
        gx, gy = cv2.Sobel(picture, cv2.CV_32F, 1, 0, scale=0.125), cv2.Sobel(picture, cv2.CV_32F, 0, 1, scale=0.125)
        telling = cv2.GaussianBlur(gx * gx + gy * gy, (0, 0), 1.0)
        ys, xs = np.nonzero(inside)
        # One candidate for every few pixels, the most telling first.
        room = max(1, int(np.sqrt(len(ys) / (MOST_PLACES * 1.5))))
        chosen = ((ys // room) * 100003 + xs // room).astype(np.int64)
        order = np.lexsort((-telling[ys, xs], chosen))
        first = np.ones(len(order), bool)
        first[1:] = chosen[order][1:] != chosen[order][:-1]
        pick = order[first]
        ys, xs = ys[pick], xs[pick]
        z = depth[ys, xs].astype(np.float64)
        ray = np.column_stack([(xs + 0.5 - width / 2) / self.focal, (ys + 0.5 - height / 2) / self.focal, np.ones(len(z))])
        at = (ray * z[:, None] - stood.place) @ stood.turn
        normal = self.normals[which[ys, xs]]
        way = ray / np.linalg.norm(ray, axis=1, keepdims=True)
        facing = -((normal @ stood.turn.T) * way).sum(axis=1)
        fresh = facing > (NEWLY if len(self.at) else FLATTEST)
        cells = np.floor(at / self.step).astype(np.int64)
        if self.taken:
            fresh &= np.array([tuple(c) not in self.taken for c in cells.tolist()])
        # The most telling share, over the whole surface and not one corner of it.
        strength = telling[ys, xs]
        fresh &= strength >= np.quantile(strength, 1 - self.share)
        keep = np.flatnonzero(fresh)
        if len(self.at) + len(keep) > 3 * MOST_PLACES:
            keep = keep[: max(0, 3 * MOST_PLACES - len(self.at))]
        if not len(keep):
            return 0
        pixels = np.column_stack([xs[keep] + 0.5, ys[keep] + 0.5])
        look = np.stack([_sampled(p, pixels * 0.5**k) for k, p in enumerate(levels.pictures)], axis=1)
        self.at = np.concatenate([self.at, at[keep]])
        self.normal = np.concatenate([self.normal, normal[keep]])
        self.look = np.concatenate([self.look, look])
        near = np.unique(np.concatenate([cells[keep] + d for d in np.ndindex(3, 3, 3)]) - 1, axis=0)
        self.taken.update(map(tuple, near.tolist()))
        return len(keep)

    def seen(self, stood: FormPose, ignored: NDArray[np.bool_] | None = None) -> NDArray[np.bool_]:
        """(n,) which places the camera sees: facing it, in the picture, nothing before them, not `ignored` (h, w)."""
        local = self.at @ stood.turn.T + stood.place
        z = np.maximum(local[:, 2], 1e-9)
        facing = -((self.normal @ stood.turn.T) * local).sum(axis=1) / np.linalg.norm(local, axis=1)
        flat = local[:, :2] / z[:, None] * self.focal + np.array(self.size) / 2
        inside = ((flat > 3) & (flat < np.array(self.size) - 3)).all(axis=1) & (local[:, 2] > 1e-6)
        out = (facing > FLATTEST) & inside
        if len(self.surface.faces) > 12 or not out.all():
            small = 0.25
            size = (max(8, round(self.size[0] * small)), max(8, round(self.size[1] * small)))
            corners = self.surface.corners() @ stood.turn.T + stood.place
            depth, _ = seen_by(corners, self.focal * small, (size[0] / 2, size[1] / 2), size)
            wide = cv2.dilate(np.where(np.isfinite(depth), depth, 0).astype(np.float32), np.ones((3, 3), np.uint8))
            col = np.clip((flat[:, 0] * small).astype(int), 0, size[0] - 1)
            row = np.clip((flat[:, 1] * small).astype(int), 0, size[1] - 1)
            out &= z <= wide[row, col] * 1.01 + 2 * self.step
        if ignored is not None:
            at = np.flatnonzero(out)
            col, row = flat[at].astype(int).T
            out[at] = ~ignored[row, col]
        return np.asarray(out)


def _sampled(picture: F32, pixels: F64) -> F32:
    out = np.empty(len(pixels), np.float32)
    _sample(picture, np.ascontiguousarray(pixels, np.float64), out)
    return out


@numba.njit(cache=True, inline="always")  # type: ignore[misc]
def _bilinear(picture: F32, x: float, y: float) -> float:
    h, w = picture.shape
    fx, fy = min(max(x - 0.5, 0.0), w - 1.001), min(max(y - 0.5, 0.0), h - 1.001)
    i, j = int(fx), int(fy)
    u, v = fx - i, fy - j
    return (picture[j, i] * (1 - u) + picture[j, i + 1] * u) * (1 - v) + (
        picture[j + 1, i] * (1 - u) + picture[j + 1, i + 1] * u) * v


@numba.njit(cache=True)  # type: ignore[misc]
def _sample(picture: F32, pixels: F64, out: F32) -> None:
    for k in range(len(out)):
        out[k] = _bilinear(picture, pixels[k, 0], pixels[k, 1])


@numba.njit(cache=True, error_model="numpy", fastmath=True)  # type: ignore[misc]
def compared(
    picture: F32, at: F64, look: F32, turn: F64, place: F64, focal: float, cx: float, cy: float, gain: float, width: float,
    a: F64, b: F64, off: F32, weight: F32,
) -> float:  # fmt: skip
    """One step's normal equations: how the picture differs from what places look like, and how a pose changes that.

    Parameters
    ----------
    at : (n, 3), look : (n,) what they should look like, times `gain`. focal, cx, cy : of this level's pixels.
    width : residuals beyond this count for nothing (Tukey).
    a : (6, 6), b : (6,) filled: unknowns are a turn about the form's own origin before the camera (radians) and a shift.
    off, weight : (n,) filled.

    Returns
    -------
    Mean of the weighted squared residuals.
    """
    a[:] = 0.0
    b[:] = 0.0
    j = np.empty(6)
    total = used = 0.0
    for k in range(at.shape[0]):
        rx = turn[0, 0] * at[k, 0] + turn[0, 1] * at[k, 1] + turn[0, 2] * at[k, 2]
        ry = turn[1, 0] * at[k, 0] + turn[1, 1] * at[k, 1] + turn[1, 2] * at[k, 2]
        rz = turn[2, 0] * at[k, 0] + turn[2, 1] * at[k, 1] + turn[2, 2] * at[k, 2]
        x, y, z = rx + place[0], ry + place[1], rz + place[2]
        if z <= 1e-6:
            weight[k] = 0.0
            continue
        px, py = x / z * focal + cx, y / z * focal + cy
        value = _bilinear(picture, px, py)
        gx = 0.5 * (_bilinear(picture, px + 1, py) - _bilinear(picture, px - 1, py))
        gy = 0.5 * (_bilinear(picture, px, py + 1) - _bilinear(picture, px, py - 1))
        r = value - gain * look[k]
        off[k] = r
        s = r / width
        w = (1 - s * s) ** 2 if abs(s) < 1 else 0.0
        weight[k] = w
        if w == 0.0:
            continue
        # How the pixel moves with the place before the camera, and that with turn and shift.
        ux, uz = focal / z, -focal * x / (z * z)
        vy, vz = focal / z, -focal * y / (z * z)
        dx, dy, dz = gx * ux, gy * vy, gx * uz + gy * vz
        j[0] = dz * ry - dy * rz
        j[1] = dx * rz - dz * rx
        j[2] = dy * rx - dx * ry
        j[3], j[4], j[5] = dx, dy, dz
        for p in range(6):
            b[p] -= w * j[p] * r
            for q in range(p, 6):
                a[p, q] += w * j[p] * j[q]
        total += w * r * r
        used += w
    for p in range(6):
        for q in range(p):
            a[p, q] = a[q, p]
    return total / max(used, 1e-9)
