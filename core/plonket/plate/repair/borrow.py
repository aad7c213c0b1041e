"""Borrowing: hidden pixels taken from the nearest frames that show them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.colour import encode_8bit, fine_codes, linear_from_codes
from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import Degenerate
from plonket.image.grain import GrainProfile
from plonket.image.membrane import rim_values, stretch
from plonket.image.whole_movement import whole_movement
from plonket.plate.repair.agreed import Donor, laid_together, unsettled
from plonket.plate.repair.behind import Behind
from plonket.plate.repair.edges import fill_edges
from plonket.plate.repair.holes import RIM_PX, Hole, holes_of, widened
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
LEAST_ROUND = 40
"""Pixels round a hole that another frame must show, to compare them."""
AGREES_CODES, AGREES_SHARE = 7.0, 0.8
"""Codes by which what lies round a hole may be off in such a share of it, for another frame to show the same there."""
GRAIN_PX = 1.5
"""How far what is compared is blurred first."""
PASSES_CODES = 18.0
"""Codes by which round a hole something else is seen in another frame."""
MORE_FRAMES = 8
"""Frames that are asked once all is seen, where those before show different things."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Mended:
    """A mended frame.

    Attributes
    ----------
    rgb : 8-bit (h, w, 3). unseen : (h, w) pixels that no other frame shows, filled from their edges instead.
    by_whole : (h, w) those found only by how the picture as a whole moves. by_depth : (h, w) those found by the clip's
        measured depth.
    """

    rgb: U8
    unseen: NDArray[np.bool_]
    by_whole: NDArray[np.bool_]
    by_depth: NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class _Borrowed:
    """How a hole was filled: (h, w) in its window, as in `Mended`."""

    unseen: NDArray[np.bool_]
    by_whole: NDArray[np.bool_]
    by_depth: NDArray[np.bool_]


