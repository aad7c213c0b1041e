"""Bundle adjustment: cameras, lens and points made to agree with what was seen."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import scipy.linalg
from numpy.typing import NDArray

from plonket.base.conventions import F64
from plonket.base.progress import Work
from plonket.track.camera.bundle_kernels import CAMERA, SHARED, back_substitute, cost_of, eliminate, inverted, normal_equations

LENS = ("focal", "k1", "k2", "readout")
"""What all frames share, in the order of `Bundle.shared`: log of the focal length, distortion, read-out time."""
PARTS = 4
"""Points are shared out to so many accumulators, so that two cores work without waiting for each other."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Observations:
    """What was seen, sorted by point.

    Attributes
    ----------
    camera, point : (n,) int64 indices. xy : (n, 2) pixels relative to the principal point. row : (n,) place in the
        picture's height in [-0.5, 0.5], for the read-out. weight : (n,) how much each counts.
    """

    camera: NDArray[np.int64]
    point: NDArray[np.int64]
    xy: F64
    row: F64
    weight: F64

    def only(self, keep: NDArray[np.bool_]) -> Observations:
        return Observations(camera=self.camera[keep], point=self.point[keep], xy=self.xy[keep], row=self.row[keep],
                    weight=self.weight[keep])  # fmt: skip

    def __len__(self) -> int:
        return len(self.camera)


@dataclass(slots=True, kw_only=True)
class Bundle:
    """Cameras, lens and points.

    Attributes
    ----------
    rotation : (cameras, 3, 3), shift : (cameras, 3): X_camera = R X + t with x right, y down, z forward.
    frames : (cameras,) the frame of each.
    zoom : (cameras,) log of each frame's focal length over the shared one.
    shared : (4,) see `LENS`; the read-out is a share of the time between frames.
    points : (points, 3).
    """

    frames: NDArray[np.int64]
    rotation: F64
    shift: F64
    zoom: F64
    shared: F64
    points: F64

    def copy(self) -> Bundle:
        return replace(self, rotation=self.rotation.copy(), shift=self.shift.copy(), zoom=self.zoom.copy(),
                       shared=self.shared.copy(), points=self.points.copy())  # fmt: skip

    @property
    def focal(self) -> float:
        return float(np.exp(self.shared[0]))

    def speeds(self) -> F64:
        """(cameras, 6): turn and shift per frame from each frame's neighbours, for the read-out."""
        n = len(self.rotation)
        out = np.zeros((n, 6))
        if n < 2:
            return out
        before, after = np.maximum(np.arange(n) - 1, 0), np.minimum(np.arange(n) + 1, n - 1)
        span = (self.frames[after] - self.frames[before]).astype(np.float64)
        turn = self.rotation[after] @ np.swapaxes(self.rotation[before], 1, 2)
        out[:, :3] = rotation_vectors(turn) / span[:, None]
        out[:, 3:] = (self.shift[after] - self.shift[before]) / span[:, None]
        return out


@dataclass(frozen=True, slots=True, kw_only=True)
class FreeParameters:
    """What may change.

    Attributes
    ----------
    lens : names of `LENS` that may. turns, shifts, points : whether cameras turn and shift, and points move.
    zoom : whether each frame has a focal length of its own; its changes are then kept smooth.
    """

    lens: frozenset[str] = frozenset()
    turns: bool = True
    shifts: bool = True
    zoom: bool = False
    points: bool = True


ZOOM_STIFFNESS = 3e3
"""Weight of a change of zoom speed from frame to frame against squared pixels."""
LENS_PULL = {"k1": 20.0, "k2": 20.0, "readout": 50.0}
"""Weak pulls towards a plain lens, so that what the clip does not tell stays at nought."""


