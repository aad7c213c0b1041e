"""A subject told apart by a few strokes, and carried through the clip."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from plonket.base.conventions import F32, U8
from plonket.base.errors import Degenerate
from plonket.base.fields import Settings

WIDTH = 480
"""Cut at so many pixels across; the edge is found again at full size."""
KEPT, KEPT_SMALL = 3, 12
"""Frames of the clip that are kept at full size, and reduced."""
PAD_PX = 18
"""Reduced pixels round a thing whose colours count as those beside it."""
CLUSTERS = 6
INNER_PX, OUTER_PX = 5, 8
"""How far inside and outside of where it was carried the subject's edge is looked for, in reduced pixels."""

ALIKE_CODES = 16
"""Up to how many 8-bit codes a pixel differs from where it came from for its movement to be believed."""


class CutStroke(Settings):
    """A stroke over the subject, or over what is not; in the clip's own pixels, on one of its frames."""

    frame: int = Field(ge=0)
    subject: bool = True
    width: float = Field(default=14.0, ge=1, le=400)
    points: list[tuple[float, float]] = Field(min_length=1, max_length=2000)


@dataclass(frozen=True, slots=True)
class Before:
    """The frame from which a mask was carried, from the one with strokes `start` on, its mask there (h, w), where each pixel
    was in it, (h, w, 2), and which pixels look as they did there, (h, w)."""

    start: int
    frame: int
    mask: U8
    came: F32
    alike: NDArray[np.bool_]


