"""The hint of a network that sees people, as marks for a cut: where a thing was picked, and while it is carried."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, U8
from plonket.matting.carried import Before, carried_by, grown
from plonket.matting.guesses import BESIDE, MOVES_PX, disc
from plonket.matting.people import PERSON, Window, likely_small, person_at, person_in
from plonket.matting.person_memory import PersonMemory

CORE, NOT = 0.88, 0.1
"""Likelihoods above and below which a pixel is surely a person's, and surely not."""
THIN_PX, DEEP_PX = 2, 5
"""Reduced pixels inside the edge from which on a thin part stays itself, and how deep what is not thin goes."""
IS_ONE, STRANGE = 0.55, 0.4
"""Shares of a picked thing that must be a person's, and that a person may have beyond it, for it to be followed as one."""
NOTHING_ELSE = 0.85
"""From this share on it is a person and nothing besides."""
STILL_ONE = 0.6
"""Of that share, what must be found of a carried person for the hint to count."""
OTHER = 0.25
"""Of the picked person's size, what another one has at least."""
STANDS, STANDS_SHARE = 0.2, 0.2
"""Of the speed of what was clicked, less than that stands still; and how much of a person must, for that to be odd."""
OTHERWISE = 1.5
"""Logarithm of how much likelier a colour is on one side, from which the hint does not decide against it."""
TOO_LARGE = 1.25
"""Times its size from which on a person is taken for several."""
GAP = 0.1
"""Half of how far apart they stand then, as a share of its size."""
REACH, LEAST_REACH, MOST_REACH = 0.16, 4, 14
"""How far beyond the carried edge a person is believed: a share of its size, in reduced pixels."""


