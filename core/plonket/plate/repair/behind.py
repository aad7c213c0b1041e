"""What lies behind a hole by the clip's measured depth, and where other frames show it.

Behind what moves past, there may be a bench, a wall and a crate: each goes its own way from frame to frame, which no single
surface's movement tells. Depth that other frames know of the place does.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, FAST, U8
from plonket.base.lru_cache import LruCache
from plonket.depth.fuse import agreed, carried_depth
from plonket.depth.raised import LiesAt, lies_at, nearest_of
from plonket.depth.straight import Straight
from plonket.plate.repair.holes import RIM_PX, Hole, widened
from plonket.room.camera_track import CameraTrack

WIDTH = 960
"""Pixels across of the pictures of depth."""
TOLD = 3
"""Frames that should tell of a place before no more are asked."""
GAP_PX = 4.0
"""How far a place whose depth is not known takes after its surroundings."""
NEARER = 1.03
"""Times nearer that what hides a place in another frame is at least."""
KEPT = 32


@dataclass(frozen=True, slots=True)
class MeasuredDepth:
    """A clip's solved camera, and its depth `of` a frame: z-depth (H, W) in the camera's units, 0 or None where unknown."""

    track: CameraTrack
    of: Callable[[int], F32 | None]


@dataclass(frozen=True, slots=True)
class Seen:
    """Where a window's pixels are in another frame: array indices x, y (h, w) there, and which of them are seen (h, w)."""

    x: F32
    y: F32
    usable: NDArray[np.bool_]


class Behind:
    """Where what a hole hides lies in other frames.

    Parameters
    ----------
    measured : the clip's depth. hidden : frame -> 8-bit (H, W), white where what is seen is not to be there; of that nothing is
        told.
    """

    def __init__(self, measured: MeasuredDepth, hidden: Callable[[int], U8]) -> None:
        track, self._depth, self._hidden = measured.track, measured.of, hidden
        self._straight = Straight(_no_pictures, track, min(WIDTH, track.size[0]))
        self._known = track.known()
        self._inverse: LruCache[int, F32] = LruCache(self._made, KEPT)

    def depth(self, frame: int, others: list[int], hole: Hole) -> F32 | None:
        """(h, w) inverse depth of what lies behind a hole and round it, in its window, by the `others` that know it, in turn;
        0 where unknown. None: nothing of it is known.
        """
        if not self._known[frame]:
            return None
        at = lies_at(self._straight, frame)
        window = LiesAt(*(np.ascontiguousarray(hole.cut(one)) for one in (at.u, at.v)))
        stack = [self._inverse.get(frame)]
        count = nearest_of((stack[0] > 0).astype(np.float32), window)
        for k in others:
            if count[hole.mask].min() >= TOLD:
                break
            if self._known[k] and (told := self._inverse.get(k)).any():
                carried = carried_depth(told, self._straight.lies(k, frame))
                new = nearest_of((carried > 0).astype(np.float32), window)
                if new[hole.mask].any():
                    stack.append(carried)
                    count += new
        told, _ = agreed(stack[0], stack[1:], 1)
        found = _gaps_closed(told)
        out = nearest_of(found, window)
        return out if out[hole.mask].any() else None

    def seen(self, frame: int, other: int, hole: Hole, inverse: F32) -> Seen | None:
        """Where another frame shows what has that inverse depth (h, w) in a hole's window; None: its camera is not known."""
        if not self._known[other]:
            return None
        at, lies = lies_at(self._straight, frame), self._straight.lies(frame, other)
        u, v = (np.ascontiguousarray(hole.cut(one)) for one in (at.u, at.v))
        usable = np.zeros(inverse.shape, bool)
        x, y = np.zeros(inverse.shape, np.float32), np.zeros(inverse.shape, np.float32)
        _look(u, v, inverse, lies.turn, lies.shift, self._inverse.get(other), np.float32(NEARER), x, y, usable)
        bent = self._straight.bent_grid(other)
        back = [cv2.remap(one, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE) for one in bent]
        return Seen(np.asarray(back[0], np.float32), np.asarray(back[1], np.float32), usable)

    def _made(self, frame: int) -> F32:
        """(h, w) inverse depth of a straight reduced frame, 0 where it is unknown or what is seen is to be gone."""
        depth = self._depth(frame)
        if depth is None:
            return np.zeros(self._straight.size[::-1], np.float32)
        told = np.where((depth > 0) & (widened(self._hidden(frame), RIM_PX) == 0), 1 / np.maximum(depth, np.float32(1e-9)), 0)
        x, y = self._straight.bent_grid(frame)
        return np.asarray(cv2.remap(told.astype(np.float32), x, y, cv2.INTER_NEAREST, borderValue=0), np.float32)


def _no_pictures(_frame: int) -> U8:
    raise NotImplementedError


def _gaps_closed(inverse: F32) -> F32:
    """The same where small pieces of it were not known."""
    known = (inverse > 0).astype(np.float32)
    share = cv2.GaussianBlur(known, (0, 0), GAP_PX)
    near = cv2.GaussianBlur(inverse, (0, 0), GAP_PX) / np.maximum(share, np.float32(1e-6))
    return np.asarray(np.where((known == 0) & (share > 0.02), near, inverse), np.float32)


@numba.njit(cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _look(
    u: F32, v: F32, inverse: F32, turn: F32, shift: F32, theirs: F32, nearer: np.float32, x: F32, y: F32,
    usable: NDArray[np.bool_],
) -> None:  # fmt: skip
    """Array indices x, y (h, w) in another straight picture with inverse depths `theirs`, of pixels at u, v of one's own."""
    h, w = theirs.shape
    for j in range(u.shape[0]):
        for i in range(u.shape[1]):
            d = inverse[j, i]
            if d <= 0:
                continue
            row = min(max(int(round(v[j, i])), 0), h - 1)
            a, b = turn[row], shift[row]
            z = a[2, 0] * u[j, i] + a[2, 1] * v[j, i] + a[2, 2] + d * b[2]
            if z <= np.float32(1e-6):
                continue
            p = (a[0, 0] * u[j, i] + a[0, 1] * v[j, i] + a[0, 2] + d * b[0]) / z
            q = (a[1, 0] * u[j, i] + a[1, 1] * v[j, i] + a[1, 2] + d * b[1]) / z
            x[j, i], y[j, i] = p, q
            if p >= 1 and q >= 1 and p <= w - 2 and q <= h - 2:
                usable[j, i] = theirs[int(round(q)), int(round(p))] <= nearer * d / z
