"""How most of a picture moves from one frame to another."""

from __future__ import annotations

import cv2
import numpy as np

from plonket.base.conventions import F64, U8

DETAILS, LEAST_DETAILS, LEAST_SHARE = 400, 24, 0.4
"""Details that are followed, how many of them must agree, and which share of all."""


def whole_movement(luma: U8, there: U8, open_: U8) -> F64 | None:
    """(3, 3) by which most details of a picture, where it is `open_`, go to another one (pyramidal Lucas-Kanade, RANSAC)."""
    corners = cv2.goodFeaturesToTrack(luma, DETAILS, 0.01, 8, mask=np.where(open_ > 127, 255, 0).astype(np.uint8))
    if corners is None or len(corners) < LEAST_DETAILS:
        return None
    window = (21, 21)
    after, known, _ = cv2.calcOpticalFlowPyrLK(luma, there, corners, None, winSize=window, maxLevel=4)  # type: ignore[call-overload]
    back, again, _ = cv2.calcOpticalFlowPyrLK(there, luma, after, None, winSize=window, maxLevel=4)
    home = np.linalg.norm(back - corners, axis=(1, 2)) < 0.7
    kept = (known[:, 0] > 0) & (again[:, 0] > 0) & home
    if kept.sum() < LEAST_DETAILS:
        return None
    # Pixel centres lie at halves.
    h, inside = cv2.findHomography(corners[kept, 0] + 0.5, after[kept, 0] + 0.5, cv2.RANSAC, 1.0)
    if h is None or inside.sum() < max(LEAST_DETAILS, LEAST_SHARE * len(corners)):
        return None
    return np.asarray(h, np.float64)
