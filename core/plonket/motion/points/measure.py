"""Measuring a point motion: forward, backward or both, from the frames put right by hand."""

from __future__ import annotations

from dataclasses import dataclass, field

import cv2
import numpy as np

from plonket.context import Work
from plonket.conventions import F64, U8, from_index, to_index
from plonket.errors import BadInput, Degenerate
from plonket.media.clip import Clip
from plonket.motion.points import matcher
from plonket.motion.points.detail import judge
from plonket.motion.points.settings import Channel, Direction, PointMotion, TrackPoint
from plonket.motion.points.tracks import PointTracks
from plonket.motion.states import BLURRED, COVERED, GIVEN, LEFT, LOST, NO_MATCH, NONE, TRACKED

RECOVER_MARGIN = 0.06
"""How much likelier than the limit a match must be for a lost point to be picked up again."""


PARTLY_COVERED = 0.15
"""How far the likeness of the whole pattern may lie under the limit for its visible part."""
ADAPT_MARGIN = 0.1
"""A fresh pattern is taken only when the reference is within this margin of being lost: it drifts."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Partial:
    """One frame's outcome for all points, as it is measured."""

    frame: int
    tracks: PointTracks


@dataclass(slots=True)
class _Follower:
    """One point on its way through the frames."""

    point: TrackPoint
    row: int
    half: int
    reference: matcher.Pattern | None = None
    recent: matcher.Pattern | None = None
    linear: F64 = field(default_factory=lambda: np.eye(2))
    at: F64 = field(default_factory=lambda: np.zeros(2))
    speed: F64 = field(default_factory=lambda: np.zeros(2))
    lost_for: int = 0
    active: bool = False


def measure_points(
    motion: PointMotion,
    clip: Clip,
    *,
    direction: Direction = "both",
    start: int = 0,
    stop: int | None = None,
    origin: int | None = None,
    previous: PointTracks | None = None,
    work: Work | None = None,
) -> PointTracks:
    """Follow every point of a motion through frames start..stop-1.

    Parameters
    ----------
    direction : forward, backward or both, from `origin` or, without one, from the given frames:
        backward from each point's first given frame, forward from each given frame to the next.
    origin : a frame to start from; a point without a given frame there starts from its measured
        position in `previous`.
    previous : earlier tracks; frames not measured now keep their values.

    Raises
    ------
    BadInput
        No points, a point outside the picture, an empty range.
    Degenerate
        A point given on a flat area, with the nearest good detail in ``details["better"]``.

    Notes
    -----
    A match is refined against the pattern of the last frame given by hand, so that errors do not
    add up; only when that pattern has changed beyond recognition is a fresh one taken (`adapt`).
    """
    work = work or Work()
    stop = clip.info.frames if stop is None else stop
    if not motion.points:
        raise BadInput("points.none", f"{motion.name} has no points yet. Click on a small, clear detail.")
    if not 0 <= start < stop <= clip.info.frames:
        raise BadInput("points.range", f"The range {start}-{stop - 1} does not lie within the clip.")
    ids, names = tuple(p.id for p in motion.points), tuple(p.name for p in motion.points)
    tracks = _carry_over(previous, ids, names, clip.info.frames)
    for k, point in enumerate(motion.points):
        for g in point.given:
            _check_given(clip, motion, point, g.frame, g.x, g.y)
            tracks.xy[k, g.frame] = (g.x, g.y)
            tracks.state[k, g.frame], tracks.confidence[k, g.frame] = GIVEN, 1.0
    passes = [s for s in (1, -1) if direction in ("both", "forward" if s > 0 else "backward")]
    plans = [_plan(motion, step, start, stop, origin) for step in passes]
    total = sum(len(frames) for frames in plans)
    if total == 0:
        raise BadInput("points.range", "There is nothing to measure in that direction from here.")
    done = 0
    for step, frames in zip(passes, plans, strict=True):
        if not frames:
            continue
        run = _Pass(motion, clip, tracks, step, origin)
        for frame in frames:
            work.check_cancelled()
            run.visit(frame)
            done += 1
            work.partial(Partial(frame=frame, tracks=tracks))
            work.progress(done, total)
    return tracks


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


def _plan(motion: PointMotion, step: int, start: int, stop: int, origin: int | None) -> list[int]:
    """Frames that one pass visits, in its order."""
    if origin is not None:
        first = min(max(origin, start), stop - 1)
    else:
        firsts = [p.given[0].frame for p in motion.points]
        # Backward starts at the latest first-given frame; forward at the earliest.
        first = min(max(min(firsts) if step > 0 else max(firsts), start), stop - 1)
    frames = list(range(first, stop)) if step > 0 else list(range(first, start - 1, -1))
    return frames if len(frames) > 1 else []


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


def channel_of(clip: Clip, frame: int, channel: Channel) -> U8:
    """The grey picture that a motion looks at, 8-bit (h, w)."""
    if channel == "luma":
        return clip.luma(frame)
    return np.ascontiguousarray(clip.rgb(frame)[..., ("red", "green", "blue").index(channel)])