class Carried:
    """The subject's rough mask in any frame: cut where strokes are, carried by the picture's movement from there.

    What was worked out is kept; between two frames with strokes both sides are carried and weighed by distance.

    Parameters
    ----------
    rgb : frame -> 8-bit (h, w, 3). frames : how many there are. load, save : a mask kept elsewhere, by its name.
    """

    def __init__(
        self, rgb: Callable[[int], U8], frames: int, strokes: Sequence[CutStroke], *,
        load: Callable[[str], U8 | None] | None = None, save: Callable[[str, U8], None] | None = None,
    ) -> None:  # fmt: skip
        # A frame is asked for several times while its mask is worked out.
        self._rgb, self._frames, self._strokes = lru_cache(KEPT)(rgb), frames, strokes
        self._load, self._save = load or (lambda _: None), save or (lambda _name, _mask: None)
        self._known: dict[tuple[int, int], U8] = {}
        self._small: dict[int, U8] = {}
        self._lock = threading.RLock()
        self.staked = sorted({min(s.frame, frames - 1) for s in strokes})

    def mask(self, frame: int) -> U8:
        """(h, w) at the reduced size: 255 where the subject is. Raises `Degenerate` without strokes on it."""
        if not any(s.subject for s in self._strokes):
            raise Degenerate("cutout.strokes", "Draw a stroke over the subject first.")
        return self._between(frame)

    def _between(self, frame: int) -> U8:
        """The mask of a frame as carried from the frames with strokes beside it."""
        with self._lock:
            before = [s for s in self.staked if s <= frame]
            after = [s for s in self.staked if s > frame]
            if not before or not after or before[-1] == frame:
                return self._from(before[-1] if before else after[0], frame)
            a, b = self._from(before[-1], frame), self._from(after[0], frame)
            t = (frame - before[-1]) / (after[0] - before[-1])
            # The nearer one's shape counts more: signed distances are mixed, not the masks.
            mixed = (1 - t) * _distance(a) + t * _distance(b)
            return np.where(mixed > 0, 255, 0).astype(np.uint8)

    def known(self, frame: int) -> bool:
        """Whether a frame's mask is worked out."""
        before = [s for s in self.staked if s <= frame][-1:]
        after = [s for s in self.staked if s > frame][:1]
        starts = before if before == [frame] else before + after

        def there(start: int) -> bool:
            return start == frame or (start, frame) in self._known or self._load(f"{start}-{frame}") is not None

        return all(there(start) for start in starts)

    def _from(self, start: int, frame: int) -> U8:
        """The mask of a frame as carried from a frame with strokes."""
        step = 1 if frame >= start else -1
        at = frame
        while at != start and (start, at) not in self._known:
            kept = self._load(f"{start}-{at}")
            if kept is not None:
                self._known[start, at] = kept
                break
            at -= step
        if at == start and (start, at) not in self._known:
            self._known[start, start] = self._cut(start)
        while at != frame:
            mask = self._carry(self._known[start, at], start, at, at + step)
            at += step
            self._known[start, at] = mask
            self._save(f"{start}-{at}", mask)
        return self._known[start, frame]

    def _picture(self, frame: int) -> U8:
        if frame not in self._small:
            rgb = self._rgb(frame)
            height = max(2, round(rgb.shape[0] * WIDTH / rgb.shape[1]))
            if len(self._small) > KEPT_SMALL:
                self._small.pop(next(iter(self._small)))
            self._small[frame] = np.asarray(cv2.resize(rgb, (WIDTH, height), interpolation=cv2.INTER_AREA), np.uint8)
        return self._small[frame]

    def _marks(self, frame: int) -> U8:
        """(h, w): GC_FGD and GC_BGD where strokes say so, else GC_PR_BGD."""
        picture = self._picture(frame)
        out = np.full(picture.shape[:2], cv2.GC_PR_BGD, np.uint8)
        scale = WIDTH / self._rgb(frame).shape[1]
        for stroke in self._strokes:
            if min(stroke.frame, self._frames - 1) == frame:
                way = np.round(np.array(stroke.points) * scale * 16).astype(np.int32).reshape(-1, 1, 2)
                wide = max(1, round(stroke.width * scale))
                value = cv2.GC_FGD if stroke.subject else cv2.GC_BGD
                if len(way) == 1:
                    cv2.circle(out, tuple(int(v) for v in way[0, 0]), wide * 8, value, -1, shift=4)
                else:
                    cv2.polylines(out, [way], False, value, wide, shift=4)
        return out

    def _cut(self, frame: int) -> U8:
        """Cut by the colours under the strokes, and by where they are."""
        picture, marks = self._picture(frame), self._marks(frame)
        subject, rest = marks == cv2.GC_FGD, marks == cv2.GC_BGD
        if not rest.any():
            # Without a stroke beside it, the picture's rim stands for what it is not.
            rest = np.zeros_like(subject)
            rest[:3], rest[:, :3], rest[:, -3:] = True, True, True
            rest &= ~cv2.dilate(subject.astype(np.uint8), np.ones((25, 25), np.uint8)).astype(bool)
            marks[rest] = cv2.GC_BGD
        lab = cv2.cvtColor(picture, cv2.COLOR_RGB2LAB).astype(np.float32)
        near = [_nearness(lab, where) for where in (subject, rest)]
        reach = 0.25 * WIDTH
        away = [cv2.distanceTransform((~w).astype(np.uint8), cv2.DIST_L2, 3) / reach * 14 for w in (subject, rest)]
        likely = near[0] + away[0] < near[1] + away[1]
        marks[(marks == cv2.GC_PR_BGD) & likely] = cv2.GC_PR_FGD
        return settled(picture, marks, 4)

    def _carry(self, mask: U8, start: int, frame: int, to: int) -> U8:
        """Where the subject is in the next frame: carried by dense flow, its edge found again in a band."""
        a, b = self._picture(frame), self._picture(to)
        grey = [cv2.cvtColor(p, cv2.COLOR_RGB2GRAY) for p in (b, a)]
        flow = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_FAST).calc(grey[0], grey[1], None)  # type: ignore[call-overload]
        h, w = mask.shape
        y, x = np.mgrid[0:h, 0:w].astype(np.float32)
        came = np.dstack([x + flow[..., 0], y + flow[..., 1]])
        hard = (carried_by(came, mask) > 127).astype(np.uint8)
        if not hard.any():
            return np.zeros_like(mask)
        differs = np.abs(carried_by(came, a).astype(np.int16) - b).max(axis=2)
        before = Before(start, frame, mask, came, differs < ALIKE_CODES)
        marks = self._band(hard, to, before)
        given = self._marks(to)
        for value in (cv2.GC_FGD, cv2.GC_BGD):
            marks[given == value] = value
        return self._settled(marks, to, before)

    def _settled(self, marks: U8, to: int, before: Before) -> U8:
        """A frame's mask (h, w) from marks in it."""
        return settled_near(self._picture(to), marks)

    def _band(self, hard: U8, to: int, before: Before | None = None) -> U8:
        """Where the edge of what was carried (h, w; 1 where it is) from the frame before is looked for in a frame."""
        marks = np.full(hard.shape, cv2.GC_BGD, np.uint8)
        marks[grown(hard, OUTER_PX)] = cv2.GC_PR_BGD
        marks[hard > 0] = cv2.GC_PR_FGD
        marks[(hard > 0) & ~grown(1 - hard, INNER_PX)] = cv2.GC_FGD
        return marks


