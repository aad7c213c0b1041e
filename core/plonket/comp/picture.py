"""Pictures: float32, linear light, premultiplied RGBA, with a data window."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

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

    @cached_property
    def levels(self) -> list[F32]:
        """Level k is the picture reduced by 2**k (area average), padded by one clear pixel."""
        out, level = [], self._full
        while True:
            out.append(np.pad(level, ((1, 1), (1, 1), (0, 0))))
            h, w = level.shape[:2]
            if min(h, w) < 8:
                return out
            even = np.pad(level, ((0, h % 2), (0, w % 2), (0, 0)), mode="edge")
            level = cv2.resize(even, (even.shape[1] // 2, even.shape[0] // 2), interpolation=cv2.INTER_AREA)
