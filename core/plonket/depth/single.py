"""The depth of one frame from others, by itself."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from plonket.base.conventions import F32, U8
from plonket.depth.from_flow import flows, triangulated
from plonket.depth.kernels import improve, rate
from plonket.depth.straight import Straight

NEAR = np.array([(-1, 0), (1, 0), (0, -1), (0, 1), (-7, 0), (7, 0), (0, -7), (0, 7)], np.int32)
"""Neighbours whose planes are tried; every other pass those twice as far away."""
BETTER = np.float32(0.01)
"""Cost by which another plane must look better than what the movement told."""
SAME = 0.015
"""Share of an inverse depth by which another one is not worth a look."""
BEST = 2
"""Views that count, of those there are: what hides a place hides it on one side."""


@dataclass(frozen=True, slots=True)
class Single:
    """Inverse depth (h, w) of a frame, and what its planes cost, 0 to about 1 (h, w)."""

    inverse: F32
    cost: F32


def single(straight: Straight, frame: int, others: list[int], low: float, high: float, passes: int) -> Single:
    """A frame's inverse depths between `low` and `high`: told by dense movement, its edges put right by what looks alike."""
    greys = [straight.grey(k) for k in (frame, *others)]
    codes: list[U8] = [np.asarray(one + 0.5, np.uint8) for one in greys]
    lies = [straight.lies(frame, k) for k in others]
    inverse, _ = triangulated(flows(codes[0], codes[1:]), lies, low, high)
    plane = _planes(inverse)
    cost = np.empty(inverse.shape, np.float32)
    rest = np.ascontiguousarray(np.stack(greys[1:]))
    turn, shift = (np.ascontiguousarray(np.stack([getattr(one, name) for one in lies])) for name in ("turn", "shift"))
    best = min(BEST, len(others))
    rate(greys[0], rest, turn, shift, plane, cost, best)
    cost -= BETTER
    for k in range(passes):
        for colour in (0, 1):
            improve(greys[0], rest, turn, shift, plane, cost, colour, NEAR * (1 + k % 2), low, high, best, SAME)
    return Single(plane[..., 0].copy(), cost)


def _planes(inverse: F32) -> F32:
    """(h, w, 3) inverse depth, and its change across and down as it is round each pixel."""
    soft = cv2.GaussianBlur(inverse, (0, 0), 1.5)
    across = cv2.Sobel(soft, cv2.CV_32F, 1, 0, scale=0.125)
    down = cv2.Sobel(soft, cv2.CV_32F, 0, 1, scale=0.125)
    return np.ascontiguousarray(np.dstack([inverse, across, down]), np.float32)