class _Pass:
    """One walk through the frames in one direction."""

    def __init__(
        self, motion: PointMotion, clip: Clip, tracks: PointTracks, step: int, origin: int | None
    ) -> None:
        self.motion, self.clip, self.tracks, self.step, self.origin = motion, clip, tracks, step, origin
        self.limit = motion.strictness / 100
        self.dof = matcher.DOF[motion.change]
        self.followers = [
            _Follower(point=p, row=k, half=max(3, int(round(p.pattern_px)) // 2))
            for k, p in enumerate(motion.points)
        ]

    def visit(self, frame: int) -> None:
        luma = channel_of(self.clip, frame, self.motion.channel)
        moves: list[F64] = []
        waiting: list[_Follower] = []
        for f in self.followers:
            given = next((g for g in f.point.given if g.frame == frame), None)
            if given is not None:
                self._start(f, luma, np.array([given.x, given.y]))
                self.tracks.state[f.row, frame] = GIVEN
                self.tracks.reason[f.row, frame] = 0
            elif frame == self.origin and not f.active:
                self._resume(f, frame)
            elif f.active and self._ours(f, frame):
                before = f.at.copy()
                if f.lost_for == 0 and self._follow(f, luma, frame):
                    moves.append(f.at - before)
                else:
                    waiting.append(f)
        # Lost points drift with the ones that hold, so that they are looked for where they went.
        drift = np.median(moves, axis=0) if moves else None
        for f in waiting:
            self._seek(f, luma, frame, drift)

    def _ours(self, f: _Follower, frame: int) -> bool:
        """Backward passes stop where a given frame's forward pass has its place, unless asked for."""
        if self.step > 0 or self.origin is not None:
            return True
        return frame < f.point.given[0].frame

    def _window(self, luma: U8, at: F64, margin: float) -> tuple[np.ndarray, F64]:
        """A prepared window round `at` (array index) and its top-left corner."""
        h, w = luma.shape
        x0, y0 = (int(np.clip(np.floor(at[k] - margin), 0, (w, h)[k] - 1)) for k in (0, 1))
        x1, y1 = (int(np.clip(np.ceil(at[k] + margin) + 1, 1, (w, h)[k])) for k in (0, 1))
        return matcher.prepare(luma[y0:max(y1, y0 + 1), x0:max(x1, x0 + 1)]), np.array([x0, y0], np.float64)

    def _start(self, f: _Follower, luma: U8, xy: F64) -> None:
        at = to_index(xy)
        window, corner = self._window(luma, at, f.half + 6)
        f.reference = f.recent = matcher.cut_pattern(window, at - corner, f.half)
        f.linear = np.eye(2)
        if not f.active:
            f.speed = np.zeros(2)
        f.at, f.lost_for, f.active = at, 0, True

    def _resume(self, f: _Follower, frame: int) -> None:
        """Start a point from its measured place, with the pattern of its nearest given frame."""
        row = f.row
        if self.tracks.state[row, frame] not in (TRACKED, GIVEN):
            return
        nearest = min(f.point.given, key=lambda g: abs(g.frame - frame))
        reference = channel_of(self.clip, nearest.frame, self.motion.channel)
        self._start(f, reference, np.array([nearest.x, nearest.y]))
        f.at = to_index(self.tracks.xy[row, frame])
        # The pattern may have grown or turned since it was given: find its present shape.
        luma = channel_of(self.clip, frame, self.motion.channel)
        window, corner = self._window(luma, f.at, f.half * 2.5 + 8)
        assert f.reference is not None
        match = matcher.refine(window, f.reference, _warp(np.eye(2), f.at - corner), self.dof)
        if match.likeness > self.limit and np.hypot(*(match.centre + corner - f.at)) < 2:
            f.linear = match.warp[:, :2]

    def _follow(self, f: _Follower, luma: U8, frame: int) -> bool:
        """Find the point near its predicted place; False when it is lost."""
        match, corner = self._best(f, luma, f.at + f.speed, f.point.reach_px)
        limit = self.limit
        if match is None or not self._sound(f, match, limit):
            f.lost_for = 1
            self._note_lost(f, luma, frame, match, corner)
            return False
        self._accept(f, match, corner, frame, luma)
        return True

    def _best(self, f: _Follower, luma: U8, expected: F64, reach: float) -> tuple[matcher.Match | None, F64]:
        assert f.reference is not None and f.recent is not None
        grow = max(1.0, float(np.sqrt(abs(np.linalg.det(f.linear)))))
        window, corner = self._window(luma, expected, reach + f.half * grow + 6)
        patch = self._expected_patch(f)
        spots = [expected - corner] + [s for s, _ in matcher.search(window, patch, expected - corner, reach)]
        best: matcher.Match | None = None
        for spot in spots:
            match = matcher.refine(window, f.reference, _warp(f.linear, spot), self.dof)
            if f.recent is not f.reference and match.likeness < self.limit + ADAPT_MARGIN:
                # The fresh pattern was cut along the reference's axes, so both share one warp.
                by_recent = matcher.refine(window, f.recent, _warp(f.linear, spot), self.dof)
                if by_recent.likeness > match.likeness:
                    match = by_recent
            if np.hypot(*(match.centre - (expected - corner))) > reach + 1:
                continue
            if best is None or match.likeness * match.agree > best.likeness * best.agree + 1e-3:
                best = match
            if best.likeness > 0.97 and best.agree > 0.9:
                break
        return best, corner

    def _expected_patch(self, f: _Follower) -> np.ndarray:
        """The reference pattern turned and grown as it was last seen, for the search."""
        assert f.reference is not None
        if np.abs(f.linear - np.eye(2)).max() < 0.03:
            return f.reference.patch
        n = 2 * f.half + 1
        inverse = np.linalg.inv(f.linear)
        centre = np.array([f.half, f.half], np.float64)
        m = np.hstack([inverse, (centre - inverse @ centre)[:, None]])
        flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
        return np.asarray(cv2.warpAffine(f.reference.patch, m, (n, n), flags=flags, borderMode=cv2.BORDER_REPLICATE))

    def _sound(self, f: _Follower, match: matcher.Match, limit: float) -> bool:
        grown = abs(float(np.linalg.det(match.warp[:, :2]))) / max(abs(float(np.linalg.det(f.linear))), 1e-6)
        # A thing that covers part of the pattern may disagree, but not so much that the rest could be anything.
        whole = match.plain >= limit - PARTLY_COVERED
        return match.likeness >= limit and whole and match.agree >= 0.55 and 0.6 < grown < 1.7 and match.gain > 0.12

    def _accept(self, f: _Follower, match: matcher.Match, corner: F64, frame: int, luma: U8) -> None:
        place = match.centre + corner
        new_speed = place - f.at
        f.speed = new_speed if f.lost_for == 0 else np.zeros(2)
        f.at, f.linear, f.lost_for = place, match.warp[:, :2].copy(), 0
        row = f.row
        self.tracks.xy[row, frame] = from_index(place)
        self.tracks.state[row, frame], self.tracks.reason[row, frame] = TRACKED, 0
        self.tracks.confidence[row, frame] = np.clip((match.likeness - 0.5) / 0.5, 0, 1) * match.agree
        if self.motion.adapt and match.agree > 0.85 and match.likeness < self.limit + ADAPT_MARGIN:
            window, inner = self._window(luma, place, f.half * 2 + 6)
            f.recent = matcher.cut_pattern(window, place - inner, f.half, f.linear)

    def _seek(self, f: _Follower, luma: U8, frame: int, drift: F64 | None) -> None:
        """Look for a lost point over a wider and wider area round where it should be."""
        f.lost_for += 1
        f.at = f.at + (drift if drift is not None else f.speed * 0.6**f.lost_for)
        reach = min(f.point.reach_px * (1 + 0.15 * f.lost_for), 3 * f.point.reach_px + 20)
        match, corner = self._best(f, luma, f.at, reach)
        limit = min(0.97, max(self.limit + RECOVER_MARGIN, 0.8))
        if match is not None and self._surely(f, match, limit):
            self._accept(f, match, corner, frame, luma)
            return
        self._note_lost(f, luma, frame, match, corner)

    def _surely(self, f: _Follower, match: matcher.Match, limit: float) -> bool:
        """Whether a lost point is back: the whole pattern, about as large, upright and strong as it was."""
        change = match.warp[:, :2] @ np.linalg.inv(f.linear)
        size = float(np.sqrt(abs(np.linalg.det(change))))
        turned = abs(float(np.degrees(np.arctan2(change[1, 0], change[0, 0]))))
        alike = match.plain >= max(limit, 0.84) and match.agree > 0.8 and self._sound(f, match, limit)
        return alike and 0.85 < size < 1.18 and turned < 20 and 0.6 < match.gain < 1.6

    def _note_lost(
        self, f: _Follower, luma: U8, frame: int, match: matcher.Match | None, corner: F64
    ) -> None:
        row, (h, w) = f.row, luma.shape
        expected = f.at + (f.speed if f.lost_for <= 1 else 0)
        reason = NO_MATCH
        edge = f.half * 0.8  # from here on too little of the pattern is in the picture
        if not (edge <= expected[0] <= w - edge and edge <= expected[1] <= h - edge):
            reason = LEFT
        elif match is not None and match.likeness > 0.2:
            assert f.reference is not None
            window, inner = self._window(luma, match.centre + corner, f.half * 2 + 6)
            seen = matcher.cut_pattern(window, match.centre + corner - inner, f.half)
            # Blur takes gradient energy away but leaves the broad light and dark.
            sharpness = seen.energy / max(seen.spread, 1e-3) ** 2
            full = f.reference.energy / max(f.reference.spread, 1e-3) ** 2
            reason = BLURRED if sharpness < 0.35 * full and match.likeness > 0.5 else COVERED
        self.tracks.xy[row, frame] = from_index(expected)
        self.tracks.state[row, frame], self.tracks.reason[row, frame] = LOST, reason
        self.tracks.confidence[row, frame] = 0.0


def _warp(linear: F64, centre: F64) -> F64:
    out = np.empty((2, 3))
    out[:, :2], out[:, 2] = linear, centre
    return out


__all__ = ["NONE", "Partial", "channel_of", "measure_points"]
