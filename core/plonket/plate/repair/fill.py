"""Filling a whole clip where a matte says so."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterator
from typing import Literal

import cv2
import numpy as np

from plonket.base.conventions import U8
from plonket.base.errors import BadInput
from plonket.base.progress import Work
from plonket.image.grain_in_time import measure_grain
from plonket.media.clip import Clip
from plonket.plate.repair.behind import Behind, MeasuredDepth
from plonket.plate.repair.borrow import Borrower
from plonket.plate.repair.continued import Continued
from plonket.plate.repair.edges import fill_edges
from plonket.plate.repair.filled import Filled
from plonket.plate.repair.holes import SOLID

Method = Literal["time", "edges", "texture"]
REMEMBERED = 48
"""Frames kept at hand: donors lie near."""


def fill_clip(
    clip: Clip, matte: Clip, *, method: Method, start: int = 0, stop: int | None = None, told: Filled | None = None,
    depth: MeasuredDepth | None = None, work: Work | None = None,
) -> Iterator[U8]:  # fmt: skip
    """Frames start..stop-1 with what the matte covers filled: 8-bit (h, w, 3); `depth` of the clip, if that is measured, says
    where other frames show what lies behind.

    Raises
    ------
    BadInput
        When the matte has neither one frame nor as many as the clip.
    """
    work, told = work or Work(), told or Filled()
    stop = clip.info.frames if stop is None else stop
    if matte.info.frames not in (1, clip.info.frames):
        raise BadInput(
            "fill.matte",
            f"The matte has {matte.info.frames} frames, the clip {clip.info.frames}. Give one for every frame, or one for all.",
        )

    def matte_at(frame: int) -> U8:
        grey = matte.luma(min(frame, matte.info.frames - 1))
        if (grey.shape[1], grey.shape[0]) != clip.info.size:
            grey = np.asarray(cv2.resize(grey, clip.info.size, interpolation=cv2.INTER_LINEAR), np.uint8)
        return grey

    rgb_at, luma_at, grey_at = _kept(clip.rgb), _kept(clip.luma), _kept(matte_at)
    found = measure_grain(clip) if clip.info.frames > 1 else None
    grain = None if found is None else found.profile
    behind = None if depth is None else Behind(depth, grey_at)
    borrower = Borrower(rgb_at, luma_at, grey_at, clip.info.frames, grain, behind)
    continued = Continued(rgb_at, grey_at, borrower, clip.info.frames, grain)
    for frame in range(start, stop):
        work.check_cancelled()
        grey = grey_at(frame)
        if method == "edges":
            yield fill_edges(rgb_at(frame), grey, frame=frame, grain=grain or False)
        elif method == "texture":
            yield continued.mend(frame)
        else:
            mended = borrower.mend(frame)
            told.count(grey > SOLID, mended)
            yield mended.rgb
        work.progress(frame + 1 - start, stop - start)


def _kept(make: Callable[[int], U8]) -> Callable[[int], U8]:
    """The same function with its last results at hand."""
    items: OrderedDict[int, U8] = OrderedDict()

    def get(frame: int) -> U8:
        if frame not in items:
            items[frame] = make(frame)
            while len(items) > REMEMBERED:
                items.popitem(last=False)
        items.move_to_end(frame)
        return items[frame]

    return get