def carried_by(came: F32, picture: NDArray) -> NDArray:
    """A picture (h, w, ...) of the frame before, where it lies now; came : (h, w, 2) where each pixel was then."""
    return cv2.remap(picture, came, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)  # type: ignore[call-overload]


def grown(solid: U8, by_px: float) -> NDArray[np.bool_]:
    """Where a mask (h, w; not 0 where it is) reaches when it grows by so many pixels."""
    if not solid.any():
        return np.zeros(solid.shape, bool)
    away = cv2.distanceTransform((solid == 0).astype(np.uint8), cv2.DIST_L2, 5)
    return np.asarray(away < by_px + 0.5)


def _nearness(lab: np.ndarray, where: np.ndarray) -> np.ndarray:
    """(h, w) how far each pixel's colour is from those under a mask: from the nearest of a few means."""
    samples = lab[where]
    if not len(samples):
        return np.full(lab.shape[:2], 1e3, np.float32)
    count = min(CLUSTERS, len(samples))
    stop = (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_MAX_ITER, 20, 0.5)
    cv2.setRNGSeed(7)
    _, _, means = cv2.kmeans(samples, count, None, stop, 2, cv2.KMEANS_PP_CENTERS)  # type: ignore[call-overload]
    return np.asarray(np.stack([np.linalg.norm(lab - m, axis=2) for m in means]).min(axis=0), np.float32)


def settled(picture: U8, marks: U8, rounds: int) -> U8:
    """GrabCut (C. Rother, V. Kolmogorov and A. Blake, 2004, doi:10.1145/1015706.1015720) from these marks; lone crumbs go."""
    models = np.zeros((1, 65)), np.zeros((1, 65))
    subject = np.isin(marks, (cv2.GC_FGD, cv2.GC_PR_FGD))
    if subject.sum() > 20 and (~subject).sum() > 20:
        cv2.setRNGSeed(7)
        cv2.grabCut(cv2.cvtColor(picture, cv2.COLOR_RGB2BGR), marks, None, *models, rounds, cv2.GC_INIT_WITH_MASK)  # type: ignore[call-overload]
    out = np.isin(marks, (cv2.GC_FGD, cv2.GC_PR_FGD)).astype(np.uint8)
    count, labels, stats, _ = cv2.connectedComponentsWithStats(out)
    if count > 2:
        sizes = stats[1:, cv2.CC_STAT_AREA]
        given = set(np.unique(labels[marks == cv2.GC_FGD]).tolist())
        kept = [k + 1 for k, s in enumerate(sizes) if s > 0.02 * sizes.max() or k + 1 in given]
        out = np.isin(labels, kept).astype(np.uint8)
    return out * np.uint8(255)


def settled_near(picture: U8, marks: U8) -> U8:
    """The same, once, where only what lies round it is looked at: its own colours against those beside it."""
    out = np.zeros(marks.shape, np.uint8)
    ys, xs = np.nonzero(marks != cv2.GC_BGD)
    if len(ys):
        window = np.s_[max(0, ys.min() - PAD_PX) : ys.max() + PAD_PX, max(0, xs.min() - PAD_PX) : xs.max() + PAD_PX]
        out[window] = settled(picture[window], np.ascontiguousarray(marks[window]), 1)
    return out


def _distance(mask: U8) -> np.ndarray:
    """Signed distance to a mask's edge, inside positive."""
    inside = (mask > 127).astype(np.uint8)
    return np.asarray(cv2.distanceTransform(inside, cv2.DIST_L2, 3) - cv2.distanceTransform(1 - inside, cv2.DIST_L2, 3))
