"""One walk of a point motion through the frames, in one direction."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from math import ceil, floor

import cv2
import numpy as np

from plonket.base.conventions import F32, F64, U8, from_index, to_index
from plonket.base.states import BLURRED, COVERED, GIVEN, LEFT, LOST, NO_MATCH, TRACKED
from plonket.media.clip import Clip
from plonket.track.points import matcher
from plonket.track.points.settings import Channel, PointMotion, TrackPoint
from plonket.track.points.tracks import PointTracks

RECOVER_MARGIN = 0.06
"""How much likelier than the limit a match must be for a lost point to be picked up again."""
PARTLY_COVERED = 0.15
"""How far the likeness of the whole pattern may lie under the limit for its visible part."""
ADAPT_MARGIN = 0.1
"""A fresh pattern is taken only when the reference is within this margin of being lost: it drifts."""
BLURS_PX = (1.2, 2.2, 3.6)
"""The pattern is blurred so much, to match a blurred frame, before the point is called lost."""
HOME_PX = 0.7
"""A way home that ends so far from where it began halves the confidence."""
COVERED_FROM = 60
"""From here on, of 255, a matte counts."""
HOME_EVERY = 4
"""While a match is beyond doubt the way home is tried on every so many frames only: it costs as much as the match."""


@dataclass(slots=True)
class _Known:
    """A pattern given by hand: where it was cut, and what lay round it, for the way home."""

    frame: int
    pattern: matcher.Pattern
    window: F32
    at: F64


@dataclass(slots=True)
class _Follower:
    """One point on its way through the frames."""

    point: TrackPoint
    row: int
    half: int
    known: _Known | None = None
    others: dict[int, _Known] = field(default_factory=dict)
    recent: matcher.Pattern | None = None
    warp: F64 = field(default_factory=lambda: np.eye(3))
    at: F64 = field(default_factory=lambda: np.zeros(2))
    speed: F64 = field(default_factory=lambda: np.zeros(2))
    lost_for: int = 0
    active: bool = False
    home: float | None = None
    on_it: bool = False

    @property
    def linear(self) -> F64:
        """(2, 2) turn, size and skew of the point against its pattern."""
        return self.warp[:2, :2] - np.outer(self.warp[:2, 2], self.warp[2, :2])

    def warp_at(self, centre: F64) -> F64:
        """(3, 3) the pattern as it was last seen, put at `centre`."""
        out = self.warp.copy()
        out[:2] += np.outer(centre - out[:2, 2], out[2])
        return out


def channel_of(clip: Clip, frame: int, channel: Channel) -> U8:
    """The grey picture that a motion looks at, 8-bit (h, w)."""
    if channel == "luma":
        return clip.luma(frame)
    return np.ascontiguousarray(clip.rgb(frame)[..., ("red", "green", "blue").index(channel)])


class PointTracker:
    """Follows all points of a motion from frame to frame.

    Parameters
    ----------
    tracks : filled in place. step : 1 or -1. origin : frame on which measured points go on. covered : of a frame, 8-bit (h, w),
        what no point may be found on but one that was put there.
    only_unknown : leave frames alone on which a point has its place already.
    """

    def __init__(
        self, motion: PointMotion, clip: Clip, tracks: PointTracks, step: int, origin: int | None,
        covered: Callable[[int], U8] | None = None, *, only_unknown: bool = False,
    ) -> None:  # fmt: skip
        self.motion, self.clip, self.tracks, self.step, self.origin = motion, clip, tracks, step, origin
        self.only_unknown = only_unknown
        self._covered = covered
        self._mask: U8 | None = None
        self.limit = motion.strictness / 100
        self.dof = matcher.DOF[motion.change]
        self.followers = [
            _Follower(point=p, row=k, half=max(3, int(round(p.pattern_px)) // 2))
            for k, p in enumerate(motion.points)
        ]
        if covered is not None:
            for f in self.followers:
                f.on_it = any(_is_on(covered(g.frame), to_index(np.array([g.x, g.y]))) for g in f.point.given)

    def visit(self, frame: int) -> None:
        luma = channel_of(self.clip, frame, self.motion.channel)
        self._mask = None if self._covered is None else self._covered(frame)
        moves: list[F64] = []
        waiting: list[_Follower] = []
        for f in self.followers:
            given = next((g for g in f.point.given if g.frame == frame), None)
            if given is not None:
                self._start(f, luma, frame, np.array([given.x, given.y]))
                self.tracks.state[f.row, frame] = GIVEN
                self.tracks.reason[f.row, frame] = 0
            elif not f.active and frame == self.origin or self.only_unknown and self._is_known(f, frame):
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

    def _is_known(self, f: _Follower, frame: int) -> bool:
        return self.tracks.state[f.row, frame] in (TRACKED, GIVEN)

    def _ours(self, f: _Follower, frame: int) -> bool:
        """Backward walks stop where a given frame's forward walk has its place, unless asked for."""
        if self.step > 0 or self.origin is not None:
            return True
        return frame < f.point.given[0].frame

    def _is_covered(self, f: _Follower, at: F64) -> bool:
        """Whether `at` (array index) lies on what is to be ignored; never for a point that was put on such a thing."""
        return self._mask is not None and not f.on_it and _is_on(self._mask, at)

    def _window(self, luma: U8, at: F64, margin: float) -> tuple[F32, F64]:
        """A prepared window round `at` (array index) and its top-left corner."""
        h, w = luma.shape
        x, y = float(at[0]), float(at[1])
        x0, x1 = min(max(floor(x - margin), 0), w - 1), min(max(ceil(x + margin) + 1, 1), w)
        y0, y1 = min(max(floor(y - margin), 0), h - 1), min(max(ceil(y + margin) + 1, 1), h)
        return matcher.prepare(luma[y0:max(y1, y0 + 1), x0:max(x1, x0 + 1)]), np.array([x0, y0], np.float64)

    def _pattern_at(self, f: _Follower, luma: U8, frame: int, xy: F64) -> _Known:
        at = to_index(xy)
        window, corner = self._window(luma, at, f.half * 1.6 + 10)
        pattern = matcher.cut_pattern(window, at - corner, f.half)
        return _Known(frame=frame, pattern=pattern, window=window, at=at - corner)

    def _start(self, f: _Follower, luma: U8, frame: int, xy: F64) -> None:
        f.known = self._pattern_at(f, luma, frame, xy)
        f.others[frame] = f.known
        f.recent = f.known.pattern
        f.warp = np.eye(3)
        if not f.active:
            f.speed = np.zeros(2)
        f.at, f.lost_for, f.active, f.home = to_index(xy), 0, True, None

    def _resume(self, f: _Follower, frame: int) -> None:
        """Start a point from its measured place, with the pattern of its nearest given frame."""
        if not self._is_known(f, frame):
            return
        nearest = min(f.point.given, key=lambda g: abs(g.frame - frame))
        reference = channel_of(self.clip, nearest.frame, self.motion.channel)
        self._start(f, reference, nearest.frame, np.array([nearest.x, nearest.y]))
        f.at = to_index(self.tracks.xy[f.row, frame])
        # The pattern may have grown or turned since it was given: find its present shape.
        luma = channel_of(self.clip, frame, self.motion.channel)
        window, corner = self._window(luma, f.at, f.half * 2.5 + 8)
        assert f.known is not None
        match = matcher.refine(window, f.known.pattern, f.warp_at(f.at - corner), self.dof)
        if match.ncc_inliers > self.limit and np.hypot(*(match.centre + corner - f.at)) < 2:
            f.warp = match.warp

    def _follow(self, f: _Follower, luma: U8, frame: int) -> bool:
        """Find the point near its predicted place; False when it is lost."""
        expected = f.at + f.speed
        match, corner = self._best(f, luma, expected, f.point.reach_px)
        if match is None or not self._sound(f, match, self.limit):
            match, corner = self._second_look(f, luma, frame, expected, match, corner)
        if match is None or not self._sound(f, match, self.limit) or self._is_covered(f, match.centre + corner):
            f.lost_for = 1
            self._note_lost(f, luma, frame, match, corner)
            return False
        self._accept(f, match, corner, frame, luma)
        return True

    def _second_look(
        self, f: _Follower, luma: U8, frame: int, expected: F64, match: matcher.Match | None, corner: F64
    ) -> tuple[matcher.Match | None, F64]:
        """Before a point is lost: try its other staked patterns, then the pattern blurred."""
        assert f.known is not None
        window, inner = self._window(luma, expected, f.point.reach_px + f.half * 2 + 6)
        for given in sorted(f.point.given, key=lambda g: abs(g.frame - frame)):
            if given.frame == f.known.frame:
                continue
            if given.frame not in f.others:
                picture = channel_of(self.clip, given.frame, self.motion.channel)
                f.others[given.frame] = self._pattern_at(f, picture, given.frame, np.array([given.x, given.y]))
            other = f.others[given.frame]
            for spot in self._spots(f, window, other.pattern.patch, expected - inner):
                tried = matcher.refine(window, other.pattern, _at(np.eye(3), spot), self.dof)
                sure = tried.ncc_inliers >= self.limit + RECOVER_MARGIN and tried.ncc_all > self.limit
                if sure and tried.inlier_share > 0.75:
                    f.known, f.recent = other, other.pattern
                    f.warp = _at(np.eye(3), tried.centre)
                    f.warp[:2, :2] = tried.linear
                    return tried, inner
            break
        for sigma in BLURS_PX:
            if sigma > 0.35 * f.half:
                break
            soft = cv2.GaussianBlur(f.known.window, (0, 0), sigma)
            pattern = matcher.cut_pattern(np.asarray(soft, np.float32), f.known.at, f.half)
            patch = self._turned(pattern.patch, f)
            for spot in self._spots(f, window, patch, expected - inner):
                tried = matcher.refine(window, pattern, f.warp_at(spot), self.dof)
                near = np.hypot(*(tried.centre - (expected - inner))) <= f.point.reach_px + 1
                if near and self._sound(f, tried, self.limit + RECOVER_MARGIN) and tried.inlier_share > 0.75:
                    return tried, inner
        return match, corner

    def _spots(self, f: _Follower, window: F32, patch: F32, at: F64) -> list[F64]:
        """Where to try a pattern: as expected, then the likeliest places within reach."""
        return [at, *(spot for spot, _ in matcher.search(window, patch, at, f.point.reach_px, 2))]

    def _best(self, f: _Follower, luma: U8, expected: F64, reach: float) -> tuple[matcher.Match | None, F64]:
        assert f.known is not None and f.recent is not None
        grow = max(1.0, float(np.sqrt(abs(np.linalg.det(f.linear)))))
        window, corner = self._window(luma, expected, reach + f.half * grow + 6)
        reference = f.known.pattern
        best: matcher.Match | None = None
        for spot in self._tries(f, window, expected - corner, reach):
            match = matcher.refine(window, reference, f.warp_at(spot), self.dof)
            if f.recent is not reference and match.ncc_inliers < self.limit + ADAPT_MARGIN:
                # The fresh pattern was cut along the reference's axes, so both share one warp.
                by_recent = matcher.refine(window, f.recent, f.warp_at(spot), self.dof)
                if by_recent.ncc_inliers > match.ncc_inliers:
                    match = by_recent
            if np.hypot(*(match.centre - (expected - corner))) > reach + 1:
                continue
            if best is None or match.ncc_inliers * match.inlier_share > best.ncc_inliers * best.inlier_share + 1e-3:
                best = match
            if best.ncc_inliers > 0.97 and best.inlier_share > 0.9:
                break
        return best, corner

    def _tries(self, f: _Follower, window: F32, expected: F64, reach: float) -> Iterator[F64]:
        """Where to start from: as predicted; only when that does not settle it, the likeliest places within reach."""
        yield expected
        assert f.known is not None
        for spot, _ in matcher.search(window, self._turned(f.known.pattern.patch, f), expected, reach):
            yield spot

    def _turned(self, patch: F32, f: _Follower) -> F32:
        """A pattern turned and grown as the point was last seen, for the search."""
        linear = f.linear
        if np.abs(linear - np.eye(2)).max() < 0.03:
            return patch
        n = 2 * f.half + 1
        inverse = np.linalg.inv(linear)
        centre = np.array([f.half, f.half], np.float64)
        m = np.hstack([inverse, (centre - inverse @ centre)[:, None]])
        flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
        return np.asarray(cv2.warpAffine(patch, m, (n, n), flags=flags, borderMode=cv2.BORDER_REPLICATE), np.float32)

    def _sound(self, f: _Follower, match: matcher.Match, limit: float) -> bool:
        grown = abs(float(np.linalg.det(match.linear))) / max(abs(float(np.linalg.det(f.linear))), 1e-6)
        # A thing that covers part of the pattern may disagree, but not so much that the rest could be anything.
        whole = match.ncc_all >= limit - PARTLY_COVERED
        return match.ncc_inliers >= limit and whole and match.inlier_share >= 0.55 and 0.6 < grown < 1.7 and match.gain > 0.12

    def _accept(self, f: _Follower, match: matcher.Match, corner: F64, frame: int, luma: U8) -> None:
        place = match.centre + corner
        f.speed = place - f.at if f.lost_for == 0 else np.zeros(2)
        f.at, f.warp, f.lost_for = place, match.warp.copy(), 0
        row = f.row
        self.tracks.xy[row, frame] = from_index(place)
        self.tracks.state[row, frame], self.tracks.reason[row, frame] = TRACKED, 0
        if match.inlier_share < 0.85 or match.ncc_inliers < 0.9 or frame % HOME_EVERY == 0 or f.home is None:
            f.home = self._way_home(f, luma)
        likely = np.clip((match.ncc_inliers - 0.5) / 0.5, 0, 1) * match.inlier_share
        self.tracks.confidence[row, frame] = likely / (1 + (f.home / HOME_PX) ** 2)
        if self.motion.adapt and match.inlier_share > 0.85 and match.ncc_inliers < self.limit + ADAPT_MARGIN:
            window, inner = self._window(luma, place, f.half * 2 + 6)
            f.recent = matcher.cut_pattern(window, place - inner, f.half, f.linear)

    def _way_home(self, f: _Follower, luma: U8) -> float:
        """How far off the given place one ends when what was found is matched back into the given frame, in pixels."""
        assert f.known is not None
        window, corner = self._window(luma, f.at, f.half * 2 + 6)
        seen = matcher.cut_pattern(window, f.at - corner, f.half, f.linear)
        back = matcher.refine(f.known.window, seen, _at(np.eye(3), f.known.at), matcher.SHIFT, steps=10)
        if back.ncc_inliers < 0:
            return 3.0
        return float(min(np.hypot(*(back.centre - f.known.at)), 3.0))

    def _seek(self, f: _Follower, luma: U8, frame: int, drift: F64 | None) -> None:
        """Look for a lost point over a wider and wider area round where it should be."""
        f.lost_for += 1
        f.at = f.at + (drift if drift is not None else f.speed * 0.6**f.lost_for)
        reach = min(f.point.reach_px * (1 + 0.15 * f.lost_for), 3 * f.point.reach_px + 20)
        match, corner = self._best(f, luma, f.at, reach)
        limit = min(0.97, max(self.limit + RECOVER_MARGIN, 0.8))
        if match is not None and self._surely(f, match, limit) and not self._is_covered(f, match.centre + corner):
            self._accept(f, match, corner, frame, luma)
            return
        self._note_lost(f, luma, frame, match, corner)

    def _surely(self, f: _Follower, match: matcher.Match, limit: float) -> bool:
        """Whether a lost point is back: the whole pattern, about as large, upright and strong as it was."""
        change = match.linear @ np.linalg.inv(f.linear)
        size = float(np.sqrt(abs(np.linalg.det(change))))
        turned = abs(float(np.degrees(np.arctan2(change[1, 0], change[0, 0]))))
        alike = match.ncc_all >= max(limit, 0.84) and match.inlier_share > 0.8 and self._sound(f, match, limit)
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
        elif self._is_covered(f, expected):
            reason = COVERED
        elif match is not None and match.ncc_inliers > 0.2:
            assert f.known is not None
            window, inner = self._window(luma, match.centre + corner, f.half * 2 + 6)
            seen = matcher.cut_pattern(window, match.centre + corner - inner, f.half)
            # Blur takes gradient energy away but leaves the broad light and dark.
            sharpness = seen.energy / max(seen.spread, 1e-3) ** 2
            full = f.known.pattern.energy / max(f.known.pattern.spread, 1e-3) ** 2
            reason = BLURRED if sharpness < 0.35 * full and match.ncc_inliers > 0.5 else COVERED
        self.tracks.xy[row, frame] = from_index(expected)
        self.tracks.state[row, frame], self.tracks.reason[row, frame] = LOST, reason
        f.home = None
        self.tracks.confidence[row, frame] = 0.0


def _is_on(mask: U8, at: F64) -> bool:
    (h, w), (x, y) = mask.shape, (round(float(v)) for v in at)
    return bool(0 <= x < w and 0 <= y < h and mask[y, x] > COVERED_FROM)


def _at(warp: F64, centre: F64) -> F64:
    out = warp.copy()
    out[:2, 2] = centre
    return out


__all__ = ["PointTracker", "channel_of"]
