"""Where a small network sees a person: a hint of what is meant by a click or a box, and of where it is later.

The network is the square one of the npm package `@mediapipe/selfie_segmentation` 0.1.1675465747 (Apache-2.0), 256 x 256
pixels, run by OpenCV. It was made for one person who fills a good part of the picture, so it is shown windows round the
place; it tells people softly, and nothing else.
"""

from __future__ import annotations

import threading
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, U8

SIDE = 256
"""Pixels across that the network sees."""
WINDOWS = (1.0, 0.7, 0.5, 0.35, 0.25, 0.18)
"""Heights of the windows in which a person is looked for, as shares of the picture's."""
SMALLEST_PX = 40
"""Windows are no smaller than this."""
ROUND = 1.35
"""A window round a person is so many times as large."""
LOOSER = 1.35
"""And so many times larger a second one."""
STEP = 1.12
"""Windows that are put round something have sizes so far apart, and places a twelfth of them."""
PERSON = 0.5
"""From which likelihood on a pixel belongs to one."""
SURE = 0.72
"""How sure its inside and its rim must be, for there to be a person at all."""
TOO_EMPTY, TOO_FULL = 0.05, 0.6
"""Shares of a window below and above which what fills it is told badly."""
LEAST_OF_REGION = 0.08
"""Of a region, less than that is no person that fills it."""
_LOCK = threading.Lock()


@dataclass(frozen=True, slots=True)
class Window:
    """A part of a picture, in its pixels: from (x0, y0) to before (x1, y1)."""

    x0: int
    y0: int
    x1: int
    y1: int

    @staticmethod
    def about(
        x: float, y: float, across: float, size: tuple[int, int], least: tuple[float, float] = (0.0, 0.0)
    ) -> Window:
        """A square round a place, moved and reduced so that it lies in a picture of `size` (width, height); no square any more
        where it would be smaller than `least` (width, height)."""
        w, h = size
        wide, high = (round(min(max(min(across, w, h), one), most)) for one, most in zip(least, size, strict=True))
        x0 = round(min(max(x - wide / 2, 0), w - wide))
        y0 = round(min(max(y - high / 2, 0), h - high))
        return Window(x0, y0, x0 + wide, y0 + high)

    @staticmethod
    def round(where: NDArray[np.bool_], times: float = 1.0) -> Window:
        """A square loosely round what a mask (h, w) covers, in its picture; so many times as large as is usual."""
        ys, xs = np.nonzero(where)
        return Window.round_box(xs.min(), ys.min(), xs.max() + 1, ys.max() + 1, (where.shape[1], where.shape[0]), times)

    @staticmethod
    def round_box(x0: float, y0: float, x1: float, y1: float, size: tuple[int, int], times: float = 1.0) -> Window:
        """The same round a box, in a picture of `size` (width, height), in steps: boxes nearly alike have the same one."""
        across = max(SMALLEST_PX, times * ROUND * max(x1 - x0, y1 - y0))
        across = STEP ** round(np.log(across) / np.log(STEP))
        by = across / 12
        return Window.about(round((x0 + x1) / 2 / by) * by, round((y0 + y1) / 2 / by) * by, across, size,
                            (x1 - x0 + 2 * by, y1 - y0 + 2 * by))  # fmt: skip

    @property
    def area(self) -> int:
        return (self.x1 - self.x0) * (self.y1 - self.y0)

    def of(self, picture: U8) -> U8:
        return picture[self.y0 : self.y1, self.x0 : self.x1]

    def filled(self, part: F32, shape: tuple[int, ...]) -> F32:
        """What is known in the window, in a picture (h, w); 0 elsewhere."""
        out = np.zeros(shape, np.float32)
        out[self.y0 : self.y1, self.x0 : self.x1] = part
        return out


def likely(part: U8, *, flips: Sequence[bool] = (False, True)) -> F32:
    """0 to 1 (h, w): how likely each pixel of a picture (h, w, 3) belongs to a person who fills a good part of it; the mean of
    what is told with it mirrored or not."""
    h, w = part.shape[:2]
    return np.asarray(cv2.resize(likely_small(part, flips=flips), (w, h), interpolation=cv2.INTER_LINEAR), np.float32)


def likely_small(part: U8, *, flips: Sequence[bool] = (False, True)) -> F32:
    """The same at the network's own size, (`SIDE`, `SIDE`)."""
    small = cv2.resize(part, (SIDE, SIDE), interpolation=cv2.INTER_AREA)
    seen = np.mean([_mirrored(_seen(_mirrored(small, flip)), flip) for flip in flips], axis=0)
    return np.asarray(np.clip(seen, 0, 1), np.float32)