def adjust(
    bundle: Bundle, seen: Observations, free: FreeParameters, *, width_px: float, rounds: int = 30, tolerance: float = 1e-5,
    work: Work | None = None,
) -> tuple[Bundle, float]:
    """Least squares over everything with a robust loss; the bundle that fits best and its cost.

    Parameters
    ----------
    width_px : residual at which the loss bends from square to logarithm (Cauchy).
    rounds : steps at the most; it ends sooner when one brings less than the share `tolerance`.

    Returns
    -------
    (Bundle, float): the first camera stays where it was; cost is half the robust sum in squared pixels.

    Notes
    -----
    Levenberg-Marquardt; points are eliminated first (Schur complement), which leaves six unknowns a camera.
    Source: B. Triggs, P. McLauchlan, R. Hartley, A. Fitzgibbon, *Bundle adjustment: a modern synthesis*, 2000,
    doi:10.1007/3-540-44480-7_21.
    """
    work = work or Work()
    now = bundle.copy()
    starts = point_starts(seen, len(now.points))
    speeds = now.speeds() if "readout" in free.lens or now.shared[3] else np.zeros((len(now.rotation), 6))
    cost = _cost(now, seen, speeds, width_px, free)
    damping = 1e-4
    for _ in range(rounds):
        work.check_cancelled()
        system = _system(now, seen, starts, speeds, width_px, free)
        better = False
        for _ in range(8):
            step = _solve(system, now, seen, starts, damping, free)
            if step is not None:
                candidate = _moved(now, step, free)
                new = _cost(candidate, seen, speeds, width_px, free)
                if np.isfinite(new) and new < cost:
                    better = True
                    break
            damping *= 8
        if not better:
            break
        gain = (cost - new) / max(cost, 1e-12)
        now, cost = candidate, new
        damping = max(damping / 6, 1e-9)
        if gain < tolerance:
            break
    return now, cost


def residuals(bundle: Bundle, seen: Observations) -> F64:
    """(n, 2) pixels from what was seen to where the bundle puts it; nan behind the camera."""
    out = np.empty((len(seen), 2))
    speeds = bundle.speeds() if bundle.shared[3] else np.zeros((len(bundle.rotation), 6))
    cost_of(bundle.rotation, bundle.shift, bundle.zoom, bundle.shared, bundle.points, speeds,
            seen.camera, seen.point, seen.xy, seen.row, seen.weight, 1.0, out)  # fmt: skip
    return out


def point_starts(seen: Observations, points: int) -> NDArray[np.int64]:
    """(points + 1,) where each point's sightings start; `seen` is sorted by point."""
    return np.searchsorted(seen.point, np.arange(points + 1)).astype(np.int64)


def focal_doubt(bundle: Bundle, seen: Observations, free: FreeParameters, *, width_px: float) -> float:
    """Standard error of the focal length as a share of it, from the residuals and the normal equations."""
    starts = point_starts(seen, len(bundle.points))
    speeds = bundle.speeds() if bundle.shared[3] else np.zeros((len(bundle.rotation), 6))
    system = _system(bundle, seen, starts, speeds, width_px, free)
    reduced, _, mask, _ = _reduced(system, bundle, starts, 1e-9, free, seen)
    at = len(bundle.rotation) * CAMERA
    if not mask[at]:
        return 0.0
    unit = np.zeros(len(mask))
    unit[at] = 1.0
    try:
        doubt = scipy.linalg.solve(reduced, unit[mask], assume_a="pos") @ unit[mask]
    except np.linalg.LinAlgError:
        return float("inf")
    r = residuals(bundle, seen)
    r = r[np.isfinite(r).all(axis=1)]
    sd = 1.4826 * float(np.median(np.abs(r))) if len(r) else 0.0
    return float(np.sqrt(max(float(doubt), 0.0)) * sd)


@dataclass(frozen=True, slots=True)
class _System:
    camera: F64
    camera_shared: F64
    shared: F64
    camera_right: F64
    shared_right: F64
    point: F64
    point_right: F64
    cross: F64


