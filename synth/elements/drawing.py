"""How stills of the shelf are drawn."""

from __future__ import annotations

import cv2
import numpy as np

from plonket.base.colour import encode_8bit
from plonket.base.conventions import F32, F64, U8

SUPER = 3
"""Shapes are drawn so many times as large and averaged."""


def straight(colour: F32, alpha: F32) -> U8:
    """Linear colour (h, w, 3) and coverage (h, w) to straight-alpha 8-bit RGBA."""
    a = np.clip(alpha * 255 + 0.5, 0, 255).astype(np.uint8)
    return np.dstack([encode_8bit(np.clip(colour, 0, 1).astype(np.float32)), a])


def shape(points: F64, size: tuple[int, int]) -> F32:
    """Anti-aliased coverage of a polygon."""
    mask = np.zeros((size[1] * SUPER, size[0] * SUPER), np.uint8)
    cv2.fillPoly(mask, [np.round(points * SUPER).astype(np.int32)], 255)
    return np.asarray(cv2.resize(mask, size, interpolation=cv2.INTER_AREA).astype(np.float32) / 255, np.float32)
