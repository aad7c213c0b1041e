"""A thing picked by a click or a loose box, and carried through the clip.

What lies under a click is told in several ways: by what moves otherwise than the picture as a whole, by what is not of the
colours of the rest, by regions that grow from the click until something steep is met. Each is cut by its colours; the cut
along whose edge most changes, and whose two sides differ most in colour and movement, is the one that was meant.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, U8
from plonket.base.errors import Degenerate
from plonket.matting.carried import WIDTH, Before, Carried, CutStroke, grown, settled, settled_near
from plonket.matting.guesses import (
    BESIDE,
    COUNTS,
    LARGEST,
    MOVES_PX,
    SMALLEST,
    box_guesses,
    by_colour,
    by_growing,
    by_movement,
    colour_cells,
    disc,
    halved_mask,
    hanging_together,
    made_solid,
    marks_along,
    marks_round,
    moving_parts,
    moving_together,
    smooth_counts,
    steepness,
    worth_of,
)
from plonket.matting.own_movement import own_movement
from plonket.matting.people import PERSON
from plonket.matting.person_hint import (
    IS_ONE,
    NOTHING_ELSE,
    STILL_ONE,
    STRANGE,
    TOO_LARGE,
    PersonHint,
    hinted,
    marks_of,
    one_of_several,
    person_that_stands,
    shares,
)
from plonket.track.matte.settings import PickBox, PickClick

VERSION = 3
"""Goes up whenever the same clicks would give another matte."""
CLICK_PX = 3.0
"""Radius about a click, in reduced pixels, that surely belongs to what was clicked."""
TEXTURE_CODES = 6.0
"""SD of brightness nearby from which on movement is seen, not guessed."""
WIDE_PX = 14
"""Reduced pixels beyond the carried edge in which colours of the thing are taken for it."""
LIKELY, SURELY = 1.5, 2.5
"""Logarithms of how much likelier a colour is on one side, from which it is likely there, and surely."""
LEAST_OF_BOX = 0.04
"""Of a box, less than that is no thing that it was drawn round."""
UNCLEAR_BOX = "Nothing stands out in this box. Draw it closer round the thing, or click on it."
UNCLEAR = "Nothing stands out where you clicked. Draw a box round it, or click on more of it."
UNSURE, SURE = 0.35, 0.75
"""Shares of the rim that has the colours of its side, from which on it is believed."""
GROWS_BY, GROWN_BY = 1.4, 2.2
"""Times its size on the nearest given frame up to which it may be itself, and from which on it hardly is."""
AGAINST, ALONG = -0.4, 0.6
"""Cosines below which something moves against the thing, and above which it goes its way."""
GONE_SHARE = 0.2
"""Of what was carried, less than this still has the colours of the thing when it is gone."""
OF_PERSON, OF_STANDING = 0.45, 0.2
"""What a cut is worth more for being a person, and for being one of whom much stands still while what was clicked moves."""
FOUND, FOUND_SHARE, FOUND_SURE = 1.5, 0.25, 0.5
"""Likeness of colours, share of its size and sureness of its edge by which it is known again."""


def clicked(clicks: Sequence[PickClick], width: int) -> list[CutStroke]:
    """Clicks on a clip so many pixels wide, as strokes of one point."""
    wide = max(1.0, 2 * CLICK_PX * width / WIDTH)
    return [CutStroke(frame=c.frame, subject=c.subject, width=wide, points=[(c.x, c.y)]) for c in clicks]


class Picked(Carried):
    """The rough mask of what was picked, in any frame.

    Parameters
    ----------
    rgb : frame -> 8-bit (h, w, 3). frames : how many there are. strokes : over the thing and over what is not it; those of
        one point are clicks. boxes : loosely round it. strict : whether a click where nothing stands out is refused, or else
        cut as a short stroke.

    Raises
    ------
    Degenerate
        Neither a stroke nor a box is on the thing; and, when its mask is asked for, nothing stands out.
    """

    def __init__(
        self, rgb: Callable[[int], U8], frames: int, strokes: Sequence[CutStroke], boxes: Sequence[PickBox] = (), *,
        strict: bool = False,
        load: Callable[[str], U8 | None] | None = None, save: Callable[[str, U8], None] | None = None,
    ) -> None:  # fmt: skip
        super().__init__(rgb, frames, strokes, load=load, save=save)
        self._boxes, self._strict = boxes, strict
        self._colours: tuple[F32, F32] | None = None
        self._movement: tuple[int, F32, F32] | None = None
        self._person = PersonHint(self._rgb, WIDTH, self._load, self._save)
        self._likeness: tuple[int, F32] | None = None
        self._told: dict[int, F32] = {}
        self._persons: dict[int, tuple[float, float]] = {}
        # What is only taken away is taken away as the thing passes.
        on_it = [s.frame for s in strokes if s.subject] + [b.frame for b in boxes]
        self.staked = sorted({min(frame, frames - 1) for frame in on_it})
        if not self.staked:
            raise Degenerate("pick.nothing", "Click on what is meant first, or draw a box round it.")

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

    def _cut(self, frame: int) -> U8:
        drawn = [s for s in self._strokes if s.subject and min(s.frame, self._frames - 1) == frame and len(s.points) > 1]
        if drawn:
            return super()._cut(frame)
        picture, marks = self._picture(frame), self._marks(frame)
        h, w = marks.shape
        boxes = [b for b in self._boxes if min(b.frame, self._frames - 1) == frame]
        if boxes:
            return self._in_boxes(frame, marks, boxes)
        lab = cv2.cvtColor(cv2.bilateralFilter(picture, 5, 25, 3), cv2.COLOR_RGB2LAB).astype(np.float32)
        on = marks == cv2.GC_FGD
        moving = self._moves(frame)
        seen = self._shows(frame)
        moved = by_movement(moving, on, seen)
        guesses = [*moved, by_colour(lab, on), *by_growing(lab, on)]
        # What movement tells is right but for its edge: its colours may be those of anything.
        tried = [(one, marks_round(one, marks), 0.0) for one in guesses]
        tried += [(one, marks_along(one, marks), 0.0) for one in moved]
        person = self._person.clicked(frame, self._clicks(frame))
        if person is not None:
            stands = person_that_stands(person, moving, on, seen)
            tried.append((person > PERSON, marks_of(person, marks), OF_STANDING if stands else OF_PERSON))
        together = moving_together(moving, on, seen)
        # They are judged at half the size; the best is cut again at the whole one.
        half = (w // 2, h // 2)
        small, small_lab = (np.ascontiguousarray(cv2.resize(p, half, interpolation=cv2.INTER_AREA)) for p in (picture, lab))
        small_on, goes = halved_mask(on, half), None if together is None else halved_mask(together, half)
        steep = steepness(small_lab)

        def judged(guess: tuple[NDArray[np.bool_], U8, float]) -> tuple[float, U8]:
            one, given, extra = guess
            if not SMALLEST * one.size < one.sum() < LARGEST * one.size:
                return -np.inf, marks
            marked = cv2.resize(given, half, interpolation=cv2.INTER_NEAREST)
            marked[small_on] = cv2.GC_FGD
            cut = self._clicked(settled(small, np.asarray(marked, np.uint8), 2), small_on)
            if not SMALLEST * cut.size < (cut > 0).sum() < LARGEST * cut.size:
                return -np.inf, cut
            return worth_of(cut > 0, small_lab, steep, goes) + extra, cut

        with ThreadPoolExecutor() as pool:
            worths = list(pool.map(judged, tried))
        nth = max(range(len(tried)), key=lambda k: worths[k][0])
        best_worth, cut = worths[nth]
        if best_worth == -np.inf:
            if not self._strict:
                return super()._cut(frame)
            raise Degenerate("pick.unclear", UNCLEAR)
        if person is not None and tried[nth][2] > 0:
            self._told[frame] = person
        best = cv2.resize(cut, (w, h), interpolation=cv2.INTER_LINEAR) > 127
        return self._again(frame, np.where(best, 255, 0).astype(np.uint8))

    @staticmethod
    def _clicked(mask: U8, on: NDArray[np.bool_]) -> U8:
        """Only what hangs together with the clicks, or nearly: another one that looks like it is not meant."""
        near = cv2.dilate(mask, disc(2)) > 0
        return np.where(hanging_together(near, on), mask, 0).astype(np.uint8)

    def _again(self, frame: int, mask: U8) -> U8:
        """A first cut, cut again now that its colours and those beside it are known, twice; a person once more."""
        picture, given = self._picture(frame), self._marks(frame)
        for _ in range(3 if frame in self._told else 2):
            self._known[frame, frame], self._colours = mask, None
            marks = self._band((mask > 127).astype(np.uint8), frame)
            for value in (cv2.GC_FGD, cv2.GC_BGD):
                marks[given == value] = value
            on = given == cv2.GC_FGD
            again = self._clicked(settled_near(picture, marks), on if on.any() else mask > 127)
            if not (again > 0).any():
                break
            mask = again
        self._colours = None
        return mask

    def _in_boxes(self, frame: int, marks: U8, boxes: Sequence[PickBox]) -> U8:
        """Everything inside a box that is not as what lies round it; where something moves there, rather that."""
        picture, scale = self._picture(frame), marks.shape[1] / self._rgb(frame).shape[1]
        inside = np.zeros(marks.shape, bool)
        for b in boxes:
            x0, x1 = sorted((round(b.x0 * scale), round(b.x1 * scale)))
            y0, y1 = sorted((round(b.y0 * scale), round(b.y1 * scale)))
            inside[max(y0, 0) : max(y1, 1), max(x0, 0) : max(x1, 1)] = True
        if inside.all() or not inside.any():
            raise Degenerate("pick.box", "This box leaves nothing round it to tell the thing from. Draw it a little smaller.")
        lab = cv2.cvtColor(cv2.bilateralFilter(picture, 5, 25, 3), cv2.COLOR_RGB2LAB).astype(np.float32)
        steep, moving = steepness(lab), self._moves(frame)
        fast = float(np.percentile(moving[inside], 90))
        together = moving > 0.35 * fast if fast > 2 * MOVES_PX / BESIDE else None
        person = self._person.boxed(frame, inside)
        guesses = [(one, 0.0) for one in box_guesses(inside, self._shows(frame), moving, fast)]
        if person is not None:
            guesses.append((marks_of(person, marks), OF_PERSON))
        best, best_worth, best_extra = None, -np.inf, 0.0
        for tried, extra in guesses:
            for value in (cv2.GC_FGD, cv2.GC_BGD):
                tried[marks == value] = value
            cut = settled(picture, tried, 3)
            cut = cut if together is None else moving_parts(cut, together)
            if (cut > 127).sum() < LEAST_OF_BOX * inside.sum():
                continue
            worth = worth_of(cut > 127, lab, steep, None if together is None else together & inside) + extra
            if worth > best_worth:
                best, best_worth, best_extra = cut, worth, extra
        if best is None:
            raise Degenerate("pick.unclear", UNCLEAR_BOX)
        if person is None or best_extra == 0:
            return best
        self._told[frame] = person
        return self._again(frame, best)

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

    def _clicks(self, frame: int) -> list[tuple[float, float]]:
        """Where (x, y) it was clicked on a frame, in the clip's pixels."""
        mine = [s for s in self._strokes if s.subject and min(s.frame, self._frames - 1) == frame and len(s.points) == 1]
        return [s.points[0] for s in mine]

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

    def _shows(self, frame: int) -> NDArray[np.bool_]:
        """(h, w) where there is enough to see for movement to be seen, too."""
        grey = cv2.cvtColor(self._picture(frame), cv2.COLOR_RGB2GRAY).astype(np.float32)
        spread = cv2.GaussianBlur(grey**2, (0, 0), 2.0) - cv2.GaussianBlur(grey, (0, 0), 2.0) ** 2
        return np.asarray(spread > TEXTURE_CODES**2)

    def _moves(self, frame: int) -> F32:
        """(h, w) reduced pixels a frame by which each place moves otherwise than the picture as a whole."""
        return self._ways(frame)[0]

    def _ways(self, frame: int) -> tuple[F32, F32]:
        """The same, and which way (h, w, 2)."""
        if self._movement is not None and self._movement[0] == frame:
            return self._movement[1:]
        self._movement = (frame, *own_movement(self._picture, frame, self._frames))
        return self._movement[1:]
