"""Measuring a plane motion: every frame registered against the reference frame."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import cv2
import numpy as np

from plonket.base.conventions import F64, U8
from plonket.base.errors import BadInput
from plonket.base.outlines import carry
from plonket.base.states import BLURRED, COVERED, FLAT, GIVEN, LEFT, LOST, NO_MATCH, TRACKED
from plonket.media.clip import Clip
from plonket.track.plane.correct import quad_homography
from plonket.track.plane.region_masks import RegionMasks
from plonket.track.plane.register import FrameLevels, Registration, register
from plonket.track.plane.settings import FREEDOMS, PlaneMotion
from plonket.track.plane.template import BLURS_PX, Template, cut_template
from plonket.track.plane.track import PlaneTrack
from plonket.track.plans import plan_passes
from plonket.track.request import MeasureRequest

Direction = Literal["forward", "backward", "both", "gap"]

FEWER_ABOVE_PX = 0.5
"""Expected corner error above which fewer degrees of freedom are tried."""
LOST_ABOVE_PX = 8.0
LEAST_TO_REGAIN = 0.45
"""The same for a surface that was lost: from a strip alone its far side cannot be told."""
LIGHT_JUMP = 2.5
"""The light's gain does not change by more than this factor between two frames on which the surface is seen."""
LEAST_COVERAGE = 0.3
"""Share of the detail that must agree: by chance, flat parts do and detail does not."""
SURE = 0.88
"""Likeness from which a match needs no second opinion."""
NEAR_LEVEL = 2
"""Coarsest level while the prediction holds: quarter size."""
UNEXPLAINED = 3.0
"""A residual so many times the noise cannot be noise."""


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanePartial:
    """What `measure_plane` reports after each frame; `track` is shared and still being filled."""

    frame: int
    track: PlaneTrack


def measure_plane(motion: PlaneMotion, request: MeasureRequest) -> PlaneTrack:
    """Register a motion's regions through a clip.

    Parameters
    ----------
    request : it goes out from the reference frame, or on from `origin`; its context knows the mattes and motions that regions
        refer to.

    Returns
    -------
    PlaneTrack with homographies from the reference frame to each frame, in pixels.

    Raises
    ------
    BadInput
        No *use* region, a region outside the picture, an empty range.
    Degenerate
        A region with nothing in it to hold on to.

    Notes
    -----
    Every frame is compared with the reference frame itself, so errors do not add up. A prediction
    from the frames before carries the search across fast moves; a coarse search within reach helps
    when it fails. Where detail runs out, fewer degrees of freedom are used, and the track says so.
    """
    clip, work, start, stop, frames = request.clip, request.work, request.start, request.end, request.clip.info.frames
    if not any(r.use for r in motion.regions):
        raise BadInput("plane.region", f"{motion.name} has no region to look at yet. Draw one round the surface.")
    if not 0 <= start < stop <= frames:
        raise BadInput("plane.range", f"The range {start}-{stop - 1} does not lie within the clip.")
    reference = motion.reference_frame
    if reference >= frames:
        raise BadInput("plane.frame", f"{motion.name} is drawn on frame {reference}; the clip ends at {frames - 1}.")
    looking = RegionMasks(motion, clip, request.context)
    luma = clip.luma(reference)
    mask = looking.at_reference()
    if not (mask > 127).any():
        raise BadInput(
            "plane.outside",
            f"The regions of {motion.name} lie outside the picture of {clip.info.width} x {clip.info.height}"
            " or are ignored altogether.",
        )
    template = cut_template(luma, mask, detail=motion.detail / 100)
    previous, direction = request.previous, request.direction
    same = previous is not None and previous.frames == frames and previous.reference_frame == reference
    track = previous_copy(previous) if same and previous is not None else PlaneTrack.empty(frames, reference)
    _settle_reference(track, reference)
    plans = plan_passes(direction, reference, start, stop, request.origin, track.known())
    total = sum(len(p) for p in plans)
    if total == 0:
        raise BadInput("plane.range", "There is nothing to measure in that direction from here.")
    done = 0
    for plan in plans:
        run = _PlaneTracker(motion, clip, template, luma, looking, track, plan[0])
        for frame in plan:
            work.check_cancelled()
            kept = previous_copy(track) if direction == "gap" and frame == plan[0] else None
            run.visit(frame)
            if kept is not None:
                # A gap's known edge tells how it looks there; what is known of it stays as it was.
                track.take(frame, kept)
            done += 1
            work.partial(PlanePartial(frame=frame, track=track))
            work.progress(done, total)
    return track


