"""Pictures: float32, linear light, premultiplied RGBA, with a data window."""

from __future__ import annotations

import threading
from dataclasses import dataclass

import cv2
import numba
import numpy as np

from plonket.base.colour import light_table
from plonket.base.conventions import F32, Codes


@dataclass(frozen=True, slots=True, kw_only=True)
class Picture:
    """A piece of picture.

    Attributes
    ----------
    rgba : float32 (h, w, 4), linear, premultiplied. x, y : whole pixels of its top-left corner in
        the frame; outside the window it is clear.
    """

    rgba: F32
    x: int = 0
    y: int = 0


def windowed(picture: Picture, x: int, y: int, size: tuple[int, int]) -> F32:
    """A picture's pixels on another window: (h, w, 4), clear where it has none."""
    w, h = size
    out = np.zeros((h, w, 4), np.float32)
    ph, pw = picture.rgba.shape[:2]
    x0, y0, x1, y1 = max(picture.x, x), max(picture.y, y), min(picture.x + pw, x + w), min(picture.y + ph, y + h)
    if x1 > x0 and y1 > y0:
        out[y0 - y : y1 - y, x0 - x : x1 - x] = picture.rgba[y0 - picture.y : y1 - picture.y, x0 - picture.x : x1 - picture.x]
    return out


CLEAR = Picture(rgba=np.zeros((0, 0, 4), np.float32))


def premultiplied(straight: Codes) -> F32:
    """Straight-alpha 8- or 16-bit sRGB RGBA, or opaque RGB, (h, w, 3 or 4), to linear premultiplied float32 RGBA (h, w, 4)."""
    return np.asarray(_padded(straight)[1:-1, 1:-1])


def _padded(straight: Codes) -> F32:
    """The same with a clear border of one pixel."""
    h, w = straight.shape[:2]
    out = np.empty((h + 2, w + 2, 4), np.float32)
    _pad(np.ascontiguousarray(straight), light_table(straight), out)
    return out


@numba.njit(parallel=True, cache=True)  # type: ignore[misc]
def _pad(straight: Codes, table: F32, out: F32) -> None:
    h, w, channels = straight.shape
    zero, one, whole = np.float32(0.0), np.float32(1.0), np.float32(table.shape[0] - 1)
    for y in numba.prange(h + 2):
        for x in range(w + 2):
            if y == 0 or x == 0 or y > h or x > w:
                for c in range(4):
                    out[y, x, c] = zero
                continue
            alpha = one if channels == 3 else straight[y - 1, x - 1, 3] / whole
            for c in range(3):
                out[y, x, c] = table[straight[y - 1, x - 1, c]] * alpha
            out[y, x, 3] = alpha


class StillSource:
    """A still ready for placing: its premultiplied pixels and halvings of them, made when they are asked for.

    Every level has a clear border of one pixel, so that edges come out smooth.

    Parameters
    ----------
    straight : 8- or 16-bit sRGB, straight RGBA or opaque RGB (h, w, 4 or 3).
    """

    def __init__(self, straight: Codes) -> None:
        self.height, self.width = straight.shape[:2]
        self._levels = [_padded(straight)]
        self._first = 0
        self._making = threading.Lock()

    @classmethod
    def of_light(cls, rgba: F32, size: tuple[int, int] | None = None, level: int = 0) -> StillSource:
        """From linear, premultiplied float32 (h, w, 4), as keys give it.

        With `level`, it is a picture of `size` (width, height) that has been halved so many times.
        """
        out = cls.__new__(cls)
        out.width, out.height = size or (rgba.shape[1], rgba.shape[0])
        out._levels = [np.pad(rgba, ((1, 1), (1, 1), (0, 0)))]
        out._first = level
        out._making = threading.Lock()
        return out

    @property
    def nbytes(self) -> int:
        """Memory of its pixels, once all its halvings are made."""
        return self._levels[0].nbytes * 4 // 3

    def level(self, wanted: int) -> tuple[F32, int]:
        """The picture reduced by 2**k (area average), padded by one clear pixel, and the k there is: at most `wanted`, unless
        there is nothing finer."""
        k = 0
        # Frames are drawn in threads: two that miss the same level would both append it.
        with self._making:
            while self._first + k < wanted and min(self._levels[k].shape[:2]) >= 10:
                k += 1
                if k == len(self._levels):
                    self._levels.append(np.pad(halved(self._levels[-1][1:-1, 1:-1]), ((1, 1), (1, 1), (0, 0))))
            return self._levels[k], self._first + k


def halved(picture: F32) -> F32:
    """A picture (h, w, c) at half the size, by area; an odd row or column counts twice."""
    h, w = picture.shape[:2]
    even = np.pad(picture, ((0, h % 2), (0, w % 2), (0, 0)), mode="edge") if h % 2 or w % 2 else picture
    return np.asarray(cv2.resize(even, (even.shape[1] // 2, even.shape[0] // 2), interpolation=cv2.INTER_AREA), np.float32)