class PersonHint:
    """Likelihoods of a person at the reduced size (`width` pixels across).

    Parameters
    ----------
    rgb : frame -> 8-bit (h, w, 3). width : of what is cut. load, save : what is remembered, kept elsewhere by its name.
    """

    def __init__(
        self, rgb: Callable[[int], U8], width: int,
        load: Callable[[str], U8 | None] = lambda _: None, save: Callable[[str, U8], None] = lambda _name, _kept: None,
    ) -> None:  # fmt: skip
        self._rgb, self._width, self._load, self._save = rgb, width, load, save
        self._last: tuple[int, Window, F32] | None = None
        self._memories: dict[int, PersonMemory] = {}
        self._now: PersonMemory | None = None

    def clicked(self, frame: int, clicks: Sequence[tuple[float, float]]) -> F32 | None:
        """0 to 1 (h, w) reduced: the people under clicks (x, y) of a frame; None if there are none."""
        rgb, out = self._rgb(frame), None
        for x, y in clicks:
            if out is not None and out[_at(out, x, y)] > PERSON:
                continue
            found = person_at(rgb, x, y)
            if found is not None:
                out = found if out is None else np.maximum(out, found)
        return None if out is None else self._reduced(out)

    def boxed(self, frame: int, inside: NDArray[np.bool_]) -> F32 | None:
        """The same for the person who fills a good part of a region (h, w), reduced."""
        rgb = self._rgb(frame)
        large = cv2.resize(inside.astype(np.uint8), (rgb.shape[1], rgb.shape[0]), interpolation=cv2.INTER_NEAREST)
        found = person_in(rgb, large > 0)
        return None if found is None else self._reduced(found)

    def about(self, frame: int, mask: U8) -> F32 | None:
        """The same for whoever is about where a mask is (h, w; not 0), reduced."""
        rgb = self._rgb(frame)
        if not mask.any():
            return None
        scale = rgb.shape[1] / mask.shape[1]
        ys, xs = np.nonzero(mask)
        window = Window.round_box(xs.min() * scale, ys.min() * scale, (xs.max() + 1) * scale, (ys.max() + 1) * scale,
                                  (rgb.shape[1], rgb.shape[0]))  # fmt: skip
        if self._last is None or self._last[:2] != (frame, window):
            # Neighbouring frames are taken together: one of them is shown mirrored.
            seen = likely_small(window.of(rgb), flips=(frame % 2 == 1,))
            self._last = frame, window, self._laid(seen, window, rgb.shape)
        return self._last[2]

    def alone(self, frame: int) -> bool:
        """Whether one person was followed into a frame, and no other was near."""
        return self._now is not None and self._now.frame == frame

    def forget(self) -> None:
        """That what was told last does not count later."""
        self._now = None

    def carried(self, frame: int, hard: U8, before: Before | None, told: F32 | None = None) -> F32 | None:
        """The same beside a mask that was carried there (h, w; 1 where it is): what one frame misses those before may show; and
        another person there was another one before. told : (h, w) what is known of the frame before."""
        self._now = None
        was = None if before is None else self.about(before.frame, before.mask)
        seen = self.about(frame, hard)
        if before is None or was is None or seen is None:
            return seen
        others = other_people(was, before.mask)
        if others.any():
            # Where people meet, what was said before may be another one's.
            both = 0.5 * seen + 0.5 * carried_by(before.came, was)
            return np.where(carried_by(before.came, others) > 127, 0, both).astype(np.float32)
        memory = self._remembered(before) or PersonMemory.of(before.frame, was if told is None else told)
        self._now = memory.gone_on(frame, seen, before)
        return self._now.likely

    def steadied(self, frame: int, cut: U8, before: Before) -> U8:
        """A cut (h, w; 0 or 255) of one person who was followed there, weighed with what was seen and decided before."""
        if self._now is None or self._now.frame != frame or not cut.any():
            return cut
        decided = self._now.decision(cut, before, self._remembered(before))
        memory = PersonMemory.of(frame, self._now.likely, decided)
        self._memories[before.start] = memory
        self._save(f"{before.start}-{frame}-person", memory.kept())
        return np.where(decided > 0.5, 255, 0).astype(np.uint8)

    def _remembered(self, before: Before) -> PersonMemory | None:
        """What was told of the frame before, on the way from the same given one."""
        memory = self._memories.get(before.start)
        if memory is not None and memory.frame == before.frame:
            return memory
        kept = self._load(f"{before.start}-{before.frame}-person")
        return None if kept is None else PersonMemory.read(before.frame, kept, before.mask.shape[0])

    def _laid(self, seen: F32, window: Window, shape: tuple[int, ...]) -> F32:
        """What is told in a window of a picture, in all of it, reduced."""
        scale = shape[1] / self._width
        wide, high = seen.shape[1] / (window.x1 - window.x0), seen.shape[0] / (window.y1 - window.y0)
        # From a reduced pixel's middle to the window's pixels, and on to those that were seen.
        to = np.array([[scale * wide, 0, ((0.5 * scale - window.x0) * wide - 0.5)],
                       [0, scale * high, ((0.5 * scale - window.y0) * high - 0.5)]])  # fmt: skip
        size = self._width, max(2, round(shape[0] * self._width / shape[1]))
        return np.asarray(cv2.warpAffine(seen, to, size, flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP), np.float32)

    def _reduced(self, seen: F32) -> F32:
        size = self._width, max(2, round(seen.shape[0] * self._width / seen.shape[1]))
        return np.asarray(cv2.resize(seen, size, interpolation=cv2.INTER_AREA), np.float32)


def marks_of(seen: F32, given: U8) -> U8:
    """Marks (h, w) for a cut of a person; clicks are sure; one that takes away makes what is nearer to it than to others
    doubtful.
    """
    marks = np.full(seen.shape, cv2.GC_BGD, np.uint8)
    marks[seen > NOT] = cv2.GC_PR_BGD
    marks[seen > PERSON] = cv2.GC_PR_FGD
    core = cv2.erode((seen > CORE).astype(np.uint8), disc(1)) > 0
    away, on = given == cv2.GC_BGD, given == cv2.GC_FGD
    if away.any() and on.any():
        far = [cv2.distanceTransform((~one).astype(np.uint8), cv2.DIST_L2, 3) for one in (away, on)]
        core &= far[0] > far[1]
        marks[(seen > PERSON) & (far[0] < 0.5 * far[1])] = cv2.GC_PR_BGD
    marks[core] = cv2.GC_FGD
    for value in (cv2.GC_FGD, cv2.GC_BGD):
        marks[given == value] = value
    return marks


def person_that_stands(person: F32, moving: F32, on: NDArray[np.bool_], seen: NDArray[np.bool_]) -> bool:
    """Whether much of a person stands still although the clicked place `on` moves; moving : (h, w) reduced pixels a frame.

    seen : (h, w) where there is enough to see for that.
    """
    here = float(np.median(moving[on]))
    its = (person > PERSON) & seen
    if here < MOVES_PX / BESIDE or not its.any():
        return False
    return float((moving[its] < STANDS * here).mean()) > STANDS_SHARE


