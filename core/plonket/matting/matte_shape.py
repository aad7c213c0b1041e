"""Mattes put right: lone pieces and holes taken away, the edge moved by parts of a pixel."""

from __future__ import annotations

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, U8


def without_lone(alpha: F32, widest_px: float) -> F32:
    """A matte (h, w), 0 to 1, without pieces that stand alone and are no wider than `widest_px` either way."""
    seen = (alpha > 0.12).astype(np.uint8)
    count, labels, boxes, _ = cv2.connectedComponentsWithStats(seen, connectivity=8)
    small = (boxes[:, cv2.CC_STAT_WIDTH] <= widest_px) & (boxes[:, cv2.CC_STAT_HEIGHT] <= widest_px)
    small[0] = False
    if count < 2 or not small.any():
        return alpha
    marks = np.empty_like(seen)
    _marked(labels, small, marks)
    out = np.empty_like(alpha)
    # Their faint rims go too.
    _without(alpha, seen, marks, np.asarray(cv2.dilate(marks, np.ones((7, 7), np.uint8)), np.uint8), out)
    return out


@numba.njit(parallel=True, cache=True)  # type: ignore[misc]
def _marked(labels: NDArray[np.int32], small: NDArray[np.bool_], out: U8) -> None:
    """1 where a pixel's piece is a small one."""
    for y in numba.prange(labels.shape[0]):
        for x in range(labels.shape[1]):
            out[y, x] = small[labels[y, x]]


@numba.njit(parallel=True, cache=True)  # type: ignore[misc]
def _without(alpha: F32, seen: U8, marks: U8, wider: U8, out: F32) -> None:
    """The matte without what is marked, and round that without all but what is seen of other pieces."""
    for y in numba.prange(alpha.shape[0]):
        for x in range(alpha.shape[1]):
            gone = wider[y, x] > 0 and (marks[y, x] > 0 or seen[y, x] == 0)
            out[y, x] = np.float32(0.0) if gone else alpha[y, x]


def without_holes(alpha: F32, widest_px: float) -> F32:
    """A matte (h, w), 0 to 1, whose holes, whole rounded by the subject and no wider than `widest_px` either way, are shut."""
    count, labels, boxes, _ = cv2.connectedComponentsWithStats((alpha < 0.5).astype(np.uint8), connectivity=4)
    small = (boxes[:, cv2.CC_STAT_WIDTH] <= widest_px) & (boxes[:, cv2.CC_STAT_HEIGHT] <= widest_px)
    small &= (boxes[:, cv2.CC_STAT_LEFT] > 0) & (boxes[:, cv2.CC_STAT_TOP] > 0)
    small[0] = False
    if count < 2 or not small.any():
        return alpha
    # Their soft rims shut too.
    shut = cv2.dilate(small[labels].astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
    return np.where(shut & (cv2.blur((alpha > 0.5).astype(np.float32), (9, 9)) > 0.3), 1, alpha).astype(np.float32)


def moved_edge(alpha: F32, inwards_px: float) -> F32:
    """The matte (h, w), 0 to 1, eroded (or, negative, spread) by parts of a pixel: between whole steps it is mixed."""
    whole, part = int(abs(inwards_px)), abs(inwards_px) % 1
    step = cv2.erode if inwards_px > 0 else cv2.dilate

    def by(px: int) -> F32:
        if px == 0:
            return alpha
        disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * px + 1, 2 * px + 1))
        return np.asarray(step(alpha, disc), np.float32)

    a = by(whole)
    return a if part < 1e-6 else np.asarray(a + np.float32(part) * (by(whole + 1) - a), np.float32)
