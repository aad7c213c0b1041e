"""Holes: the separate pieces of a frame that are to be mended."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import U8

SOLID = 60
"""Matte values above this are hole: an anti-aliased edge belongs to it."""
RIM_PX = 3
"""How much wider than a matte it is filled: what it covers bleeds into its surroundings."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Hole:
    """A hole in its own window of the frame.

    Attributes
    ----------
    x, y : whole pixels of the window's top-left corner. mask : (h, w) what is to be filled.
    barred : (h, w) what may not be looked at either: this hole and all others.
    """

    x: int
    y: int
    mask: NDArray[np.bool_]
    barred: NDArray[np.bool_]

    def cut(self, picture: np.ndarray) -> np.ndarray:
        """The window (h, w, ...) of a picture (a view)."""
        h, w = self.mask.shape
        return picture[self.y : self.y + h, self.x : self.x + w]


def widened(matte: U8, rim_px: int) -> U8:
    """A matte (h, w) as 0 or 255, taken `rim_px` wider: what it covers bleeds into its surroundings."""
    solid = np.asarray((matte > SOLID) * np.uint8(255), np.uint8)
    if rim_px < 1:
        return solid
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * rim_px + 1, 2 * rim_px + 1))
    return np.asarray(cv2.dilate(solid, disc), np.uint8)


def holes_of(matte: U8, *, rim_px: int = 2, margin_px: int = 40) -> list[Hole]:
    """The separate holes of a matte (h, w), white to be filled, each with a margin of surroundings."""
    solid = widened(matte, rim_px)
    count, labels, boxes, _ = cv2.connectedComponentsWithStats(solid, connectivity=8)
    h, w = matte.shape
    out = []
    for k in range(1, count):
        x, y, width, height = (int(v) for v in boxes[k][:4])
        x0, y0 = max(0, x - margin_px), max(0, y - margin_px)
        x1, y1 = min(w, x + width + margin_px), min(h, y + height + margin_px)
        own = labels[y0:y1, x0:x1] == k
        out.append(Hole(x=x0, y=y0, mask=own, barred=solid[y0:y1, x0:x1] > 0))
    return out
