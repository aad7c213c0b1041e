"""Texture fill of a whole clip: found once for every hole, and carried along what lies round it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import cv2
import numpy as np

from plonket.base.conventions import F32, F64, U8
from plonket.image.grain import GrainProfile
from plonket.image.picture import StillSource
from plonket.plate.repair.borrow import Borrower
from plonket.plate.repair.clean_plate import NEAR_FR, CleanPlate, degrained, grain_of, lay_clean
from plonket.plate.repair.edges import fill_edges
from plonket.plate.repair.holes import Hole, holes_of, widened
from plonket.plate.repair.texture import fill_texture
from plonket.track.plane.template import Template

RIM_PX = 2
MARGIN_PX = 56
WIDER = 0.2
"""How much further than a hole its texture is found, of the hole's size: holes change as things move."""
ENOUGH = 0.985
"""Share of a hole that a carried texture must cover; else it is found afresh."""
SOFT_PX = 1.2


@dataclass(slots=True)
class _Find:
    """A hole's texture, where it was found, and where it was last."""

    hero: CleanPlate
    template: Template
    covered: U8
    last: F64 = field(default_factory=lambda: np.eye(3))


class Continued:
    """Fills frames one after the other, in order.

    Parameters
    ----------
    rgb, matte : frame -> 8-bit (h, w, 3) and (h, w). borrower : follows what lies round holes. frames : how many there are.
    grain : of the clip; None: as each hole's surroundings show it.
    """

    def __init__(
        self, rgb: Callable[[int], U8], matte: Callable[[int], U8], borrower: Borrower, frames: int,
        grain: GrainProfile | None = None,
    ) -> None:
        self._rgb, self._matte, self._borrower, self._frames = rgb, matte, borrower, frames
        self._grain = grain
        self._finds: list[_Find] = []

    def mend(self, frame: int) -> U8:
        """One frame with its holes filled: 8-bit (h, w, 3)."""
        out = self._rgb(frame)
        matte = self._matte(frame)
        for k, hole in enumerate(holes_of(matte, rim_px=RIM_PX, margin_px=MARGIN_PX)):
            cover = np.zeros(matte.shape, np.float32)
            hole.cut(cover)[hole.mask] = 1
            filled = self._carried(frame, hole, cover, out, k)
            if filled is None:
                filled = self._found(frame, hole, cover, out, k)
            out = filled
        return out

    def _carried(self, frame: int, hole: Hole, cover: F32, out: U8, seed: int) -> U8 | None:
        """The hole filled by a texture found before, if one covers it."""
        for find in self._finds:
            lies = self._borrower.found(find.template, frame, find.last)
            if lies is None:
                continue
            reach = _warped(find.covered, lies)
            if float((reach[cover > 0] > 127).mean()) >= ENOUGH:
                find.last = lies
                return _laid(out, frame, cover, find.hero, lies, seed)
        return None

    def _found(self, frame: int, hole: Hole, cover: F32, out: U8, seed: int) -> U8:
        """The hole filled afresh; what was found is kept for the frames after."""
        template = self._borrower.surroundings(frame, hole)
        if template is None:
            # Nothing round it can be followed: what is flat is filled best from its edges.
            return fill_edges(out, (cover * 255).astype(np.uint8), frame=frame, rim_px=0, grain=self._grain or False)
        barred = widened(self._matte(frame), RIM_PX) > 0
        near: dict[int, F64 | None] = {
            i: self._borrower.found(template, i, np.eye(3))
            for i in range(max(0, frame - NEAR_FR), min(self._frames, frame + NEAR_FR + 1))
        }
        mean, weight = degrained(self._rgb, frame, lambda i: near.get(i), self._frames)
        side = max(2, round(WIDER * float(np.sqrt(hole.mask.sum()))))
        wider = cv2.dilate((cover > 0).astype(np.uint8), np.ones((2 * side + 1,) * 2, np.uint8)) > 0
        filled = fill_texture(mean, wider, barred=barred)
        around = np.zeros(barred.shape, bool)
        hole.cut(around)[~hole.barred] = True
        painted = np.clip(filled + 0.5, 0, 255).astype(np.uint8)
        hero = CleanPlate(
            frame=frame, painted=StillSource(painted), untouched=StillSource(np.clip(mean + 0.5, 0, 255).astype(np.uint8)),
            grain=grain_of(self._rgb(frame), mean, weight, around, self._grain),
        )  # fmt: skip
        self._finds.insert(0, _Find(hero=hero, template=template, covered=(wider * np.uint8(255)).astype(np.uint8)))
        return _laid(out, frame, cover, hero, np.eye(3), seed)


def _laid(out: U8, frame: int, cover: F32, hero: CleanPlate, lies: F64, seed: int) -> U8:
    soft = cv2.GaussianBlur(cv2.dilate(cover, np.ones((3, 3), np.uint8)), (0, 0), SOFT_PX)
    return lay_clean(out, frame, np.maximum(cover, soft).astype(np.float32), [(hero, 1.0, lies, lies)], seed=seed)


def _warped(mask: U8, lies: F64) -> U8:
    half = np.array([[1, 0, -0.5], [0, 1, -0.5], [0, 0, 1.0]])
    matrix = half @ lies @ np.linalg.inv(half)
    return np.asarray(cv2.warpPerspective(mask, matrix, (mask.shape[1], mask.shape[0]), flags=cv2.INTER_LINEAR), np.uint8)


