"""Light from behind: what a subject reflected of its cloth is given back as the light of what stands there instead."""

from __future__ import annotations

import cv2
import numpy as np

from plonket.base.conventions import F32

REACH = 0.06
"""How far to all sides what is behind lights a subject, of the picture's width: a backdrop is broad, and near."""
COARSE = 8
"""It is that smooth a light that an eighth of the size holds all of it."""


def glow(behind: F32) -> F32:
    """(h, w, 4) the light that what is behind throws forward, premultiplied as that is."""
    h, w = behind.shape[:2]
    small = cv2.resize(behind, (max(1, w // COARSE), max(1, h // COARSE)), interpolation=cv2.INTER_AREA)
    soft = cv2.GaussianBlur(small, (0, 0), max(REACH * small.shape[1], 0.5), borderType=cv2.BORDER_REPLICATE)
    return np.asarray(cv2.resize(soft, (w, h), interpolation=cv2.INTER_LINEAR), np.float32)


def lit(bare: F32, white: F32, plain: F32, light: F32) -> F32:
    """A keyed picture with light from behind in the place of its spill.

    Parameters
    ----------
    bare, white, plain : the keyed picture, linear, premultiplied (h, w, 4), with nothing in that place; with white light of 1
        for all the cloth's; and as it is where nothing is behind. light : (h, w, 4), see `glow`.
    """
    cover = np.clip(light[..., 3:], 0, 1)
    out = (1 - cover) * plain
    out[..., :3] += cover * bare[..., :3] + (white[..., :3] - bare[..., :3]) * light[..., :3]
    out[..., 3] = bare[..., 3]
    return np.asarray(out, np.float32)
