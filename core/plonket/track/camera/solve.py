"""Structure from motion: details to camera, lens and points."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation, Slerp

from plonket.base.conventions import F64
from plonket.base.errors import Degenerate
from plonket.base.progress import Work
from plonket.track.camera.bundle import Bundle, FreeParameters, adjust, focal_doubt, residuals
from plonket.track.camera.details import Details
from plonket.track.camera.fit import NARROW_PX, classify_inliers, loss_width, noise_of, with_distortion, with_rolling_shutter
from plonket.track.camera.initialise import KEYFRAMES, LEAST_ANGLE, RotationOnly, evenly, solve_turns, start_full
from plonket.track.camera.scene import sightings, tolerance, triangulated

Kind = Literal["full", "rotation-only"]

MOST_CAMERAS = 160
"""Frames adjusted all together; those between them follow."""
MOST_POINTS = 600
LEAST_SEEN = 8
"""Solved details a frame must show to be placed."""
LOCKED_PX = 0.35
"""Details of a locked camera stay within so much, for the most part."""
NEARLY_LOCKED = 0.002
"""Of the picture's longer side: a camera on a stand that gives way a little."""
STANDING_SHARE, STANDING_FIELDS = 0.3, 6
"""Of the fields (a sixth by an eighth of the picture) that show lasting details, so many and so large a share show ones that
stand still where the camera does, whatever drives through the rest."""
TURNS_PX = 0.35
"""Residual up to which turns alone explain a clip, whatever else may."""
WIDE_PX = 2.0
LASTING = 0.6
"""Share of all frames in which a detail that stands is seen."""
LONG_ENOUGH = 14
"""Frames over which a hand gives itself away."""
SMALL_SAMPLE = 24


@dataclass(frozen=True, slots=True, kw_only=True)
class SolveResult:
    """A solve in the solver's own frame (x right, y down, z forward).

    Attributes
    ----------
    bundle : one camera for each of `bundle.frames`; points for every detail.
    kept : (details,) bool that belong to the room. error : (details,) RMS in pixels of each.
    angle : (details,) widest angle between two of its rays, radians.
    kind : full, or turns alone. locked : nothing moves at all. noise : pixels a sighting is off, for the most part.
    focal_doubt : standard error of the focal length as a share of it; 0 when it was given.
    """

    bundle: Bundle
    kept: NDArray[np.bool_]
    error: F64
    angle: F64
    kind: Kind
    locked: bool
    noise: float
    focal_doubt: float
    warnings: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class SolveOptions:
    """What is known or wanted of the lens.

    Attributes
    ----------
    focal : pixels, or None when unknown. exact : the focal length given is not to be touched.
    zoom : the focal length may change through the clip. distortion, readout : may be estimated.
    """

    focal: float | None = None
    zoom: bool = False
    distortion: bool = True
    readout: bool = True


def solve(
    details: Details, size: tuple[int, int], asked: SolveOptions, *, given: NDArray[np.bool_] | None = None,
    work: Work | None = None,
) -> SolveResult:
    """Solve a camera from details.

    Parameters
    ----------
    given : (details,) bool, those put by hand: they count ten times and are never set aside.

    Raises
    ------
    Degenerate
        Too little detail, or frames that nothing connects; the message says what to try.
    """
    work = work or Work()
    weight = np.ones(len(details.xy)) if given is None else np.where(given, 10.0, 1.0)
    frames = np.flatnonzero(details.seen.sum(axis=0) >= LEAST_SEEN)
    if len(frames) < 2 or len(details.xy) < LEAST_SEEN:
        raise Degenerate(
            "camera.detail",
            "There is too little detail to solve a camera from. Lower the strength asked of details, take away masks "
            "that hide the set, or film a set with more marks on it.",
        )
    # Stages are reported as shares of the whole.
    work.progress(0, 100)
    sample = evenly(frames, SMALL_SAMPLE)
    turned = solve_turns(details, sample, size, asked.focal)
    work.check_cancelled()
    work.progress(15, 100)
    standing = standing_details(details, frames, size)
    if standing is not None:
        set_only = replace(details, seen=details.seen & standing[:, None])
        kept_frames = np.flatnonzero(set_only.seen.sum(axis=0) >= LEAST_SEEN)
        if len(kept_frames) >= 2:
            turned = solve_turns(set_only, evenly(kept_frames, SMALL_SAMPLE), size, asked.focal or float(max(size)))
            locked = _still(set_only, kept_frames)
            return _by_turns(set_only, kept_frames, size, asked, turned, weight, locked=locked, stands=True)
    full = None
    if turned.error > 0.08:
        key = evenly(frames, KEYFRAMES)
        at = np.searchsorted(sample, key)
        at = np.clip(at, 0, len(sample) - 1)
        key = sample[at]
        inside = replace(turned, parallax=turned.parallax[np.ix_(at, at)])
        full = start_full(details, key, size, asked.focal, inside)
    work.check_cancelled()
    work.progress(40, 100)
    if full is not None:
        out = _whole(details, frames, size, asked, full[0], weight, work)
        # A full solve always fits a little better; it must fit clearly better, and see the set from several sides.
        sides = float(np.degrees(np.median(out.angle[out.kept]))) if out.kept.any() else 0.0
        if turned.error > max(TURNS_PX, 1.8 * out.noise) and sides > 0.5:
            return out
    if turned.error > 3.0:
        raise Degenerate(
            "camera.unsolved",
            "What moves here fits neither one room nor a camera that only turns. Mask what moves by itself, "
            "give the focal length if you know it, or measure a shorter range.",
        )
    return _by_turns(details, frames, size, asked, turned, weight, locked=False)


