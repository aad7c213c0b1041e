"""Grain taken off a picture by what the frames beside it show of the same thing, and by its surroundings where none does."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numba
import numpy as np

from plonket.base.conventions import F32, FAST, U8
from plonket.image.grain import GrainProfile, strength_at

ALIKE = 1.2
"""How far two patches may differ beyond what grain makes them differ, in units of its variance, to be taken for the same for
the most part."""
LEAST_SD = 0.6
ALONE = 2.2
"""Frames' worth of agreement below which a pixel's own surroundings help."""
BESIDE_PX = 2
"""Reach of those surroundings."""


def degrained_picture(
    rgb: Callable[[int], U8], frame: int, frames: int, profile: GrainProfile, *, reach: int = 2, strength: float = 1.0,
) -> F32:  # fmt: skip
    """A frame without its grain: display codes 0 to 255 (h, w, 3).

    Parameters
    ----------
    rgb : frame -> 8-bit (h, w, 3) of a clip with so many `frames`. profile : its grain.
    reach : frames before and after that help. strength : for how strong the grain is taken; more smooths more.

    Every frame near it is laid over it by dense flow and averaged in as far as both show the same, patch by patch, grain
    aside (as A. Buades, B. Coll and J.-M. Morel, 2005, doi:10.1109/CVPR.2005.38, do within a picture).
    """
    own = rgb(frame)
    picture = own.astype(np.float32)
    sd = np.maximum(strength_at(profile, np.asarray(cv2.GaussianBlur(picture, (0, 0), 1.5) / 255, np.float32)), LEAST_SD)
    variance = np.asarray((sd * np.float32(strength)) ** 2, np.float32).mean(axis=2)
    grey = _soft(own)
    total, weight = picture.copy(), np.ones(variance.shape, np.float32)
    for other in range(max(0, frame - reach), min(frames, frame + reach + 1)):
        if other != frame:
            theirs = _laid_over(rgb(other), grey)
            share = _agreement(picture, theirs, variance)
            total += share[..., None] * theirs
            weight += share
    mean = total / weight[..., None]
    out = np.empty_like(mean)
    _beside(mean, weight, variance, out)
    return np.asarray(out, np.float32)


def _soft(rgb: U8) -> U8:
    """Grey, softened: flow is to follow things, not grain."""
    return np.asarray(cv2.GaussianBlur(cv2.cvtColor(rgb, cv2.COLOR_RGB2GRAY), (0, 0), 1.2), np.uint8)


def _laid_over(other: U8, grey: U8) -> F32:
    """Another frame (h, w, 3) where this one, given softened, shows the same."""
    h, w = grey.shape
    dense = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    flow = np.asarray(dense.calc(grey, _soft(other), None), np.float32)  # type: ignore[call-overload]
    y, x = np.mgrid[0:h, 0:w].astype(np.float32)
    px, py = x + flow[..., 0], y + flow[..., 1]
    return np.asarray(
        cv2.remap(other, px, py, cv2.INTER_CUBIC, borderMode=cv2.BORDER_CONSTANT, borderValue=(-1000,) * 3), np.float32
    )  # fmt: skip


def _agreement(own: F32, theirs: F32, variance: F32) -> F32:
    """(h, w) how far a pixel's surroundings are the same in both, 0 to 1, but for grain of a variance."""
    off = ((own - theirs) ** 2).mean(axis=2)
    # Grain alone makes them differ by twice its variance, less what resampling takes; a few pixels tell whether there is more.
    near = cv2.GaussianBlur(off, (0, 0), 1.3)
    beyond = np.maximum(near / variance - 1.7, 0)
    return np.asarray(np.exp(-((beyond / ALIKE) ** 2)), np.float32)


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _beside(mean: F32, weight: F32, variance: F32, out: F32) -> None:
    """What few frames agreed on gets help from the pixels round it that look like it, as much as grain is left in it."""
    h, w = weight.shape
    for y in numba.prange(h):
        for x in range(w):
            lack = np.float32(ALONE) - weight[y, x]
            if lack <= 0:
                for c in range(3):
                    out[y, x, c] = mean[y, x, c]
                continue
            help_ = min(lack, np.float32(1.0))
            left = np.float32(3.0) * variance[y, x] * (np.float32(1.0) / weight[y, x] + np.float32(0.3))
            sum_w = np.float32(1.0)
            r, g, b = mean[y, x, 0], mean[y, x, 1], mean[y, x, 2]
            tr, tg, tb = r, g, b
            for j in range(max(0, y - BESIDE_PX), min(h, y + BESIDE_PX + 1)):
                for i in range(max(0, x - BESIDE_PX), min(w, x + BESIDE_PX + 1)):
                    if j == y and i == x:
                        continue
                    dr, dg, db = mean[j, i, 0] - r, mean[j, i, 1] - g, mean[j, i, 2] - b
                    k = help_ * np.exp(-(dr * dr + dg * dg + db * db) / (np.float32(3.0) * left))
                    sum_w += k
                    tr, tg, tb = tr + k * mean[j, i, 0], tg + k * mean[j, i, 1], tb + k * mean[j, i, 2]
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = tr / sum_w, tg / sum_w, tb / sum_w
