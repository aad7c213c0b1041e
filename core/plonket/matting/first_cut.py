"""The first cut of a thing that was picked: from clicks on it, or a loose box round it, in one frame.

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
from plonket.matting.carried import WIDTH, Carried, CutStroke, settled, settled_near
from plonket.matting.guesses import (
    BESIDE,
    LARGEST,
    MOVES_PX,
    SMALLEST,
    box_guesses,
    by_colour,
    by_growing,
    by_movement,
    disc,
    halved_mask,
    hanging_together,
    marks_along,
    marks_round,
    moving_parts,
    moving_together,
    steepness,
    worth_of,
)
from plonket.matting.own_movement import own_movement
from plonket.matting.people import PERSON
from plonket.matting.person_hint import PersonHint, marks_of, person_that_stands
from plonket.track.matte.settings import PickBox, PickClick

CLICK_PX = 3.0
"""Radius about a click, in reduced pixels, that surely belongs to what was clicked."""
TEXTURE_CODES = 6.0
"""SD of brightness nearby from which on movement is seen, not guessed."""
LEAST_OF_BOX = 0.04
"""Of a box, less than that is no thing that it was drawn round."""
UNCLEAR_BOX = "Nothing stands out in this box. Draw it closer round the thing, or click on it."
UNCLEAR = "Nothing stands out where you clicked. Draw a box round it, or click on more of it."
OF_PERSON, OF_STANDING = 0.45, 0.2
"""What a cut is worth more for being a person, and for being one of whom much stands still while what was clicked moves."""


def clicked(clicks: Sequence[PickClick], width: int) -> list[CutStroke]:
    """Clicks on a clip so many pixels wide, as strokes of one point."""
    wide = max(1.0, 2 * CLICK_PX * width / WIDTH)
    return [CutStroke(frame=c.frame, subject=c.subject, width=wide, points=[(c.x, c.y)]) for c in clicks]


class FirstCut(Carried):
    """Cuts what was picked in the frames that say what is meant.

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

    def _clicks(self, frame: int) -> list[tuple[float, float]]:
        """Where (x, y) it was clicked on a frame, in the clip's pixels."""
        mine = [s for s in self._strokes if s.subject and min(s.frame, self._frames - 1) == frame and len(s.points) == 1]
        return [s.points[0] for s in mine]

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