def solve_given(
    details: Details, size: tuple[int, int], asked: SolveOptions, *, least: int, work: Work | None = None
) -> SolveResult:
    """Solve from a few points that are known to be rigid, of which a frame must show `least` to be placed.

    Raises
    ------
    Degenerate
        Movement that no rigid thing makes, or frames that nothing connects.
    """
    work = work or Work()
    frames = np.flatnonzero(details.seen.sum(axis=0) >= least)
    full = None
    if len(frames) >= 3:
        key = evenly(frames, KEYFRAMES)
        turned = solve_turns(details, key, size, asked.focal, least)
        work.check_cancelled()
        full = start_full(details, key, size, asked.focal, turned, least)
    if full is None:
        raise Degenerate(
            "object.unsolved",
            "These points do not move as those of one rigid thing that turns. Follow more of them, further apart and not all "
            "on one surface, or give the focal length.",
        )
    out = _whole(details, frames, size, asked, full[0], np.ones(len(details.xy)), work)
    if out.kept.sum() < least or out.noise > 3.0:
        raise Degenerate(
            "object.unsolved", "These points do not stay in place on one rigid thing. Check how they are followed."
        )
    return replace(out, warnings=tuple(w for w in out.warnings if "details belong" not in w))


def standing_details(details: Details, frames: NDArray[np.int64], size: tuple[int, int]) -> NDArray[np.bool_] | None:
    """(details,) bool those that stand (nearly) still in `frames`, where they are the set's; None: the camera moves."""
    whole = int(frames[-1] - frames[0]) + 1
    long = np.flatnonzero(details.seen[:, frames].sum(axis=1) >= max(3, LASTING * whole))
    if len(long) < LEAST_SEEN:
        return None
    middle, off = _wander(details, frames, long)
    field = np.clip(middle * np.array([8, 6]) / np.array(size), 0, [7, 5]).astype(int) @ np.array([1, 8])
    # A hand that is held still goes no further in so short a time.
    still = off < max(LOCKED_PX, NEARLY_LOCKED * max(size) * min(1.0, whole / LONG_ENOUGH))
    standing, every = len(np.unique(field[still])), len(np.unique(field))
    if standing < STANDING_FIELDS or standing < STANDING_SHARE * every:
        return None
    out = np.zeros(len(details.xy), bool)
    out[long[still]] = True
    return out


def _wander(details: Details, frames: NDArray[np.int64], which: NDArray[np.int64]) -> tuple[F64, F64]:
    """Where details are in the middle (k, 2), and how far from there they are for a tenth of their time (k,)."""
    xy = np.where(details.seen[..., None], details.xy, np.nan)[:, frames][which]
    middle = np.nanmedian(xy, axis=1, keepdims=True)
    off = np.linalg.norm(xy - middle, axis=2)
    return middle[:, 0], np.nanpercentile(off, 90, axis=1)


