"""The mended plate: all mends of a shot over its clip, one frame at a time."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cache

import numpy as np

from plonket.conventions import U8
from plonket.mend.borrow import Borrower
from plonket.mend.edges import fill_edges
from plonket.mend.holes import widened


@dataclass(frozen=True, slots=True, kw_only=True)
class Patch:
    """One mend: what it covers, and how it is filled.

    Attributes
    ----------
    mask : frame -> 8-bit (h, w). borrowed : from other frames, else from its edges. rim_px, reach_px, grain : as in
        `fill_edges`.
    """

    mask: Callable[[int], U8]
    borrowed: bool
    rim_px: int
    reach_px: float
    grain: bool


def mended(frame: int, patches: Sequence[Patch], rgb: Callable[[int], U8], luma: Callable[[int], U8], frames: int) -> U8:
    """A frame with all patches filled: 8-bit (h, w, 3).

    What is borrowed comes first, from the untouched clip, and never from under another patch; what is filled from
    its edges then sees its surroundings mended.
    """
    out = rgb(frame)
    borrowed = [p for p in patches if p.borrowed]
    if borrowed:
        # A donor's matte is asked for twice: to register it and to take from it.
        every = cache(lambda i: _union([widened(p.mask(i), p.rim_px) for p in patches]))
        some = _union([widened(p.mask(frame), p.rim_px) for p in borrowed])
        if some.any():
            fresh = Borrower(rgb, luma, every, frames).mend(frame).rgb
            inside = widened(some, 4) > 0
            out = np.where(inside[..., None], fresh, out)
    for patch in patches:
        if not patch.borrowed:
            mask = patch.mask(frame)
            out = fill_edges(out, mask, frame=frame, reach_px=patch.reach_px, rim_px=patch.rim_px, grain=patch.grain)
    return out


def _union(masks: Sequence[U8]) -> U8:
    return np.asarray(np.maximum.reduce(list(masks)), np.uint8)
