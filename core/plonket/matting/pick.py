"""A thing picked by a click or a loose box, carried through the clip from its first cuts.

While it is carried, the colours of the frames that were given and the movement of each say where its edge may lie, and when it
is gone.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, U8
from plonket.matting.carried import Before, grown, settled
from plonket.matting.first_cut import FirstCut
from plonket.matting.guesses import (
    BESIDE,
    COUNTS,
    MOVES_PX,
    colour_cells,
    disc,
    made_solid,
    smooth_counts,
)
from plonket.matting.person_hint import (
    IS_ONE,
    NOTHING_ELSE,
    STILL_ONE,
    STRANGE,
    TOO_LARGE,
    hinted,
    one_of_several,
    shares,
)

VERSION = 3
"""Goes up whenever the same clicks would give another matte."""
WIDE_PX = 14
"""Reduced pixels beyond the carried edge in which colours of the thing are taken for it."""
LIKELY, SURELY = 1.5, 2.5
"""Logarithms of how much likelier a colour is on one side, from which it is likely there, and surely."""
UNSURE, SURE = 0.35, 0.75
"""Shares of the rim that has the colours of its side, from which on it is believed."""
GROWS_BY, GROWN_BY = 1.4, 2.2
"""Times its size on the nearest given frame up to which it may be itself, and from which on it hardly is."""
AGAINST, ALONG = -0.4, 0.6
"""Cosines below which something moves against the thing, and above which it goes its way."""
GONE_SHARE = 0.2
"""Of what was carried, less than this still has the colours of the thing when it is gone."""
FOUND, FOUND_SHARE, FOUND_SURE = 1.5, 0.25, 0.5
"""Likeness of colours, share of its size and sureness of its edge by which it is known again."""




class Picked(FirstCut):
    """The rough mask of what was picked, in any frame; see `FirstCut` for what it is given."""

    def mask(self, frame: int) -> U8:
        """(h, w) at the reduced size: 255 where the thing is."""
        return self._between(frame)

    def sureness(self, frame: int) -> float:
        """0 to 1: how well both sides of the edge have the colours that the given frames show there, and whether it is about
        as large as on them."""
        likely, mask = self._likely(frame), self.mask(frame)
        if likely is None:
            return 0.5
        nearest = min(self.staked, key=lambda s: abs(s - frame))
        was, now = ((one > 127).sum() for one in (self._from(nearest, nearest), mask))
        growth = abs(float(np.log((now + 1) / (was + 1))))
        as_large = float(np.clip((np.log(GROWN_BY) - growth) / np.log(GROWN_BY / GROWS_BY), 0.1, 1))
        return as_large * self._sure_of(mask, likely)

    @staticmethod
    def _sure_of(mask: U8, likely: F32) -> float:
        inside = (mask > 127).astype(np.uint8)
        within = (inside > 0) & grown(1 - inside, 5)
        beyond = grown(inside, 6) & ~grown(inside, 1)
        if not within.any() or not beyond.any():
            return 0.0
        # Of an edge between like colours half may well look wrong.
        least = min(float((likely[within] > 0).mean()), float((likely[beyond] < 0).mean()))
        return float(np.clip((least - UNSURE) / (SURE - UNSURE), 0, 1))

    def _band(self, hard: U8, to: int, before: Before | None = None) -> U8:
        """Where the edge is looked for in a frame; what moves by itself belongs to the thing, what does not lies beside it."""
        marks = super()._band(hard, to)
        likely = self._likely(to)
        free = self._hinted(marks, hard, to, before, likely)
        if likely is not None:
            wide = grown(hard, WIDE_PX)
            marks[free & wide & (marks == cv2.GC_BGD) & (likely > LIKELY)] = cv2.GC_PR_FGD
            marks[free & (marks == cv2.GC_PR_BGD) & (likely > LIKELY)] = cv2.GC_PR_FGD
            marks[free & (marks == cv2.GC_PR_FGD) & (likely < -LIKELY)] = cv2.GC_PR_BGD
            # What was once taken in by mistake must not stay for ever.
            marks[free & (marks == cv2.GC_FGD) & (likely < -SURELY)] = cv2.GC_PR_BGD
        moving, ways = self._ways(to)
        inner = marks == cv2.GC_FGD
        here = float(np.median(moving[inner])) if inner.any() else 0.0
        if here < MOVES_PX / BESIDE:
            return marks
        its_way = np.median(ways[inner], axis=0)
        against = (ways @ its_way < AGAINST * moving * np.linalg.norm(its_way)) & (moving > 0.5 * here) & self._shows(to)
        marks[cv2.morphologyEx(against.astype(np.uint8), cv2.MORPH_OPEN, disc(2)) > 0] = cv2.GC_BGD
        fast = (moving > 0.5 * here).astype(np.uint8)
        # Where there is nothing to see, movement is only made up from what lies round it.
        seen = self._shows(to)
        sure, may = cv2.erode(fast, np.ones((7, 7), np.uint8)) > 0, cv2.dilate(fast, np.ones((9, 9), np.uint8)) > 0
        marks[free & (marks == cv2.GC_PR_BGD) & sure & seen] = cv2.GC_PR_FGD
        # An arm that swings is lost to movement before its colours are.
        its = np.zeros(hard.shape, bool) if likely is None else likely > LIKELY
        # What comes out from behind something is of its colours and goes its way.
        along = (ways @ its_way > ALONG * moving * np.linalg.norm(its_way)) & (fast > 0) & its & seen
        along &= grown(hard, WIDE_PX)
        marks[(cv2.morphologyEx(along.astype(np.uint8), cv2.MORPH_OPEN, disc(2)) > 0) & free] = cv2.GC_FGD
        marks[free & ~may & seen & ~its & (marks != cv2.GC_FGD)] = cv2.GC_BGD
        return marks

    def _hinted(self, marks: U8, hard: U8, to: int, before: Before | None, likely: F32 | None) -> NDArray[np.bool_]:
        """Marks put right by a person seen there, if one was picked; where (h, w) that leaves the edge to be told otherwise."""
        nearest = min(self.staked, key=lambda s: abs(s - to))
        its, beyond = self._as_person(nearest)
        seen = self._told.get(to)
        if seen is None:
            if its < IS_ONE or beyond > STRANGE or to == nearest:
                return np.ones(hard.shape, bool)
            seen = self._person.carried(to, hard, before, None if before is None else self._told.get(before.frame))
        here, strange = shares(seen, hard * np.uint8(255))
        if seen is None or here < STILL_ONE * its or strange > STRANGE:
            self._person.forget()
            return np.ones(hard.shape, bool)
        if hard.sum() > TOO_LARGE * self._usual_size():
            self._person.forget()
        steady = before if self._person.alone(to) else None
        return ~hinted(marks, hard, seen, only=its > NOTHING_ELSE, likely=likely, before=steady)

    def _settled(self, marks: U8, to: int, before: Before) -> U8:
        return self._person.steadied(to, super()._settled(marks, to, before), before)

    def _as_person(self, staked: int) -> tuple[float, float]:
        """Of what was picked on a given frame, how much is a person's, and how much more a person has nearby."""
        if staked not in self._persons:
            # Cut anew where only later masks were kept.
            mask = self._from(staked, staked)
            seen = self._told.get(staked)
            self._persons[staked] = shares(self._person.about(staked, mask) if seen is None else seen, mask)
        return self._persons[staked]

    def _carry(self, mask: U8, start: int, frame: int, to: int) -> U8:
        """Where it is in the next frame; nothing of it, once nothing there has its colours; and where it is seen again."""
        out = super()._carry(mask, start, frame, to) if mask.any() else np.zeros_like(mask)
        likely = self._likely(to)
        if likely is None:
            return out
        if self._as_person(min(self.staked, key=lambda s: abs(s - to)))[0] > NOTHING_ELSE:
            out = one_of_several(out, likely, self._usual_size())
        if out.any() and float((likely[out > 127] > 0).mean()) < GONE_SHARE:
            out = np.zeros_like(mask)
        return out if out.any() else self._seen_again(to, likely)

    def _seen_again(self, frame: int, likely: F32) -> U8:
        """A thing that was covered, or had left, where it comes back: as large, of its colours, moving if it moved."""
        nothing = np.zeros(likely.shape, np.uint8)
        its = cv2.morphologyEx((likely > FOUND).astype(np.uint8), cv2.MORPH_OPEN, disc(2))
        count, labels, stats, _ = cv2.connectedComponentsWithStats(its)
        if count < 2:
            return nothing
        largest = 1 + int(np.argmax(stats[1:, cv2.CC_STAT_AREA]))
        usual = self._usual_size()
        found = labels == largest
        if not FOUND_SHARE * usual < found.sum() < usual / FOUND_SHARE:
            return nothing
        moved = [float(np.median(self._moves(s)[self._from(s, s) > 127])) for s in self.staked]
        if min(moved) > MOVES_PX / BESIDE and float(np.median(self._moves(frame)[found])) < 0.1 * min(moved):
            return nothing
        cut = settled(self._picture(frame), self._band(made_solid(found).astype(np.uint8), frame), 2)
        return cut if self._sure_of(cut, likely) > FOUND_SURE else nothing

    def _usual_size(self) -> float:
        """Pixels it covers on the given frames."""
        return float(np.median([(self._from(s, s) > 127).sum() for s in self.staked]))

    def _likely(self, frame: int) -> F32 | None:
        """(h, w) how much likelier each pixel's colour is on the thing than beside it (logarithm), as the given frames show
        both."""
        if self._colours is not None and self._likeness is not None and self._likeness[0] == frame:
            return self._likeness[1]
        if self._colours is None:
            inside, beside = np.zeros(COUNTS, np.float32), np.zeros(COUNTS, np.float32)
            for staked in self.staked:
                mask = self._from(staked, staked)
                solid = (mask > 127).astype(np.uint8)
                cells = colour_cells(cv2.cvtColor(self._picture(staked), cv2.COLOR_RGB2LAB).astype(np.float32))
                near = grown(solid, 60) & ~grown(solid, 2)
                inside += np.bincount(cells[cv2.erode(solid, disc(1)) > 0], minlength=COUNTS)
                beside += np.bincount(cells[near], minlength=COUNTS)
            if inside.sum() < 30 or beside.sum() < 30:
                return None
            self._colours = smooth_counts(inside), smooth_counts(beside)
        one, two = self._colours
        cells = colour_cells(cv2.cvtColor(self._picture(frame), cv2.COLOR_RGB2LAB).astype(np.float32))
        told = np.asarray(np.log((one + 1e-6) / (two + 1e-6)), np.float32)
        self._likeness = frame, told[cells]
        return self._likeness[1]