def _mirrored(picture: NDArray, flip: bool) -> NDArray:
    return np.ascontiguousarray(picture[:, ::-1]) if flip else picture


def person_at(rgb: U8, x: float, y: float) -> F32 | None:
    """0 to 1 (h, w): the person who stands at a place of a picture; None if none is seen there.

    Looked for in windows of several sizes; the one in which it is told most clearly is put closely round it, and it is told
    again there.
    """
    h, w = rgb.shape[:2]
    best: tuple[float, F32] | None = None
    for share in WINDOWS:
        found = _clear(rgb, Window.about(x, y, max(share * h, SMALLEST_PX), (w, h)), x, y, flips=(False,))
        if found is not None and (best is None or found[0] > best[0]):
            best = found
    return None if best is None else _closely(rgb, best, x, y)


def person_in(rgb: U8, inside: NDArray[np.bool_]) -> F32 | None:
    """0 to 1 (h, w): the person who fills a good part of a region (h, w) of a picture; None if none does."""
    window = Window.round(inside)
    seen = np.where(inside, window.filled(likely(window.of(rgb)), inside.shape), 0).astype(np.float32)
    count, labels, stats, _ = cv2.connectedComponentsWithStats((seen > PERSON).astype(np.uint8))
    if count < 2:
        return None
    largest = labels == 1 + int(np.argmax(stats[1:, cv2.CC_STAT_AREA]))
    if largest.sum() < LEAST_OF_REGION * inside.sum():
        return None
    far = cv2.distanceTransform(largest.astype(np.uint8), cv2.DIST_L2, 3)
    y, x = np.unravel_index(int(far.argmax()), far.shape)
    found = _closely(rgb, (float(seen[largest].mean()), _alone(seen, largest)), float(x), float(y))
    return None if found is None else np.where(inside, found, 0).astype(np.float32)


def _closely(rgb: U8, found: tuple[float, F32], x: float, y: float) -> F32 | None:
    """A person found at a place, told again in windows put closely round; None if that one is none after all."""
    for _ in range(2):
        found = _clear(rgb, Window.round(found[1] > PERSON), x, y) or found
    if found[0] < SURE:
        return None
    # What one window misses of it another may show.
    looser = _clear(rgb, Window.round(found[1] > PERSON, LOOSER), x, y)
    return found[1] if looser is None else np.asarray((found[1] + looser[1]) / 2, np.float32)


def _clear(
    rgb: U8, window: Window, x: float, y: float, *, flips: Sequence[bool] = (False, True)
) -> tuple[float, F32] | None:
    """How clearly a person is told at a place in a window, and it alone (h, w); None if there is none."""
    size = rgb.shape[:2]
    seen = window.filled(likely(window.of(rgb), flips=flips), size)
    at = int(min(max(y, 0), size[0] - 1)), int(min(max(x, 0), size[1] - 1))
    if seen[at] < PERSON:
        return None
    _, labels = cv2.connectedComponents((seen > PERSON).astype(np.uint8))
    its = labels == labels[at]
    # Cut off by the window where the picture goes on, it is not all of it.
    sides = ((its[window.y0], window.y0 > 0), (its[window.y1 - 1], window.y1 < size[0]),
             (its[:, window.x0], window.x0 > 0), (its[:, window.x1 - 1], window.x1 < size[1]))  # fmt: skip
    cut = sum(float(side.sum()) for side, goes_on in sides if goes_on) / float(np.sqrt(its.sum()))
    # What fills hardly anything of the window is told badly, and so is what fills all of it.
    fills = float(its.sum()) / window.area
    told = 0.5 if fills > TOO_FULL else min(1.0, fills / TOO_EMPTY)
    return float(seen[its].mean()) * told - 0.5 * min(cut, 1.0), _alone(seen, its)


def _alone(seen: F32, its: NDArray[np.bool_]) -> F32:
    """Likelihoods (h, w) of one person, with the soft rim round it."""
    near = cv2.dilate(its.astype(np.uint8), np.ones((9, 9), np.uint8)) > 0
    return np.where(near, seen, 0).astype(np.float32)


def _seen(small: U8) -> F32:
    with _LOCK:
        net = _net()
        net.setInput(cv2.dnn.blobFromImage(small, 1 / 255))
        return np.asarray(net.forward()[0, 0], np.float32).copy()


@cache
def _net() -> cv2.dnn.Net:
    return cv2.dnn.readNetFromTFLite(str(Path(__file__).with_name("people.tflite")))
