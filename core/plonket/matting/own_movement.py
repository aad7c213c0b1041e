"""What moves otherwise than the picture as a whole."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np

from plonket.base.conventions import F32, U8
from plonket.matting.guesses import BESIDE


def own_movement(picture: Callable[[int], U8], frame: int, frames: int) -> tuple[F32, F32]:
    """(h, w) pixels a frame by which each place moves otherwise than the picture as a whole, and which way (h, w, 2).

    picture : frame -> 8-bit (h, w, 3). Told from dense movement to frames before and after, the plane that most of the picture
    moves as taken off; of both sides' speeds the lesser one counts.
    """
    grey = cv2.cvtColor(picture(frame), cv2.COLOR_RGB2GRAY)
    h, w = grey.shape
    gx, gy = np.meshgrid(np.arange(w, dtype=np.float32), np.arange(h, dtype=np.float32))
    ys, xs = np.mgrid[4:h:9, 4:w:9].reshape(2, -1)
    at = np.stack([xs, ys], axis=1).astype(np.float32)
    found = []
    for other in {max(frame - BESIDE, 0), min(frame + BESIDE, frames - 1)} - {frame}:
        there = cv2.cvtColor(picture(other), cv2.COLOR_RGB2GRAY)
        flow = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM).calc(grey, there, np.zeros((h, w, 2), np.float32))
        m, _ = cv2.findHomography(at, at + flow[ys, xs], cv2.RANSAC, 1.0)
        if m is None:
            continue
        x, y, z = (np.float32(a) * gx + np.float32(b) * gy + np.float32(c) for a, b, c in m)
        whole = np.dstack([x / z - gx, y / z - gy])
        found.append((flow - whole) / np.float32(other - frame))
    speeds = [np.hypot(one[..., 0], one[..., 1]) for one in found] or [np.zeros((h, w))]
    ways = np.mean(found, axis=0) if found else np.zeros((h, w, 2))
    least, mean = (one.astype(np.float32) for one in (np.min(speeds, axis=0), ways))
    return tuple(np.asarray(cv2.GaussianBlur(one, (0, 0), 1.5), np.float32) for one in (least, mean))  # type: ignore[return-value]
