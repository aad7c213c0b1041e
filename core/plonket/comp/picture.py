"""Pictures: float32, linear light, premultiplied RGBA, with a data window."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from plonket.colour import linear_from_8bit
from plonket.conventions import F32, U8


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


CLEAR = Picture(rgba=np.zeros((0, 0, 4), np.float32))


def premultiplied(straight: U8) -> F32:
    """Straight-alpha 8-bit sRGB RGBA to linear premultiplied float32."""
    out = np.empty(straight.shape, np.float32)
    alpha = straight[..., 3].astype(np.float32) / 255
    out[..., :3] = linear_from_8bit(np.ascontiguousarray(straight[..., :3])) * alpha[..., None]
    out[..., 3] = alpha
    return out


class StillSource:
    """A still ready for placing: its premultiplied pixels and halvings of them.

    Every level has a clear border of one pixel, so that edges come out smooth.
    """

    def __init__(self, straight: U8) -> None:
        self.height, self.width = straight.shape[:2]
        self._full = premultiplied(straight)

        self._bare = [self._full]
        self._padded: dict[int, F32] = {}

    def level(self, wanted: int) -> tuple[F32, int]:
        """The picture reduced by 2**k (area average), padded by one clear pixel, and the k there is: at most `wanted`."""
        k = 0
        while k < wanted and min(self._bare[k].shape[:2]) >= 8:
            k += 1
            if k == len(self._bare):
                h, w = self._bare[-1].shape[:2]
                even = np.pad(self._bare[-1], ((0, h % 2), (0, w % 2), (0, 0)), mode="edge")
                half = (even.shape[1] // 2, even.shape[0] // 2)
                self._bare.append(np.asarray(cv2.resize(even, half, interpolation=cv2.INTER_AREA), np.float32))
        if k not in self._padded:
            self._padded[k] = np.pad(self._bare[k], ((1, 1), (1, 1), (0, 0)))
        return self._padded[k], k