def _still(details: Details, frames: NDArray[np.int64]) -> bool:
    """Whether most details do not move at all."""
    long = np.flatnonzero(details.seen[:, frames].sum(axis=1) >= max(3, len(frames) // 3))
    return len(long) >= LEAST_SEEN and bool(np.median(_wander(details, frames, long)[1]) < LOCKED_PX)


def _by_turns(
    details: Details, frames: NDArray[np.int64], size: tuple[int, int], asked: SolveOptions, turned: RotationOnly,
    weight: F64, *,
    locked: bool, stands: bool = False,
) -> SolveResult:  # fmt: skip
    """`stands`: it hardly moves, so that nothing can be said of the lens."""
    cameras = evenly(frames, MOST_CAMERAS)
    seen = sightings(details.xy, details.seen, cameras, size, weight)
    bundle = _between(turned.bundle, cameras)
    unknown = not asked.focal and not stands
    free = FreeParameters(lens=frozenset({"focal"} if unknown else ()), shifts=False, zoom=asked.zoom and not locked)
    bundle.points = turned.bundle.points
    warnings = []
    if locked:
        bundle.rotation[:] = np.eye(3)
        first = np.array([details.xy[p, np.flatnonzero(details.seen[p])].mean(axis=0) for p in range(len(details.xy))])
        rays = np.column_stack([(first - np.array(size) / 2) / bundle.focal, np.ones(len(first))])
        bundle.points = rays / np.linalg.norm(rays, axis=1, keepdims=True)
        warnings.append("The camera stands still. Everything stays in place by itself; the lens cannot be told.")
    else:
        bundle, _ = adjust(bundle, seen, free, width_px=WIDE_PX, rounds=20)
        kept, _ = classify_inliers(bundle, seen, len(details.xy), noise_of(bundle, seen))
        used = seen.only(kept[seen.point])
        if asked.distortion and unknown:
            bundle = with_distortion(bundle, used, free, size)
        bundle, _ = adjust(bundle, used, free, width_px=NARROW_PX, rounds=20)
    if stands and not locked:
        warnings.append("The camera stands nearly still: it gives way by a pixel or so. The lens cannot be told.")
    elif not locked:
        warnings.append(
            "The camera only turns: the set is seen from one spot, so how far things are cannot be told. "
            "What is placed stays put; to solve the room, film with the camera moving sideways."
        )
    noise = noise_of(bundle, seen)
    kept, error = classify_inliers(bundle, seen, len(details.xy), noise)
    doubt = 0.0 if asked.focal or stands else focal_doubt(bundle, seen.only(kept[seen.point]), free, width_px=NARROW_PX)
    if doubt > 0.03:
        warnings.append(_doubtful(doubt))
    bundle = _all_frames(bundle, details, frames, size, weight, kept, shifts=False) if not locked else _between(bundle, frames)
    return SolveResult(bundle=bundle, kept=kept, error=error, angle=np.zeros(len(details.xy)), kind="rotation-only",
                  locked=locked, noise=noise, focal_doubt=doubt, warnings=tuple(warnings))  # fmt: skip


def _whole(
    details: Details, frames: NDArray[np.int64], size: tuple[int, int], asked: SolveOptions, start: Bundle, weight: F64,
    work: Work,
) -> SolveResult:
    cameras = evenly(frames, MOST_CAMERAS)
    chosen = _chosen(details, cameras)
    bundle = _between(start, cameras)
    everything = sightings(details.xy, details.seen, cameras, size, weight)
    main = everything.only(chosen[everything.point])
    # The frames between the keyframes first find their places before the points that are known.
    known = _known_points(start, details, size)
    bundle.points = start.points
    fixed = main.only(known[main.point]) if known[main.point].any() else everything.only(known[everything.point])
    for width in (16.0, 6.0, WIDE_PX):
        bundle, _ = adjust(bundle, fixed, FreeParameters(points=False), width_px=width, rounds=15, tolerance=1e-3)
        work.check_cancelled()
    free = FreeParameters(lens=frozenset() if asked.focal else frozenset({"focal"}), zoom=asked.zoom)
    kept = chosen.copy()
    for round_ in range(2):
        points, angle = triangulated(bundle, main, len(details.xy))
        bundle.points = points
        good = chosen & (angle > LEAST_ANGLE)
        used = main.only(good[main.point])
        bundle, _ = adjust(bundle, used, free, width_px=WIDE_PX, rounds=12 if round_ == 0 else 20, tolerance=1e-4, work=work)
        kept, _ = classify_inliers(bundle, used, len(details.xy), noise_of(bundle, used))
        kept &= good
        work.progress(55 + 10 * round_, 100)
    used = main.only(kept[main.point])
    if asked.distortion:
        bundle = with_distortion(bundle, used, free, size)
    work.check_cancelled()
    work.progress(80, 100)
    if asked.readout:
        bundle = with_rolling_shutter(bundle, used, free)
    free = replace(free, lens=free.lens | {name for name, k in (("k1", 1), ("k2", 2)) if bundle.shared[k]})
    # What is off by more than the noise pulls less: details on edges that cross in the picture only lie there.
    bundle, _ = adjust(bundle, used, free, width_px=loss_width(bundle, used), rounds=12, tolerance=1e-4, work=work)
    kept &= classify_inliers(bundle, used, len(details.xy), noise_of(bundle, used), limit_px=0.3)[0]
    used = main.only(kept[main.point])
    bundle, _ = adjust(bundle, used, free, width_px=loss_width(bundle, used), rounds=20, tolerance=1e-5, work=work)
    work.progress(92, 100)
    doubt = 0.0 if asked.focal else focal_doubt(bundle, used, free, width_px=NARROW_PX)
    # All details, those too that had no say: where they lie and whether they belong.
    noise = noise_of(bundle, used)
    points, angle = triangulated(bundle, everything, len(details.xy))
    bundle.points = np.where(kept[:, None], bundle.points, points)
    tolerance(bundle, everything, bundle.points, width_px=WIDE_PX)
    kept, error = classify_inliers(bundle, everything, len(details.xy), noise)
    kept &= angle > LEAST_ANGLE
    warnings = [_doubtful(doubt)] if doubt > 0.02 else []
    if kept.sum() < 30:
        warnings.append(f"Only {int(kept.sum())} details belong to the room. More details or a lower strength may help.")
    bundle = _all_frames(bundle, details, frames, size, weight, kept, shifts=True)
    return SolveResult(bundle=bundle, kept=kept, error=error, angle=angle, kind="full", locked=False, noise=noise,
                  focal_doubt=doubt, warnings=tuple(warnings))  # fmt: skip


def _doubtful(doubt: float) -> str:
    return (
        f"The focal length is uncertain by about {100 * doubt:.0f} %: this move tells little about the lens. "
        "Give it if you know it."
    )


def _chosen(details: Details, cameras: NDArray[np.int64]) -> NDArray[np.bool_]:
    """The details that are adjusted with the cameras: the longest, and on every frame enough of them."""
    length = details.seen[:, cameras].sum(axis=1)
    order = np.argsort(-length, kind="stable")
    out = np.zeros(len(details.xy), bool)
    out[order[:MOST_POINTS]] = True
    out &= length >= 3
    for k in np.flatnonzero(details.seen[out][:, cameras].sum(axis=0) < 60):
        here = order[details.seen[order, cameras[k]] & (length[order] >= 3)]
        out[here[:60]] = True
    return out


def _known_points(start: Bundle, details: Details, size: tuple[int, int]) -> NDArray[np.bool_]:
    seen = sightings(details.xy, details.seen, start.frames, size)
    off = np.linalg.norm(residuals(start, seen), axis=1)
    worst = np.zeros(len(details.xy))
    np.maximum.at(worst, seen.point, np.nan_to_num(off, nan=1e3))
    count = np.bincount(seen.point, minlength=len(details.xy))
    return np.asarray((count >= 2) & (worst < 4.0) & (np.abs(start.points).sum(axis=1) > 0))


def _between(start: Bundle, frames: NDArray[np.int64]) -> Bundle:
    """A bundle over other frames: poses between those that are known (turns on the shortest arc, places in a line)."""
    at = np.clip(frames, start.frames[0], start.frames[-1])
    eyes = -np.einsum("nji,nj->ni", start.rotation, start.shift)
    if len(start.frames) > 1:
        rotation = Slerp(start.frames, Rotation.from_matrix(start.rotation))(at).as_matrix()
    else:
        rotation = np.tile(start.rotation[0], (len(frames), 1, 1))
    eye = np.stack([np.interp(at, start.frames, eyes[:, k]) for k in range(3)], axis=1)
    return Bundle(frames=frames, rotation=rotation, shift=-np.einsum("nij,nj->ni", rotation, eye),
                  zoom=np.interp(at, start.frames, start.zoom), shared=start.shared.copy(),
                  points=start.points.copy())  # fmt: skip


def _all_frames(
    bundle: Bundle, details: Details, frames: NDArray[np.int64], size: tuple[int, int], weight: F64,
    kept: NDArray[np.bool_], *, shifts: bool,
) -> Bundle:  # fmt: skip
    """Frames between those that were adjusted together find their places before the points, which stay."""
    if len(frames) == len(bundle.frames):
        return bundle
    out = _between(bundle, frames)
    for first in range(0, len(frames), MOST_CAMERAS):
        part = frames[first : first + MOST_CAMERAS]
        seen = sightings(details.xy, details.seen, part, size, weight)
        seen = seen.only(kept[seen.point])
        small = _between(bundle, part)
        # The first camera of a bundle stays where it is: a copy of it goes in front.
        small = replace(
            small, frames=np.concatenate([part[:1], part]), rotation=np.concatenate([small.rotation[:1], small.rotation]),
            shift=np.concatenate([small.shift[:1], small.shift]), zoom=np.concatenate([small.zoom[:1], small.zoom]),
        )  # fmt: skip
        seen = replace(seen, camera=seen.camera + 1)
        for width in (8.0, NARROW_PX):
            small, _ = adjust(small, seen, FreeParameters(points=False, shifts=shifts), width_px=width, rounds=15)
        out.rotation[first : first + len(part)] = small.rotation[1:]
        out.shift[first : first + len(part)] = small.shift[1:]
    return out
