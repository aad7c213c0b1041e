"""Measuring a point motion: forward, backward or both, from the frames put right by hand."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from plonket.base.conventions import U8
from plonket.base.errors import BadInput, Degenerate
from plonket.base.states import GIVEN, TRACKED
from plonket.media.clip import Clip
from plonket.track.plane.region_masks import picked_ones
from plonket.track.plans import plan_passes
from plonket.track.points.detail import judge
from plonket.track.points.settings import Direction, PointMotion, TrackPoint
from plonket.track.points.tracker import PointTracker, channel_of
from plonket.track.points.tracks import PointTracks
from plonket.track.request import MeasureRequest


@dataclass(frozen=True, slots=True, kw_only=True)
class Partial:
    """One frame's outcome for all points, as it is measured."""

    frame: int
    tracks: PointTracks


def measure_points(motion: PointMotion, request: MeasureRequest) -> PointTracks:
    """Follow every point of a motion through frames start..stop-1.

    Parameters
    ----------
    request : forward goes from each given frame to the next, backward from each point's first given frame. From an `origin` a
        point without a given frame there starts from its measured position in `previous`.

    Raises
    ------
    BadInput
        No points, a point outside the picture, an empty range.
    Degenerate
        A point given on a flat area, with the nearest good detail in ``details["better"]``.

    Notes
    -----
    A match is refined against the patterns of frames given by hand, so that errors do not add up;
    only when these have changed beyond recognition is a fresh one taken (`adapt`). Confidence also
    falls when the found place, matched back into the reference frame, does not lead home again.
    """
    clip, work, start, stop = request.clip, request.work, request.start, request.end
    if not motion.points:
        raise BadInput("points.none", f"{motion.name} has no points yet. Click on a small, clear detail.")
    if not 0 <= start < stop <= clip.info.frames:
        raise BadInput("points.range", f"The range {start}-{stop - 1} does not lie within the clip.")
    ids, names = tuple(p.id for p in motion.points), tuple(p.name for p in motion.points)
    tracks = _carry_over(request.previous, ids, names, clip.info.frames)
    for k, point in enumerate(motion.points):
        for g in point.given:
            _check_given(clip, motion, point, g.frame, g.x, g.y)
            tracks.xy[k, g.frame] = (g.x, g.y)
            tracks.state[k, g.frame], tracks.confidence[k, g.frame] = GIVEN, 1.0
    walks = _walks(motion, tracks, request.direction, start, stop, request.origin)
    total = sum(len(frames) for frames, _ in walks)
    if total == 0:
        raise BadInput("points.range", "There is nothing to measure in that direction from here.")
    covered = _covered(motion, request)
    done = 0
    for frames, first in walks:
        step = 1 if frames[-1] > frames[0] else -1
        run = PointTracker(motion, clip, tracks, step, first, covered, only_unknown=request.direction == "gap")
        for frame in frames:
            work.check_cancelled()
            run.visit(frame)
            done += 1
            work.partial(Partial(frame=frame, tracks=tracks))
            work.progress(done, total)
    return tracks


def _covered(motion: PointMotion, request: MeasureRequest) -> Callable[[int], U8] | None:
    """What the mattes cover that a motion ignores, of a frame: 8-bit (h, w); None: it ignores none."""
    if not motion.ignored:
        return None
    return lambda frame: picked_ones(motion.ignored, frame, request.clip.info.size, request.context)


def _carry_over(
    previous: PointTracks | None, ids: tuple[str, ...], names: tuple[str, ...], frames: int
) -> PointTracks:
    tracks = PointTracks.empty(ids, names, frames)
    if previous is not None and previous.frames == frames:
        for k, point_id in enumerate(ids):
            if point_id in previous.ids:
                j = previous.ids.index(point_id)
                tracks.xy[k], tracks.confidence[k] = previous.xy[j], previous.confidence[j]
                tracks.state[k] = np.where(previous.state[j] == GIVEN, TRACKED, previous.state[j])
                tracks.reason[k] = previous.reason[j]
    return tracks


def _walks(
    motion: PointMotion, tracks: PointTracks, direction: Direction, start: int, stop: int, origin: int | None
) -> list[tuple[list[int], int | None]]:
    """Frames that each walk visits, in its order, and the frame from which measured points go on."""
    if direction == "gap":
        known = np.all([tracks.known(k) for k in range(len(tracks.ids))], axis=0)
        plans = plan_passes("gap", 0, start, stop, origin, known)
        return [(plan, plan[0]) for plan in plans]
    firsts = [p.given[0].frame for p in motion.points]
    out: list[tuple[list[int], int | None]] = []
    for one in ("forward", "backward") if direction == "both" else (direction,):
        # Backward starts at the latest first-given frame; forward at the earliest.
        reference = min(firsts) if one == "forward" else max(firsts)
        out += [(plan, origin) for plan in plan_passes(one, reference, start, stop, origin, tracks.known(0))]
    return out


def _check_given(clip: Clip, motion: PointMotion, point: TrackPoint, frame: int, x: float, y: float) -> None:
    info = clip.info
    if frame >= info.frames:
        raise BadInput("points.frame", f"{point.name} is set on frame {frame}; the clip ends at {info.frames - 1}.")
    if not (0 <= x <= info.width and 0 <= y <= info.height):
        raise BadInput(
            "points.outside",
            f"{point.name} lies at ({x:.0f}, {y:.0f}), outside the picture of {info.width} x {info.height}.",
        )
    found = judge(channel_of(clip, frame, motion.channel), x, y, pattern_px=point.pattern_px)
    if found.grade == "flat":
        details: dict[str, object] = {"point": point.id, "frame": frame}
        hint = ""
        if found.better:
            details["better"] = list(found.better)
            hint = f" The nearest good detail is at ({found.better[0]:.1f}, {found.better[1]:.1f})."
        raise Degenerate(
            "points.flat",
            f"{point.name} lies on a flat area at ({x:.0f}, {y:.0f}) of frame {frame}; there is nothing to"
            f" hold on to.{hint or ' Try a corner, a spot or a crossing of lines.'}",
            details,
        )


__all__ = ["Partial", "measure_points"]