def _system(
    now: Bundle, seen: Observations, starts: NDArray[np.int64], speeds: F64, width_px: float, free: FreeParameters
) -> _System:
    n, m = len(now.rotation), len(now.points)
    out = _System(
        np.zeros((PARTS, n, CAMERA, CAMERA)), np.zeros((PARTS, n, CAMERA, SHARED)), np.zeros((PARTS, SHARED, SHARED)),
        np.zeros((PARTS, n, CAMERA)), np.zeros((PARTS, SHARED)), np.zeros((m, 3, 3)), np.zeros((m, 3)),
        np.zeros((len(seen), CAMERA + SHARED, 3)),
    )  # fmt: skip
    normal_equations(now.rotation, now.shift, now.zoom, now.shared, now.points, speeds, starts, seen.camera, seen.xy,
                     seen.row, seen.weight, width_px, out.camera, out.camera_shared, out.shared, out.camera_right,
                     out.shared_right, out.point, out.point_right, out.cross)  # fmt: skip
    return _System(out.camera.sum(0), out.camera_shared.sum(0), out.shared.sum(0), out.camera_right.sum(0),
                   out.shared_right.sum(0), out.point, out.point_right, out.cross)  # fmt: skip


def _free_mask(n: int, free: FreeParameters) -> NDArray[np.bool_]:
    camera = np.zeros((n, CAMERA), bool)
    camera[1:, :3], camera[1:, 3:6] = free.turns, free.shifts
    camera[:, 6] = free.zoom
    shared = np.array([name in free.lens for name in LENS])
    if free.zoom:
        shared[0] = False
    return np.concatenate([camera.ravel(), shared])


def _reduced(
    system: _System, now: Bundle, starts: NDArray[np.int64], damping: float, free: FreeParameters, seen: Observations
) -> Any:
    n = len(now.rotation)
    size = n * CAMERA + SHARED
    inverse = _point_inverse(system, damping) if free.points else np.zeros_like(system.point)
    s = np.zeros((size, size))
    blocks = s[: n * CAMERA, : n * CAMERA].reshape(n, CAMERA, n, CAMERA)
    k = np.arange(n)
    blocks[k, :, k, :] = system.camera
    s[: n * CAMERA, n * CAMERA :] = system.camera_shared.reshape(n * CAMERA, SHARED)
    s[n * CAMERA :, : n * CAMERA] = s[: n * CAMERA, n * CAMERA :].T
    s[n * CAMERA :, n * CAMERA :] = system.shared
    right = np.concatenate([system.camera_right.ravel(), system.shared_right])
    _add_priors(s, right, now, free)
    s[np.arange(size), np.arange(size)] *= 1 + damping
    if free.points:
        parts, rights = np.zeros((2, size, size)), np.zeros((2, size))
        eliminate(starts, seen.camera, system.cross, inverse, system.point_right, parts, rights, n)
        taken = np.triu(parts[0] + parts[1])
        s -= taken
        s -= np.triu(taken, 1).T
        right = right - rights[0] - rights[1]
    mask = _free_mask(n, free)
    if not mask.all():
        s, right = s[np.ix_(mask, mask)], right[mask]
    s[np.arange(len(s)), np.arange(len(s))] += 1e-9
    return s, right, mask, inverse


def _add_priors(s: F64, right: F64, now: Bundle, free: FreeParameters) -> None:
    at = len(now.rotation) * CAMERA
    for k, name in enumerate(LENS):
        if name in LENS_PULL and name in free.lens:
            s[at + k, at + k] += LENS_PULL[name]
            right[at + k] -= LENS_PULL[name] * now.shared[k]
    if free.zoom:
        n = len(now.zoom)
        d = np.diff(np.eye(n), n=2, axis=0) if n > 2 else np.zeros((0, n))
        stiff = ZOOM_STIFFNESS * d.T @ d * now.focal**2 / 1e4
        rows = np.arange(n) * CAMERA + 6
        s[np.ix_(rows, rows)] += stiff
        right[rows] -= stiff @ now.zoom


