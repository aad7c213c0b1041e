"""The mended plate: all mends of a shot over its clip, one frame at a time."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cache

import cv2
import numpy as np

from plonket.base.conventions import F32, U8
from plonket.image.grain import GrainProfile
from plonket.plate.repair.behind import Behind
from plonket.plate.repair.borrow import Borrower
from plonket.plate.repair.filled import Filled
from plonket.plate.repair.holes import SOLID, widened

Covers = Callable[[int], F32 | None]
"""Frame -> coverage (h, w) of what is mended; None: nothing."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Patch:
    """One mend: what it covers, and how it is filled.

    Attributes
    ----------
    cover : see `Covers`. rim_px : how much wider than that is filled.
    fill : (frame's pixels, frame, coverage) -> the frame with all of it filled; None: borrowed from other frames.
    hides : whether what it covers is not to be seen, so that nothing is borrowed from there.
    """

    cover: Covers
    rim_px: int
    fill: Callable[[U8, int, F32], U8] | None
    hides: bool = True


def mended(
    frame: int, patches: Sequence[Patch], rgb: Callable[[int], U8], luma: Callable[[int], U8], frames: int,
    told: Filled | None = None, grain: GrainProfile | None = None, behind: Behind | None = None,
) -> U8:  # fmt: skip
    """A frame with all patches filled: 8-bit (h, w, 3).

    What is borrowed comes first, from the untouched clip, and never from under another patch; what is filled from
    its edges, or laid over, then sees its surroundings mended. `grain` is the clip's; `behind` what its depth tells, if that is
    measured.
    """
    out = rgb(frame)
    borrowed = [p for p in patches if p.fill is None]
    if borrowed:
        # A donor's matte is asked for twice: to register it and to take from it.
        every = cache(lambda i: hidden(patches, i, out.shape[:2]))
        soft = _union([_soft(p, frame) for p in borrowed], out.shape[:2])
        if soft.any():
            made = Borrower(rgb, luma, every, frames, grain, behind).mend(frame)
            fresh = made.rgb
            if told is not None:
                told.count(soft > SOLID, made)
            # Beyond the matte's solid part the borrowed frame still is the frame itself.
            out = _mixed(out, fresh, soft if _feathered(soft) else widened(soft, 4))
    for patch in patches:
        cover = patch.cover(frame) if patch.fill is not None else None
        if patch.fill is not None and cover is not None:
            out = patch.fill(out, frame, cover)
    return out


def filled_softly(rgb: U8, cover: F32, rim_px: int, fill: Callable[[U8], U8]) -> U8:
    """A frame (h, w, 3) filled by `fill` (matte -> frame), mixed in as its coverage (h, w) says."""
    soft = _wider(cover, rim_px)
    fresh = fill(_solid(soft))
    return _mixed(rgb, fresh, soft) if _feathered(soft) else fresh


def _feathered(soft: U8) -> bool:
    """Whether an edge is wider than anti-aliasing makes it: much that is neither in nor out."""
    partly = int(((soft > 8) & (soft < 247)).sum())
    rim = int((cv2.morphologyEx((soft > 127).astype(np.uint8), cv2.MORPH_GRADIENT, np.ones((3, 3), np.uint8)) > 0).sum())
    return partly > 1.6 * rim + 8


def _mixed(a: U8, b: U8, share: U8) -> U8:
    weight = share[..., None].astype(np.float32) / 255
    return np.clip(a + weight * (b.astype(np.float32) - a) + 0.5, 0, 255).astype(np.uint8)


def _wider(cover: F32, rim_px: int) -> U8:
    soft = np.asarray(np.clip(cover * 255 + 0.5, 0, 255), np.uint8)
    if rim_px < 1:
        return soft
    return np.asarray(cv2.dilate(soft, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * rim_px + 1,) * 2)), np.uint8)


def _solid(soft: U8) -> U8:
    """What must be filled: all that shows through a feathered edge, too."""
    return np.asarray((soft > (8 if _feathered(soft) else 60)) * np.uint8(255), np.uint8)


def _soft(patch: Patch, frame: int) -> U8 | None:
    cover = patch.cover(frame)
    return None if cover is None else _wider(cover, patch.rim_px)


def _matte(patch: Patch, frame: int) -> U8 | None:
    soft = _soft(patch, frame)
    return None if soft is None else _solid(soft)


def hidden(patches: Sequence[Patch], frame: int, shape: tuple[int, ...]) -> U8:
    """8-bit (h, w), white where a frame shows what is not to be seen."""
    return _union([_matte(p, frame) for p in patches if p.hides], shape)


def _union(masks: Sequence[U8 | None], shape: tuple[int, ...]) -> U8:
    there = [m for m in masks if m is not None]
    return np.asarray(np.maximum.reduce(there), np.uint8) if there else np.zeros(shape[:2], np.uint8)
