"""Borrowing: hidden pixels taken from the nearest frames that show them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.colour import encode, linear_from_8bit
from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import Degenerate
from plonket.image.membrane import rim_values, stretch
from plonket.plate.repair.edges import fill_edges
from plonket.plate.repair.holes import Hole, holes_of, widened
from plonket.track.plane.register import FrameLevels, register
from plonket.track.plane.settings import FREEDOMS
from plonket.track.plane.template import Template, cut_template

DISTANCES = (1, 2, 3, 4, 6, 8, 11, 15, 20, 27, 36, 48, 64, 90, 128)
"""How far in frames donors are tried, near ones first."""
AROUND_PX = 56
"""How much of the surroundings tells how the hole moves."""
SURE_PX = 1.5
"""Expected error above which a donor is not trusted."""
LEAST_LIKE = 0.6
RIM_PX = 3
SEAM_PX = 8.0
"""Width over which one donor gives way to another."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Mended:
    """A mended frame.

    Attributes
    ----------
    rgb : 8-bit (h, w, 3). unseen : (h, w) pixels that no other frame shows, filled from their edges instead.
    """

    rgb: U8
    unseen: NDArray[np.bool_]


class Borrower:
    """Mends frames of one clip from others.

    Parameters
    ----------
    rgb, luma, matte : frame number -> 8-bit (h, w, 3), (h, w) and (h, w); white of the matte is mended.
    frames : how many there are.

    Notes
    -----
    What lies round a hole is registered in the other frames as a surface of its own (the planes' engine, with light
    and with mattes left out), so that a hole before a far wall and one before a near bench each move as they
    should. What is borrowed is brought to the frame's light, and the rest of the difference along the rim is spread over
    the hole as a membrane.
    """

    def __init__(self, rgb: Callable[[int], U8], luma: Callable[[int], U8], matte: Callable[[int], U8], frames: int) -> None:
        self._rgb, self._luma, self._matte, self._frames = rgb, luma, matte, frames

    def mend(self, frame: int) -> Mended:
        """One frame with its holes filled from other frames; what none shows is filled from its edges."""
        rgb, matte = self._rgb(frame), self._matte(frame)
        out = rgb.copy()
        unseen = np.zeros(matte.shape, bool)
        for hole in holes_of(matte, rim_px=RIM_PX, margin_px=AROUND_PX):
            left = self._borrow(frame, hole, rgb, out)
            hole.cut(unseen)[left] = True
        if unseen.any():
            rest = fill_edges(out, np.asarray(unseen * np.uint8(255), np.uint8), frame=frame, rim_px=0)
            out[unseen] = rest[unseen]
        return Mended(rgb=out, unseen=unseen)

    def _borrow(self, frame: int, hole: Hole, rgb: U8, out: U8) -> NDArray[np.bool_]:
        """Fill one hole in `out`; returns what of it no frame shows."""
        own = linear_from_8bit(np.ascontiguousarray(hole.cut(rgb)))
        template = self.surroundings(frame, hole)
        missing = hole.mask.copy()
        if template is None:
            return missing
        filled = own.copy()
        last: dict[int, F64] = {1: np.eye(3), -1: np.eye(3)}
        alive = {1: True, -1: True}
        for distance in DISTANCES:
            for way in (1, -1):
                other = frame + way * distance
                if not alive[way] or not 0 <= other < self._frames or not missing.any():
                    continue
                found = self.found(template, other, last[way])
                if found is None:
                    alive[way] = distance < 4
                    continue
                last[way] = found
                self._take(other, found, hole, own, filled, missing)
            if not missing.any():
                break
        got = hole.mask & ~missing
        coded = encode(np.clip(filled, 0, 1)) * 255
        hole.cut(out)[got] = np.clip(coded[got] + 0.5, 0, 255).astype(np.uint8)
        return missing

    def surroundings(self, frame: int, hole: Hole) -> Template | None:
        """What lies round a hole, to be looked for in other frames; None where it has no detail."""
        luma = self._luma(frame)
        mask = np.zeros(luma.shape, np.uint8)
        hole.cut(mask)[~hole.barred] = 255
        try:
            return cut_template(luma, mask, detail=1.0)
        except Degenerate:
            return None

    def found(self, template: Template, other: int, start: F64) -> F64 | None:
        """(3, 3) from the frame's pixels to another frame's, for what lies round the hole; None: not found surely."""
        luma = self._luma(other)
        barred = widened(self._matte(other), RIM_PX)
        h, w = luma.shape
        levels = FrameLevels(luma, (0, 0, w, h), barred)
        full = len(FREEDOMS) - 1
        for freedom in (full, 0):
            found = register(template, levels, start, freedom=freedom)
            if found.ncc_inliers > LEAST_LIKE and found.error_px < SURE_PX and found.coverage > 0.4:
                return found.homography
        return None

    def _take(self, other: int, lies: F64, hole: Hole, own: F32, filled: F32, missing: NDArray[np.bool_]) -> None:
        """Take what another frame shows of what is still missing."""
        h, w = hole.mask.shape
        # Array indices of the window to array indices of the other frame (centres at whole numbers).
        half = np.array([[1, 0, -0.5], [0, 1, -0.5], [0, 0, 1.0]])
        into = half @ lies @ np.array([[1, 0, hole.x + 0.5], [0, 1, hole.y + 0.5], [0, 0, 1.0]])
        flags = cv2.WARP_INVERSE_MAP
        barred = widened(self._matte(other), RIM_PX)
        # Beyond the other frame's edge nothing is known either.
        covered = cv2.warpPerspective(barred, into, (w, h), flags=flags | cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT,
                                      borderValue=255)  # fmt: skip
        usable = covered < 3
        take = missing & usable
        if not take.any():
            return
        theirs = linear_from_8bit(self._rgb(other))
        seen = cv2.warpPerspective(theirs, into, (w, h), flags=flags | cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
        both = usable & ~hole.barred
        if both.sum() < 40:
            return
        gain = np.median((own[both] + 0.01) / (np.maximum(seen[both], 0) + 0.01), axis=0)
        seen = np.maximum(seen * np.clip(gain, 0.5, 2).astype(np.float32), 0)
        # What is left of the difference along the rim, spread over the hole.
        off = stretch(rim_values(own - seen, both, 6.0), hole.barred)
        new = np.maximum(seen + off, 0)
        # Into what other donors gave before, it fades over a few pixels: their seam is not seen.
        away = cv2.distanceTransform((~take).astype(np.uint8), cv2.DIST_L2, 3)
        over = hole.mask & ~missing & usable & (away < SEAM_PX)
        share = (1 - away[over] / SEAM_PX)[:, None].astype(np.float32)
        filled[over] += share * (new[over] - filled[over])
        filled[take] = new[take]
        missing &= ~take