def _prior_cost(now: Bundle, free: FreeParameters) -> float:
    out = 0.0
    for k, name in enumerate(LENS):
        if name in LENS_PULL and name in free.lens:
            out += 0.5 * LENS_PULL[name] * float(now.shared[k]) ** 2
    if free.zoom and len(now.zoom) > 2:
        out += 0.5 * ZOOM_STIFFNESS * now.focal**2 / 1e4 * float((np.diff(now.zoom, n=2) ** 2).sum())
    return out


def _point_inverse(system: _System, damping: float) -> F64:
    out = np.empty_like(system.point)
    inverted(system.point, damping, out)
    return out


def _solve(
    system: _System, now: Bundle, seen: Observations, starts: NDArray[np.int64], damping: float, free: FreeParameters
) -> tuple[F64, F64] | None:
    s, right, mask, inverse = _reduced(system, now, starts, damping, free, seen)
    delta = np.zeros(len(mask))
    try:
        factor = scipy.linalg.cho_factor(s, lower=True, overwrite_a=True, check_finite=False)
        delta[mask] = scipy.linalg.cho_solve(factor, right, check_finite=False)
    except (np.linalg.LinAlgError, ValueError):
        return None
    if not np.isfinite(delta).all():
        return None
    moved = np.zeros((len(now.points), 3))
    if free.points:
        back_substitute(starts, seen.camera, system.cross, inverse, system.point_right, delta, len(now.rotation), moved)
    return delta, moved


def _moved(now: Bundle, step: tuple[F64, F64], free: FreeParameters) -> Bundle:
    delta, moved = step
    n = len(now.rotation)
    camera = delta[: n * CAMERA].reshape(n, CAMERA)
    return Bundle(
        frames=now.frames, rotation=rotations(camera[:, :3]) @ now.rotation, shift=now.shift + camera[:, 3:6],
        zoom=now.zoom + camera[:, 6], shared=now.shared + delta[n * CAMERA :], points=now.points + moved,
    )  # fmt: skip


def _cost(now: Bundle, seen: Observations, speeds: F64, width_px: float, free: FreeParameters) -> float:
    out = np.empty((len(seen), 2))
    return float(cost_of(now.rotation, now.shift, now.zoom, now.shared, now.points, speeds, seen.camera, seen.point,
                         seen.xy, seen.row, seen.weight, width_px, out)) + _prior_cost(now, free)  # fmt: skip


def rotations(vectors: F64) -> F64:
    """Rotation vectors (n, 3) to matrices (n, 3, 3) (Rodrigues' formula)."""
    angle = np.linalg.norm(vectors, axis=1)[:, None, None]
    small = np.maximum(angle, 1e-12)
    k = np.zeros((len(vectors), 3, 3))
    x, y, z = vectors.T
    k[:, 0, 1], k[:, 0, 2], k[:, 1, 2] = -z, y, -x
    k[:, 1, 0], k[:, 2, 0], k[:, 2, 1] = z, -y, x
    half = np.where(angle > 1e-6, (1 - np.cos(angle)) / small**2, 0.5)
    return np.asarray(np.eye(3) + np.sinc(angle / np.pi) * k + half * k @ k)


def rotation_vectors(matrices: F64) -> F64:
    """The opposite of `rotations`, for turns under half a circle; (n, 3)."""
    skew = np.stack(
        [matrices[:, 2, 1] - matrices[:, 1, 2], matrices[:, 0, 2] - matrices[:, 2, 0],
         matrices[:, 1, 0] - matrices[:, 0, 1]], axis=1) / 2  # fmt: skip
    sine = np.linalg.norm(skew, axis=1)
    cosine = (np.trace(matrices, axis1=1, axis2=2) - 1) / 2
    angle = np.arctan2(sine, cosine)
    return np.asarray(skew * np.where(sine > 1e-12, angle / np.maximum(sine, 1e-12), 1.0)[:, None])
