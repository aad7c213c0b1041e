"""Smooth functions of a picture's place, worked out on few places and laid between them."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np

from plonket.base.conventions import F32, F64


def coarsely(of: Callable[[F64], F64], size: tuple[int, int], step: int, corner: tuple[int, int] = (0, 0)) -> F32:
    """(h, w) or (h, w, k) of a function of places (m, n, 2), x and y of pixel centres, that hardly bends within `step` (even)
    pixels: it is asked every so many, the rest lies straight between them.

    size : (width, height). corner : the place of the first pixel's own corner.
    """
    w, h = size
    across, down = (np.arange(-step, n + 2 * step, step) + 0.5 + at for n, at in zip(size, corner, strict=True))
    coarse = np.asarray(of(np.stack(np.meshgrid(across, down), axis=-1)), np.float32)
    grid = cv2.resize(coarse, (step * coarse.shape[1], step * coarse.shape[0]), interpolation=cv2.INTER_LINEAR)
    # Grown by `step`, a pixel's centre lies between two; the first one asked for lies `step` before the picture.
    off = step / 2 - 0.5 + step
    moved = cv2.warpAffine(grid, np.array([[1, 0, -off], [0, 1, -off]], np.float32), (w, h), flags=cv2.INTER_LINEAR)
    return np.asarray(moved, np.float32)
