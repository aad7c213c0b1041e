"""Where to start: turns alone, then two views far apart, then more views between them."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64
from plonket.track.camera.bundle import Bundle, FreeParameters, Observations, adjust, residuals
from plonket.track.camera.details import Details
from plonket.track.camera.scene import sightings, triangulated

FOCAL_GUESSES = (0.72, 1.0, 1.5)
"""Focal lengths over the picture's longer side from which an unknown one is looked for."""
KEYFRAMES = 12
LEAST_COMMON = 24
"""Details that two frames must share to be compared."""
LEAST_ANGLE = np.radians(0.6)
"""Rays that differ less do not tell how far a point is."""
SAME_LENS = 0.003
"""Focal lengths that differ by less, as a share, are one."""
SAME_COST = 0.03
"""Mean costs that differ by less, as a share, are one."""
WIDE_PX = 4.0
NARROW_PX = 1.0


@dataclass(frozen=True, slots=True, kw_only=True)
class RotationOnly:
    """A solve by turns alone.

    Attributes
    ----------
    bundle : cameras that only turn, over `frames`. error : median residual in pixels of each sighting.
    parallax : (cameras, cameras) median pixels that turns do not explain between two frames; nan: too little in common.
    """

    bundle: Bundle
    error: float
    parallax: F64


def evenly(frames: NDArray[np.int64], count: int) -> NDArray[np.int64]:
    """At most `count` of the frames (n,), the first and last among them."""
    if len(frames) <= count:
        return frames
    return frames[np.unique(np.round(np.linspace(0, len(frames) - 1, count)).astype(int))]


def solve_turns(
    details: Details, frames: NDArray[np.int64], size: tuple[int, int], focal: float | None, least: int = LEAST_COMMON
) -> RotationOnly:
    """The turns that explain the details best, as if the camera stood on one spot."""
    best: tuple[float, Bundle] | None = None
    seen = sightings(details.xy, details.seen, frames, size)
    for guess in [focal] if focal else [g * max(size) for g in FOCAL_GUESSES]:
        bundle = _chained(details, frames, size, guess)
        free = FreeParameters(lens=frozenset() if focal else frozenset({"focal"}), shifts=False)
        bundle, _ = adjust(bundle, seen, free, width_px=WIDE_PX, rounds=10, tolerance=1e-3)
        bundle, cost = adjust(bundle, seen, free, width_px=NARROW_PX, rounds=12, tolerance=1e-3)
        if best is None or cost < best[0]:
            best = cost, bundle
    assert best is not None
    bundle = best[1]
    off = np.linalg.norm(residuals(bundle, seen), axis=1)
    return RotationOnly(bundle=bundle, error=float(np.nanmedian(off)), parallax=_parallax(bundle, details, frames, size, least))


def _chained(details: Details, frames: NDArray[np.int64], size: tuple[int, int], focal: float) -> Bundle:
    """Turns from frame to frame, robustly; points on the sphere round the camera."""
    centre = np.array(size) / 2
    n = len(frames)
    rotation = np.tile(np.eye(3), (n, 1, 1))
    ways = np.concatenate([(details.xy[:, frames] - centre) / focal, np.ones((len(details.xy), n, 1))], axis=2)
    ways = ways / np.linalg.norm(ways, axis=2, keepdims=True)
    for k in range(1, n):
        common = details.seen[:, frames[k]] & details.seen[:, frames[k - 1]]
        turn = _turn(ways[common, k - 1], ways[common, k]) if common.sum() >= 3 else np.eye(3)
        rotation[k] = turn @ rotation[k - 1]
    points = np.zeros((len(details.xy), 3))
    for p in range(len(points)):
        cameras = np.flatnonzero(details.seen[p, frames])
        if len(cameras):
            points[p] = np.einsum("kji,kj->i", rotation[cameras], ways[p, cameras])
            points[p] /= np.linalg.norm(points[p])
        else:
            points[p] = (0, 0, 1)
    return Bundle(frames=frames, rotation=rotation, shift=np.zeros((n, 3)), zoom=np.zeros(n),
                  shared=np.array([np.log(focal), 0, 0, 0]), points=points)  # fmt: skip


