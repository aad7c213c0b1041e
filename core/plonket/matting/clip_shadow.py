"""The shadow that a picked thing casts in a clip's own frames."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np

from plonket.base.conventions import F64, U8
from plonket.image.whole_movement import whole_movement
from plonket.matting.cast import cast_shadow, donors_of
from plonket.media.clip import Clip


def shadow_in(clip: Clip, frame: int, matte_of: Callable[[int], U8 | None]) -> U8:
    """8-bit (h, w): where the thing's shadow lies in a frame of the clip; all nought where none is seen.

    Parameters
    ----------
    matte_of : frame -> what the thing covers, 8-bit (h, w); None: that is not known there.
    """
    # It is soft: half the size is fine enough.
    half = (max(clip.info.width // 2, 1), max(clip.info.height // 2, 1))

    def halved(picture: U8) -> U8:
        return np.asarray(cv2.resize(picture, half, interpolation=cv2.INTER_AREA), np.uint8)

    frames = (frame, *donors_of(frame, clip.info.frames))
    mattes = {f: None if (one := matte_of(f)) is None else halved(one) for f in frames}

    def movement(here: int, there: int) -> F64 | None:
        covers = [one for f in (here, there) if (one := mattes[f]) is not None]
        barred = cv2.dilate(np.max(covers, axis=0), np.ones((5, 5), np.uint8)) if covers else np.zeros(half[::-1], np.uint8)
        return whole_movement(halved(clip.luma(here)), halved(clip.luma(there)), np.asarray(255 - barred, np.uint8))

    found = cast_shadow(frame, lambda f: halved(clip.rgb(f)), mattes, movement)
    if found is None:
        return np.zeros(clip.info.size[::-1], np.uint8)
    return np.asarray(cv2.resize(found, clip.info.size, interpolation=cv2.INTER_LINEAR), np.uint8)