def previous_copy(track: PlaneTrack) -> PlaneTrack:
    """A track that may be written to."""
    return PlaneTrack(
        reference_frame=track.reference_frame, homography=track.homography.copy(), confidence=track.confidence.copy(),
        state=track.state.copy(), reason=track.reason.copy(), error_px=track.error_px.copy(),
        coverage=track.coverage.copy(), freedom=track.freedom.copy(),
    )  # fmt: skip


def _settle_reference(track: PlaneTrack, reference: int) -> None:
    track.homography[reference] = np.eye(3)
    track.state[reference], track.reason[reference] = GIVEN, 0
    track.confidence[reference], track.coverage[reference], track.error_px[reference] = 1.0, 1.0, 0.0
    track.freedom[reference] = len(FREEDOMS) - 1


class _PlaneTracker:
    """One walk through the frames in one direction."""

    def __init__(
        self, motion: PlaneMotion, clip: Clip, template: Template, luma: U8, looking: RegionMasks, track: PlaneTrack, first: int
    ) -> None:
        self.motion, self.clip, self.template, self.reference = motion, clip, template, luma
        self.looking, self.track = looking, track
        self.freedom = FREEDOMS.index(motion.freedom)
        self.stakes = {s.frame: s for s in motion.stakes}
        self.now: F64 = track.homography[first].copy()
        self.step: F64 = np.eye(3)
        self.blur = 0
        self.tiles: F64 | None = None
        self.noise = np.inf
        self.recent = 1e6
        self.light: F64 | None = None
        self.lost_for = 0

    def visit(self, frame: int) -> None:
        track = self.track
        if frame == self.motion.reference_frame:
            self.now, self.step, self.lost_for = np.eye(3), np.eye(3), 0
            return
        luma = self.clip.luma(frame)
        starts = self._starts(frame)
        ignored = self.looking.ignored(frame, starts[0]) if self.looking.ignores_anything() else None
        found = self._find(luma, starts, ignored)
        reason = self._wrong(found, luma, starts[0] if frame in self.stakes else self.now)
        if reason == 0:
            self._accept(frame, found)
            return
        # While it is lost, nothing drifts off: the last sure place is kept and looked round from.
        self.lost_for += 1
        self.tiles = None
        expected = starts[0] if self.lost_for <= 3 else self.now
        track.homography[frame] = expected
        if self.lost_for <= 3:
            self.now = expected
        track.state[frame], track.reason[frame], track.confidence[frame] = LOST, reason, 0.0
        track.error_px[frame], track.coverage[frame] = found.error_px, found.coverage
        track.freedom[frame] = found.freedom

    def _starts(self, frame: int) -> list[F64]:
        """Places to start from, the likeliest first."""
        ahead = self.step @ self.now
        out = [_normal(ahead)] if self.lost_for <= 3 else []
        out.append(self.now)
        stake = self.stakes.get(frame)
        if stake is not None:
            quad = np.array(self.motion.quad)
            moved = carry(quad, out[0])
            target = np.array([moved[k] if c is None else c for k, c in enumerate(stake.corners)])
            staked = quad_homography(quad, target)
            if staked is not None:
                out.insert(0, staked)
        return out

    def _find(self, luma: U8, starts: list[F64], ignored: U8 | None) -> Registration:
        best: Registration | None = None
        if self.lost_for == 0:
            # The prediction is nearly always good enough to leave the coarse levels out.
            best = self._register(luma, starts[0], ignored, self.freedom, coarsest=NEAR_LEVEL)
        for k, at in enumerate(starts):
            if best is not None and self._fine(best):
                break
            best = _better(best, self._register(luma, at, ignored, self.freedom))
            if k == len(starts) - 1 and not self._fine(best):
                for spot in self._search(luma, self.now):
                    best = _better(best, self._register(luma, spot, ignored, self.freedom))
                    if self._fine(best):
                        break
        assert best is not None
        if best.error_px > FEWER_ABOVE_PX:
            best = self._with_fewer(luma, self.now if self.lost_for == 0 else starts[0], ignored, best)
        return best

    def _fine(self, found: Registration) -> bool:
        explained = found.variance < UNEXPLAINED * self.noise and np.isfinite(self.noise)
        alike = found.ncc_all > SURE or (found.ncc_inliers > SURE and found.coverage > 0.6)
        return found.coverage > 0.35 and (alike or explained)

    def _register(self, luma: U8, at: F64, ignored: U8 | None, freedom: int, coarsest: int | None = None) -> Registration:
        levels = FrameLevels(luma, self._window(at), ignored)
        return register(
            self.template, levels, at, freedom=freedom, blur=self.blur, tiles=self.tiles, slopes=self.motion.light,
            light=self.light,
            coarsest=coarsest, most_scale=1.6 * float(np.sqrt(self.recent)),
            tightness=1 / (1 + self.lost_for) ** 2,
        )  # fmt: skip

    def _window(self, at: F64) -> tuple[int, int, int, int]:
        hull = carry(self.template.hull, at)
        h, w = self.clip.info.height, self.clip.info.width
        if not np.isfinite(hull).all():
            return 0, 0, w, h
        margin = self.motion.reach_px + 24
        low, high = hull.min(axis=0) - margin, hull.max(axis=0) + margin
        low, high = np.clip(low, 0, [w - 1, h - 1]), np.clip(high, 1, [w, h])
        return int(low[0]), int(low[1]), int(np.ceil(high[0])), int(np.ceil(high[1]))

    def _with_fewer(self, luma: U8, at: F64, ignored: U8 | None, full: Registration) -> Registration:
        """The most degrees of freedom whose corners are sure enough; else the surest."""
        best = full
        for freedom in range(self.freedom - 1, -1, -1):
            tried = self._register(luma, at, ignored, freedom, coarsest=1)
            if tried.ncc_inliers < full.ncc_inliers - 0.1 and tried.variance > 1.3 * full.variance:
                continue
            if tried.error_px < best.error_px:
                best = tried
            if best.error_px <= FEWER_ABOVE_PX:
                break
        return best

    def _search(self, luma: U8, at: F64) -> list[F64]:
        """Shifted starts from a coarse search within reach, which grows while the surface is lost."""
        hull = carry(self.template.hull, at)
        if not np.isfinite(hull).all():
            return []
        reach = self.motion.reach_px * (1 + 0.25 * min(self.lost_for, 8))
        side = float(np.min(hull.max(axis=0) - hull.min(axis=0)))
        scale = float(np.clip(28 / max(side, 1), 0.05, 0.5))
        h, w = luma.shape
        small = (max(8, round(w * scale)), max(8, round(h * scale)))
        now = cv2.resize(luma, small, interpolation=cv2.INTER_AREA).astype(np.float32)
        sx, sy = small[0] / w, small[1] / h
        low, high = np.floor(hull.min(axis=0) * [sx, sy]).astype(int), np.ceil(hull.max(axis=0) * [sx, sy]).astype(int)
        size = high - low
        if (size < 6).any() or (size > 400).any():
            return []
        # The reference as it should look now, drawn small.
        into = np.array([[sx, 0, -low[0]], [0, sy, -low[1]], [0, 0, 1.0]]) @ at
        reduced = cv2.GaussianBlur(self.reference, (0, 0), max(0.4 / scale, 0.5)).astype(np.float32)
        patch = cv2.warpPerspective(reduced, into, (int(size[0]), int(size[1])), flags=cv2.INTER_LINEAR,
                                    borderMode=cv2.BORDER_REPLICATE)  # fmt: skip
        r = int(np.ceil(reach * scale)) + 1
        wide, tall = r + int(size[0]), r + int(size[1])
        padded = cv2.copyMakeBorder(now, tall, tall, wide, wide, cv2.BORDER_REPLICATE)
        x0, y0 = int(low[0]) - r + wide, int(low[1]) - r + tall
        window = padded[max(y0, 0) : y0 + int(size[1]) + 2 * r, max(x0, 0) : x0 + int(size[0]) + 2 * r]
        if window.shape[0] < size[1] or window.shape[1] < size[0]:
            return []
        score = np.nan_to_num(cv2.matchTemplate(np.ascontiguousarray(window), patch, cv2.TM_CCOEFF_NORMED), nan=-1.0)
        out = []
        for _ in range(2):
            iy, ix = np.unravel_index(int(np.argmax(score)), score.shape)
            if score[iy, ix] < 0.3:
                break
            shift = np.array([[1, 0, (ix - r) / sx], [0, 1, (iy - r) / sy], [0, 0, 1.0]])
            out.append(shift @ at)
            score[max(0, iy - 2) : iy + 3, max(0, ix - 2) : ix + 3] = -1
        return out

    def _wrong(self, found: Registration, luma: U8, expected: F64) -> int:
        """0 when the surface was found, else the reason."""
        hull = carry(self.template.hull, found.homography)
        h, w = luma.shape
        if not np.isfinite(hull).all():
            return NO_MATCH
        if found.inside < 0.12:
            centre = hull.mean(axis=0)
            off = (hull[:, 0].max() < 0.1 * w or hull[:, 0].min() > 0.9 * w or hull[:, 1].max() < 0.1 * h
                   or hull[:, 1].min() > 0.9 * h or not (0 < centre[0] < w and 0 < centre[1] < h))  # fmt: skip
            return LEFT if off else COVERED
        limit = self.motion.strictness / 100
        noisy = found.variance < UNEXPLAINED * self.noise
        if found.coverage < (LEAST_COVERAGE if self.lost_for == 0 else LEAST_TO_REGAIN):
            return COVERED
        jump = np.abs(hull - carry(self.template.hull, expected)).max()
        if jump > (self.motion.reach_px + 8) * (1 + self.lost_for):
            return NO_MATCH
        if found.ncc_inliers < limit and not noisy:
            return BLURRED if found.blur >= len(BLURS_PX) - 1 else COVERED
        if found.ncc_all < 0.2 and found.coverage < 0.3 and not noisy:
            return COVERED
        if self.light is not None and not 1 / LIGHT_JUMP < found.light[0] / max(float(self.light[0]), 1e-6) < LIGHT_JUMP:
            # Hardly any contrast left is what a plain thing in front looks like.
            return COVERED if found.light[0] < self.light[0] else NO_MATCH
        if found.light[0] < 0.08 or found.light[0] > 6:
            return FLAT if found.light[0] < 0.08 else NO_MATCH
        if found.error_px > LOST_ABOVE_PX:
            return FLAT if noisy else NO_MATCH
        area = _area(hull) / max(_area(self.template.hull), 1)
        return 0 if 0.01 < area < 60 else NO_MATCH

    def _accept(self, frame: int, found: Registration) -> None:
        track = self.track
        step = found.homography @ np.linalg.inv(self.now)
        self.step = _normal(step) if self.lost_for == 0 and frame not in self.stakes else np.eye(3)
        self.now, self.lost_for = found.homography, 0
        self.blur, self.tiles = found.blur, 0.5 + 0.5 * found.tiles
        self.noise = min(self.noise, found.variance)
        self.recent, self.light = found.variance, found.light
        track.homography[frame] = found.homography
        track.state[frame], track.reason[frame] = TRACKED, 0
        track.error_px[frame], track.coverage[frame] = found.error_px, found.coverage
        track.freedom[frame] = found.freedom
        track.confidence[frame] = trust(found.error_px, found.coverage)


def trust(error_px: float, coverage: float) -> float:
    """Confidence in [0, 1]: falls with the expected error, and where little was seen."""
    return float(np.clip(0.55 + 0.6 * coverage, 0, 1) / (1 + (error_px / 0.8) ** 1.5))


def _normal(m: F64) -> F64:
    return np.asarray(m / m[2, 2])


def _better(a: Registration | None, b: Registration) -> Registration:
    if a is None:
        return b
    return b if b.ncc_inliers * b.coverage * max(b.ncc_all, 0.05) > a.ncc_inliers * a.coverage * max(a.ncc_all, 0.05) else a


def _area(quad: F64) -> float:
    x, y = quad[:, 0], quad[:, 1]
    return float(abs(np.dot(x, np.roll(y, -1)) - np.dot(y, np.roll(x, -1))) / 2)


__all__ = ["Direction", "PlanePartial", "measure_plane", "trust"]