class Borrower:
    """Mends frames of one clip from others.

    Parameters
    ----------
    rgb, luma, matte : frame number -> 8-bit (h, w, 3), (h, w) and (h, w); white of the matte is mended.
    frames : how many there are. behind : what lies behind a hole by the clip's depth; None: that is not measured.

    Notes
    -----
    Where depth is known it says where other frames show what lies behind, at whatever distances. Else what lies round a hole is
    registered in the other frames as a surface of its own (the planes' engine, with light and with mattes left out), so that a
    hole before a far wall and one before a near bench each move as they should. What is borrowed is brought to the frame's
    light, and the rest of the difference along the rim is spread over the hole as a membrane.
    """

    def __init__(
        self, rgb: Callable[[int], U8], luma: Callable[[int], U8], matte: Callable[[int], U8], frames: int,
        grain: GrainProfile | None = None, behind: Behind | None = None,
    ) -> None:  # fmt: skip
        self._rgb, self._luma, self._matte, self._frames = rgb, luma, matte, frames
        self._grain, self._behind = grain, behind
        self._whole: dict[tuple[int, int], F64 | None] = {}

    def mend(self, frame: int) -> Mended:
        """One frame with its holes filled from other frames; what none shows is filled from its edges."""
        rgb, matte = self._rgb(frame), self._matte(frame)
        out = rgb.copy()
        unseen, by_whole, by_depth = (np.zeros(matte.shape, bool) for _ in range(3))
        for hole in holes_of(matte, rim_px=RIM_PX, margin_px=AROUND_PX):
            found = self._borrow(frame, hole, rgb, out)
            hole.cut(unseen)[found.unseen] = True
            hole.cut(by_whole)[found.by_whole] = True
            hole.cut(by_depth)[found.by_depth] = True
        if unseen.any():
            rest = fill_edges(out, np.asarray(unseen * np.uint8(255), np.uint8), frame=frame, rim_px=0,
                              grain=self._grain or False)  # fmt: skip
            out[unseen] = rest[unseen]
        return Mended(rgb=out, unseen=unseen, by_whole=by_whole, by_depth=by_depth)

    def _borrow(self, frame: int, hole: Hole, rgb: U8, out: U8) -> _Borrowed:
        """Fill one hole in `out`."""
        own = linear_from_codes(np.ascontiguousarray(hole.cut(rgb)))
        got = _Gathered(hole.mask)
        by_depth = self._by_depth(frame, hole, own, got)
        near = by_depth | self._by_movement(frame, hole, own, got)
        filled, missing = laid_together(got.donors, own, hole.mask)
        found = hole.mask & ~missing
        hole.cut(out)[found] = encode_8bit(filled)[found]
        return _Borrowed(unseen=missing, by_whole=found & ~near, by_depth=found & by_depth)

    def _by_depth(self, frame: int, hole: Hole, own: F32, got: _Gathered) -> NDArray[np.bool_]:
        """Ask other frames by the clip's depth; (h, w) what was found."""
        found = np.zeros_like(hole.mask)
        others = [k for k, _, _ in self._others(frame)]
        inverse = None if self._behind is None else self._behind.depth(frame, others, hole)
        if self._behind is None or inverse is None:
            return found
        for other in others:
            if got.enough:
                break
            got.asks()
            at = self._behind.seen(frame, other, hole, inverse)
            if at is None or not (at.usable & got.open).any():
                continue
            covered = cv2.remap(self.barred(other), at.x, at.y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT,
                                borderValue=255)  # fmt: skip
            theirs = linear_from_codes(self._rgb(other))
            seen = np.asarray(cv2.remap(theirs, at.x, at.y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE), np.float32)
            usable = at.usable & (covered < 3)
            if _is_alike(seen, usable, hole, own) and got.add(_given(seen, usable, hole, own)):
                found |= usable
        return found & hole.mask

    def _by_movement(self, frame: int, hole: Hole, own: F32, got: _Gathered) -> NDArray[np.bool_]:
        """Ask other frames by how what lies round a hole moves, or the picture as a whole; (h, w) what the former found."""
        surely = np.zeros_like(hole.mask)
        if got.enough:
            return surely
        template = self.surroundings(frame, hole)
        last: dict[int, F64] = {1: np.eye(3), -1: np.eye(3)}
        alive = {1: True, -1: True}
        for other, distance, way in self._others(frame):
            if not alive[way]:
                continue
            if got.enough:
                break
            got.asks()
            found = None if template is None else self.found(template, other, last[way])
            near = found is not None
            if found is None:
                # Round it there is little to see, or something moves: it lies as the picture as a whole does.
                found = self.with_the_whole(frame, other)
                if found is None or not _is_alike(*self._seen(other, found, hole), hole, own):
                    alive[way] = distance < 4
                    continue
            last[way] = found
            donor = _given(*self._seen(other, found, hole), hole, own)
            if got.add(donor) and donor is not None:
                surely |= donor.usable & near
        return surely

    def _others(self, frame: int) -> list[tuple[int, int, int]]:
        """Frames that are asked, near ones first: each with its distance and the way to it."""
        every = [(frame + way * far, far, way) for far in DISTANCES for way in (1, -1)]
        return [one for one in every if 0 <= one[0] < self._frames]

    def barred(self, frame: int) -> U8:
        """8-bit (h, w), white where nothing is taken from a frame."""
        return widened(self._matte(frame), RIM_PX)

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
        barred = self.barred(other)
        h, w = luma.shape
        levels = FrameLevels(luma, (0, 0, w, h), barred)
        full = len(FREEDOMS) - 1
        for freedom in (full, 0):
            found = register(template, levels, start, freedom=freedom)
            if found.ncc_inliers > LEAST_LIKE and found.error_px < SURE_PX and found.coverage > 0.4:
                return found.homography
        return None

    def with_the_whole(self, frame: int, other: int) -> F64 | None:
        """(3, 3) from the frame's pixels to another frame's, as most of the picture's details go; None: they go apart."""
        if (frame, other) not in self._whole:
            self._whole[frame, other] = whole_movement(
                self._luma(frame), self._luma(other), 255 - widened(self._matte(frame), RIM_PX)
            )  # fmt: skip
        return self._whole[frame, other]

    def _seen(self, other: int, lies: F64, hole: Hole) -> tuple[F32, NDArray[np.bool_]]:
        """What another frame shows where a hole is, linear (h, w, 3), and what of that is neither covered nor outside."""
        h, w = hole.mask.shape
        # Array indices of the window to array indices of the other frame (centres at whole numbers).
        half = np.array([[1, 0, -0.5], [0, 1, -0.5], [0, 0, 1.0]])
        into = half @ lies @ np.array([[1, 0, hole.x + 0.5], [0, 1, hole.y + 0.5], [0, 0, 1.0]])
        flags = cv2.WARP_INVERSE_MAP
        barred = self.barred(other)
        # Beyond the other frame's edge nothing is known either.
        covered = cv2.warpPerspective(barred, into, (w, h), flags=flags | cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT,
                                      borderValue=255)  # fmt: skip
        theirs = linear_from_codes(self._rgb(other))
        seen = cv2.warpPerspective(theirs, into, (w, h), flags=flags | cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
        return np.asarray(seen, np.float32), covered < 3


class _Gathered:
    """What other frames give for one hole, until enough of them agree; `open` (h, w) is what is not settled yet."""

    def __init__(self, mask: NDArray[np.bool_]) -> None:
        self.donors: list[Donor] = []
        self.open = self._mask = mask
        self._more = MORE_FRAMES

    @property
    def enough(self) -> bool:
        return not self.open.any() or self._more <= 0

    def asks(self) -> None:
        """One more frame is asked: once all is seen, only a few more."""
        self._more -= not _unseen(self.donors, self._mask).any()

    def add(self, donor: Donor | None) -> bool:
        """Take what a frame gives, if it tells more; whether it did."""
        if donor is None or not (donor.usable & self.open).any():
            return False
        self.donors.append(donor)
        self.open = unsettled(self.donors, self._mask)
        return True


def _is_alike(seen: F32, usable: NDArray[np.bool_], hole: Hole, own: F32) -> bool:
    """Whether what lies round a hole is `seen` (h, w, 3) in another frame as well, where it should be."""
    both = usable & ~hole.barred
    if both.sum() < LEAST_ROUND:
        return False
    off = fine_codes(_lit_alike(own, seen, both)) - fine_codes(own)
    # Grain differs, whatever is seen.
    off = np.abs(cv2.GaussianBlur(off, (0, 0), GRAIN_PX)).max(axis=2)[both]
    return bool(np.percentile(off, 100 * AGREES_SHARE) < AGREES_CODES)


def _given(seen: F32, usable: NDArray[np.bool_], hole: Hole, own: F32) -> Donor | None:
    """What another frame gives for a hole; None: too little round it is seen there to bring it to the light here."""
    both = usable & ~hole.barred
    if both.sum() < LEAST_ROUND or not (usable & hole.mask).any():
        return None
    seen = _lit_alike(own, seen, both)
    # What passes by in one of the two tells nothing of the light.
    off = np.abs(fine_codes(seen) - fine_codes(own)).max(axis=2)
    alike = both & (cv2.GaussianBlur(off, (0, 0), GRAIN_PX) < PASSES_CODES)
    alike = alike if alike.sum() > 0.5 * both.sum() else both
    # What is left of the difference along the rim, spread over the hole.
    rest = stretch(rim_values(own - seen, alike, 6.0), ~alike & (hole.barred | both))
    return Donor(light=np.maximum(seen + rest, 0).astype(np.float32), usable=usable)


def _unseen(donors: list[Donor], mask: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """(h, w) of the `mask`, what no donor shows."""
    seen = np.any([d.usable for d in donors], axis=0) if donors else np.zeros(mask.shape, bool)
    return np.asarray(mask & ~seen)


def _lit_alike(own: F32, seen: F32, both: NDArray[np.bool_]) -> F32:
    """What another frame shows (h, w, 3), brought to the light of one's own where both are known."""
    gain = np.median((own[both] + 0.01) / (np.maximum(seen[both], 0) + 0.01), axis=0)
    return np.asarray(np.maximum(seen * np.clip(gain, 0.5, 2).astype(np.float32), 0), np.float32)
