"""Stretches of a clip that nothing seen ties together: a flash, a whip of the camera or a hand on the lens lies between."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from plonket.base.conventions import F64
from plonket.base.errors import Degenerate
from plonket.base.progress import Work
from plonket.media.gyroscope import Gyroscope
from plonket.media.sequence import spoken
from plonket.track.camera.details import Details
from plonket.track.camera.gyro import FittedGyroscope, fit_gyroscope
from plonket.track.camera.solve import LEAST_SEEN, SolveOptions, SolveResult, solve

LEAST_FRAMES = 3


def stretches(details: Details) -> list[NDArray[np.int64]]:
    """The frames that show enough, in stretches: from one to the next go fewer details than a frame needs."""
    frames = np.flatnonzero(details.seen.sum(axis=0) >= LEAST_SEEN)
    if len(frames) < 2:
        return [frames]
    seen = details.seen[details.seen.any(axis=1)]
    first, last = seen.argmax(axis=1), seen.shape[1] - 1 - seen[:, ::-1].argmax(axis=1)
    bridging = np.array([((first <= a) & (last >= b)).sum() for a, b in zip(frames, frames[1:], strict=False)])
    return np.split(frames, np.flatnonzero(bridging < LEAST_SEEN) + 1)


def solve_stretches(
    details: Details, size: tuple[int, int], asked: SolveOptions, *, given: NDArray[np.bool_], record: Gyroscope | None,
    work: Work,
) -> SolveResult:  # fmt: skip
    """Solve what is seen, as `solve` does; of several stretches the longest.

    The others of a camera that only turns join it by what its gyroscope recorded; else they are left out, which is said.
    Raises what `solve` raises.
    """
    runs = sorted(stretches(details), key=len, reverse=True)
    if len(runs) == 1:
        return solve(details, size, asked, given=given, work=work)
    out = solve(_only(details, runs[0]), size, asked, given=given, work=work)
    lost = [run for run in runs[1:] if len(run)]
    if record is not None and out.kind == "rotation-only" and not out.locked:
        fitted = fit_gyroscope(record, out.bundle.frames, np.swapaxes(out.bundle.rotation, 1, 2))
        still: list[NDArray[np.int64]] = []
        for run in lost:
            more = _joined(out, details, run, size, asked, given, fitted)
            if more is None:
                still.append(run)
            else:
                out = more
        lost = still
    if lost:
        out = replace(out, warnings=(*out.warnings, _told(lost, record)))
    return out


def _only(details: Details, frames: NDArray[np.int64]) -> Details:
    inside = np.zeros(details.frames, bool)
    inside[frames] = True
    return Details(xy=details.xy, seen=details.seen & inside)


def _joined(
    out: SolveResult, details: Details, run: NDArray[np.int64], size: tuple[int, int], asked: SolveOptions,
    given: NDArray[np.bool_], fitted: FittedGyroscope | None,
) -> SolveResult | None:  # fmt: skip
    """The solve with one more stretch, solved by itself and turned to where the gyroscope says that it begins."""
    if fitted is None or len(run) < LEAST_FRAMES:
        return None
    lens = replace(asked, focal=float(out.bundle.focal), zoom=False)
    own = _only(details, run)
    try:
        solved = solve(own, size, lens, given=given)
    except Degenerate:
        return None
    if solved.kind != "rotation-only":
        return None
    a, b = out.bundle, solved.bundle
    # The two frames that lie nearest to each other across the gap.
    i = int(np.abs(a.frames - b.frames[0]).argmin()) if b.frames[0] > a.frames[0] else 0
    k = 0 if b.frames[0] > a.frames[0] else len(b.frames) - 1
    turned = fitted.turned(int(a.frames[i]), int(b.frames[k]))
    if turned is None:
        return None
    # Row by row: camera from world. The other world is turned on to this one.
    here_from_there = a.rotation[i].T @ turned @ b.rotation[k]
    rotation = np.concatenate([a.rotation, b.rotation @ here_from_there.T])
    frames = np.concatenate([a.frames, b.frames])
    order = np.argsort(frames, kind="stable")
    mine = np.asarray(own.seen.any(axis=1))
    bundle = replace(
        a, frames=frames[order], rotation=rotation[order], shift=np.zeros((len(frames), 3)),
        zoom=np.concatenate([a.zoom, np.full(len(b.frames), float(np.log(b.focal / a.focal)))])[order],
        points=np.where(mine[:, None], b.points @ here_from_there.T, a.points),
    )  # fmt: skip
    return replace(
        out, bundle=bundle, kept=np.where(mine, solved.kept, out.kept), error=np.where(mine, solved.error, out.error)
    )


def _told(lost: list[NDArray[np.int64]], record: Gyroscope | None) -> str:
    spans = spoken(sorted(int(frame) for run in lost for frame in run))
    help_ = "" if record is None else " What the camera's gyroscope recorded does not tie them either."
    return (
        f"Nothing that is seen ties the frames {spans} to the others, so they are left out.{help_} Measure them as a shot of "
        "their own, or set points by hand that are seen on both sides."
    )


def turns_recorded(record: Gyroscope | None, at: NDArray[np.int64], turn: F64, wanted: range) -> tuple[F64, NDArray[np.bool_]]:
    """Turns of a camera on frames that were not solved, by what its gyroscope recorded.

    Parameters
    ----------
    at : (k,) rising, the frames that were solved, and `turn` (k, 3, 3), world from camera, on those. wanted : frames to tell.

    Returns
    -------
    (wanted, 3, 3) and (wanted,) bool whether it is told there. Between two solved frames what is off is spread over time.
    """
    out, told = np.tile(np.eye(3), (len(wanted), 1, 1)), np.zeros(len(wanted), bool)
    missing = sorted(set(wanted) - set(at.tolist()))
    fitted = fit_gyroscope(record, at, turn) if record is not None and missing else None
    if fitted is None:
        return out, told
    for frame in missing:
        after = int(np.searchsorted(at, frame))
        known = [k for k in (after - 1, after) if 0 <= k < len(at)]
        guesses = []
        for k in known:
            step = fitted.turned(int(at[k]), frame)
            if step is not None:
                guesses.append((abs(int(at[k]) - frame), turn[k] @ step))
        if not guesses:
            continue
        out[frame - wanted.start], told[frame - wanted.start] = _between(guesses), True
    return out, told


def _between(guesses: list[tuple[int, F64]]) -> F64:
    """One turn, or of two the one between them, nearer to the one that comes from nearer by."""
    if len(guesses) == 1:
        return guesses[0][1]
    (far_a, a), (far_b, b) = guesses
    off = Rotation.from_matrix(a.T @ b).as_rotvec()
    return np.asarray(a @ Rotation.from_rotvec(off * far_a / (far_a + far_b)).as_matrix())