def _turn(a: F64, b: F64) -> F64:
    """The rotation that takes directions (n, 3) to others, robustly (W. Kabsch, 1976, doi:10.1107/S0567739476001873)."""
    weight = np.ones(len(a))
    out = np.eye(3)
    for _ in range(5):
        u, _, vt = np.linalg.svd((b * weight[:, None]).T @ a)
        out = u @ np.diag([1, 1, np.linalg.det(u @ vt)]) @ vt
        off = np.linalg.norm(b - a @ out.T, axis=1)
        weight = 1 / (1 + (off / (2 * np.median(off) + 1e-9)) ** 2)
    return np.asarray(out)


def _parallax(
    bundle: Bundle, details: Details, frames: NDArray[np.int64], size: tuple[int, int], least: int
) -> F64:
    n = len(frames)
    out = np.full((n, n), np.nan)
    f = bundle.focal
    centre = np.array(size) / 2
    for i in range(n):
        for j in range(i + 1, n):
            common = details.seen[:, frames[i]] & details.seen[:, frames[j]]
            if common.sum() < least:
                continue
            a = np.column_stack([(details.xy[common, frames[i]] - centre) / f, np.ones(int(common.sum()))])
            b = (details.xy[common, frames[j]] - centre) / f
            away = a @ (bundle.rotation[j] @ bundle.rotation[i].T).T
            # What is left after turns and a common shift: differences of depth.
            off = (away[:, :2] / away[:, 2:] - b) * f
            out[i, j] = float(np.median(np.linalg.norm(off, axis=1)))
    return out


def start_full(
    details: Details, frames: NDArray[np.int64], size: tuple[int, int], focal: float | None, turned: RotationOnly,
    least: int = LEAST_COMMON,
) -> tuple[Bundle, NDArray[np.bool_], float] | None:
    """Cameras on keyframes and the points between them; the best of several starts.

    Returns
    -------
    (Bundle over `frames`, (points,) bool which are solved, mean robust cost of a sighting), or None.
    """
    best: tuple[Bundle, NDArray[np.bool_], float] | None = None
    for i, j in _pairs(turned, details, frames):
        for guess in [focal] if focal else [g * max(size) for g in FOCAL_GUESSES]:
            found = _grown(details, frames, size, guess, focal is None, i, j, least)
            if found is None:
                continue
            again = best is not None and _is_the_same(found, best)
            if best is None or found[2] < best[2]:
                best = found
            if again:
                # Two that began elsewhere and ended in one place ended where it is best.
                return best
    return best


def _is_the_same(one: tuple[Bundle, NDArray[np.bool_], float], other: tuple[Bundle, NDArray[np.bool_], float]) -> bool:
    """Whether two starts came to the same lens, and explain what is seen equally well."""
    lens = abs(np.log(one[0].focal / other[0].focal)) < SAME_LENS
    return bool(lens and abs(one[2] - other[2]) < SAME_COST * max(one[2], other[2]))


def _pairs(turned: RotationOnly, details: Details, frames: NDArray[np.int64]) -> list[tuple[int, int]]:
    """Pairs of cameras to start from, the most promising first: much parallax, much in common."""
    ranked = []
    for i, j in np.argwhere(np.isfinite(turned.parallax)):
        common = int((details.seen[:, frames[i]] & details.seen[:, frames[j]]).sum())
        ranked.append((turned.parallax[i, j] * min(1.0, common / 120), int(i), int(j)))
    ranked.sort(reverse=True)
    out: list[tuple[int, int]] = []
    for _, i, j in ranked:
        if all(abs(i - a) + abs(j - b) > 2 for a, b in out):
            out.append((i, j))
        if len(out) == 3:
            break
    return out