def shares(seen: F32 | None, mask: U8) -> tuple[float, float]:
    """Of a mask (h, w): how much of it is a person's, and how much a person has beyond it nearby, as shares of its size."""
    solid = (mask > 127).astype(np.uint8)
    area = float(solid.sum())
    if seen is None or area == 0:
        return 0.0, 0.0
    near = grown(solid, reach_of(solid))
    its, inside = seen > PERSON, solid > 0
    return float((its & inside).sum()) / area, float((its & near & ~inside).sum()) / area


def other_people(seen: F32, mask: U8) -> U8:
    """(h, w): 255 where people are who are not the one whose mask this is: large, and hardly touched by it."""
    solid = (mask > 127).astype(np.uint8)
    beyond = ((seen > PERSON) & ~grown(solid, 3)).astype(np.uint8)
    opened = cv2.morphologyEx(beyond, cv2.MORPH_OPEN, disc(2))
    count, labels, stats, _ = cv2.connectedComponentsWithStats(opened)
    large = [k for k in range(1, count) if stats[k, cv2.CC_STAT_AREA] > OTHER * solid.sum()]
    return np.asarray(cv2.dilate(np.isin(labels, large).astype(np.uint8) * np.uint8(255), disc(2)), np.uint8)


def one_of_several(mask: U8, likely: F32, usual: float) -> U8:
    """A person's mask (h, w) that is too large and falls into several: the one whose colours are the likeliest.

    likely : (h, w) logarithm of how much likelier a colour is on the thing. usual : pixels that it covers.
    """
    solid = (mask > 127).astype(np.uint8)
    if solid.sum() < TOO_LARGE * usual:
        return mask
    # A post that stands before one person does not make two of it.
    near = grown(solid, max(1, round(GAP * float(np.sqrt(usual))))).astype(np.uint8)
    count, labels = cv2.connectedComponents(near)
    labels[solid == 0] = 0
    sizes = np.bincount(labels.ravel(), minlength=count)[1:]
    if count < 3 or np.sort(sizes)[-2] < OTHER * usual:
        return mask
    colours = [float(likely[labels == k].mean()) if size > OTHER * usual else -np.inf for k, size in enumerate(sizes, 1)]
    return np.where(labels == 1 + int(np.argmax(colours)), mask, 0).astype(np.uint8)


def reach_of(solid: U8) -> int:
    """How far beyond the carried edge of a mask (h, w; 1 where it is) a person is believed, in its pixels."""
    return int(np.clip(REACH * float(np.sqrt(solid.sum())), LEAST_REACH, MOST_REACH))


def hinted(
    marks: U8, hard: U8, seen: F32, *, only: bool, likely: F32 | None, before: Before | None = None
) -> NDArray[np.bool_]:
    """Marks of a carried mask (h, w; 1 where it is), put right by where a person is seen; where that decided them.

    only : whether what was picked is a person and nothing besides. likely : (h, w) logarithm of how much likelier a colour is
    on it; where colours say clearly otherwise, both are left open. before : from where it was carried, if it was.
    """
    near = grown(hard, reach_of(hard))
    colours = np.zeros(seen.shape, np.float32) if likely is None else likely
    core = (cv2.erode((seen > CORE).astype(np.uint8), disc(1)) > 0) & near
    sure = core & (colours > -OTHERWISE)
    marks[core] = cv2.GC_PR_FGD
    marks[sure & (hard > 0)] = cv2.GC_FGD
    decided = sure
    if only:
        none = (seen < NOT) & grown(hard, MOST_REACH) & (colours < OTHERWISE)
        marks[none] = np.where(hard[none] > 0, cv2.GC_PR_BGD, cv2.GC_BGD)
        doubtful = near & (seen >= NOT) & ~core
        marks[doubtful] = np.where(seen[doubtful] > PERSON, cv2.GC_PR_FGD, cv2.GC_PR_BGD)
        decided = decided | none
    if before is None:
        return decided
    # A thin part, as an arm, has no depth by which it would be sure.
    deep = cv2.erode(hard, disc(DEEP_PX))
    thin = (hard > 0) & ~grown(deep, DEEP_PX + 2) & ~grown(1 - hard, THIN_PX - 1)
    thin &= before.alike & (seen > PERSON) & (colours > 0)
    marks[thin] = cv2.GC_FGD
    return decided | thin


def _at(seen: F32, x: float, y: float) -> tuple[int, int]:
    return min(max(int(y), 0), seen.shape[0] - 1), min(max(int(x), 0), seen.shape[1] - 1)