def _grown(
    details: Details, frames: NDArray[np.int64], size: tuple[int, int], focal: float, free_focal: bool, i: int, j: int,
    least: int,
) -> tuple[Bundle, NDArray[np.bool_], float] | None:
    n, m = len(frames), len(details.xy)
    everything = sightings(details.xy, details.seen, frames, size)
    centre = np.array(size) / 2
    common = details.seen[:, frames[i]] & details.seen[:, frames[j]]
    a, b = ((details.xy[common, frames[k]] - centre) / focal for k in (i, j))
    found, mask = cv2.findEssentialMat(a, b, np.eye(3), cv2.RANSAC, 0.999, 1.0 / focal)
    if found is None or found.shape != (3, 3):
        return None
    count, turn, shift, mask = cv2.recoverPose(found, a, b, np.eye(3), mask=mask)
    if count < least / 2:
        return None
    bundle = Bundle(frames=frames, rotation=np.tile(np.eye(3), (n, 1, 1)), shift=np.zeros((n, 3)), zoom=np.zeros(n),
                    shared=np.array([np.log(focal), 0, 0, 0]), points=np.zeros((m, 3)))  # fmt: skip
    bundle.rotation[j], bundle.shift[j] = turn, shift.ravel()
    known = np.zeros(n, bool)
    known[[i, j]] = True
    free = FreeParameters(lens=frozenset({"focal"}) if free_focal else frozenset())
    bundle, solved = _refined(bundle, everything, known, FreeParameters())
    for _ in range(n - 2):
        # The one that sees most of what is solved comes next.
        k = max(np.flatnonzero(~known), key=lambda c: int((details.seen[:, frames[c]] & solved).sum()))
        if not _stand(bundle, details, frames, centre, solved, int(k)):
            return None
        known[k] = True
        bundle, solved = _refined(bundle, everything, known, free if known.sum() >= 3 else FreeParameters())
    if solved.sum() < min(8, least):
        return None
    keep = solved[everything.point]
    used = everything.only(keep)
    bundle, cost = adjust(bundle, used, free, width_px=NARROW_PX, rounds=25)
    # A point that could not be solved counts as wrong by a few pixels.
    missing = float((~keep).sum()) * 0.5 * NARROW_PX**2 * float(np.log1p(9.0))
    return bundle, solved, (cost + missing) / len(everything)


def _refined(
    bundle: Bundle, everything: Observations, known: NDArray[np.bool_], free: FreeParameters
) -> tuple[Bundle, NDArray[np.bool_]]:
    used = everything.only(known[everything.camera])
    points, angle = triangulated(bundle, used, len(bundle.points), width_px=WIDE_PX)
    bundle = Bundle(frames=bundle.frames, rotation=bundle.rotation, shift=bundle.shift, zoom=bundle.zoom,
                    shared=bundle.shared, points=points)  # fmt: skip
    off = np.linalg.norm(residuals(bundle, used), axis=1)
    worst = np.zeros(len(points))
    np.maximum.at(worst, used.point, np.nan_to_num(off, nan=1e3))
    solved = (angle > LEAST_ANGLE) & (worst < 4 * WIDE_PX)
    used = used.only(solved[used.point])
    if len(used) < 16:
        return bundle, solved
    # The first camera of a bundle is the one that stays: bring the numbers of those that are known to the front.
    order = np.flatnonzero(known)
    back = np.full(len(known), -1)
    back[order] = np.arange(len(order))
    small = Bundle(frames=bundle.frames[order], rotation=bundle.rotation[order], shift=bundle.shift[order],
                   zoom=bundle.zoom[order], shared=bundle.shared, points=points)  # fmt: skip
    inside = Observations(camera=back[used.camera], point=used.point, xy=used.xy, row=used.row, weight=used.weight)
    small, _ = adjust(small, inside, free, width_px=WIDE_PX / 2, rounds=8, tolerance=1e-3)
    rotation, shift = bundle.rotation.copy(), bundle.shift.copy()
    rotation[order], shift[order] = small.rotation, small.shift
    return Bundle(frames=bundle.frames, rotation=rotation, shift=shift, zoom=bundle.zoom, shared=small.shared,
                  points=small.points), solved  # fmt: skip


def _stand(
    bundle: Bundle, details: Details, frames: NDArray[np.int64], centre: F64, solved: NDArray[np.bool_], k: int
) -> bool:
    """Put camera `k` where it sees the solved points as it does; False when it cannot be said."""
    at = solved & details.seen[:, frames[k]]
    if at.sum() < 5:
        return False
    f = bundle.focal
    flat = (details.xy[at, frames[k]] - centre) / f
    ok, turn, shift, _ = cv2.solvePnPRansac(
        bundle.points[at], flat, np.eye(3), None, iterationsCount=200, reprojectionError=6.0 / f, flags=cv2.SOLVEPNP_SQPNP
    )
    if not ok:
        return False
    bundle.rotation[k], bundle.shift[k] = cv2.Rodrigues(turn)[0], shift.ravel()
    return True
