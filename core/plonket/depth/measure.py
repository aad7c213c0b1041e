"""Depth of every frame of a clip whose camera is solved.

Single frames are told from others seen from elsewhere (`single`); what neighbouring ones say is brought into each, and what
most agree on is kept (`fuse`), so that it is consistent from frame to frame and what moves by itself drops out.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np

from plonket.base.conventions import F32, U8
from plonket.base.errors import Degenerate
from plonket.depth.fuse import agreed, carried_depth
from plonket.depth.raised import raised
from plonket.depth.single import Single, single
from plonket.depth.straight import Straight
from plonket.depth.tidied import tidied
from plonket.depth.views import beside, distances
from plonket.room.camera_track import CameraTrack

USELESS = 0.35
"""Cost from which on a single frame's depth is not used."""
AGREE = 3
"""Frames that must agree."""
KEPT = 16


@dataclass(frozen=True, slots=True, kw_only=True)
class Effort:
    """How much is done: `width` of the pictures that are matched, `every` so many frames a single one, `passes` over their
    edges, and how many single ones `around` a frame are brought together."""

    width: int
    every: int
    passes: int
    around: int


QUALITY = {
    "good": Effort(width=720, every=2, passes=3, around=8),
    "quick": Effort(width=480, every=3, passes=2, around=6),
}
NO_PARALLAX = (
    "The camera hardly moves from its place, so depth cannot be told from its picture: it takes a move to the side, or towards "
    "something. Boxes and flat surfaces drawn by hand still can stand in front."
)


class DepthMaker:
    """Works out depth, frame by frame; single frames are kept for their neighbours.

    Parameters
    ----------
    rgb : frame -> 8-bit (H, W, 3). track : the solved camera of the same clip. effort : see `Effort`.
    """

    def __init__(self, rgb: Callable[[int], U8], track: CameraTrack, effort: Effort = QUALITY["good"]) -> None:
        self._rgb, self._track, self._effort = rgb, track, effort
        self._straight = Straight(rgb, track, min(effort.width, track.size[0]))
        self._known = np.flatnonzero(track.known())
        self._singles: OrderedDict[int, Single | None] = OrderedDict()

    def depth(self, frame: int) -> F32:
        """(H, W) z-depth in the camera's units, along the camera's axis; 0 where it is not known.

        Raises
        ------
        Degenerate
            The camera has no place on this frame, or does not move from its place.
        """
        if frame not in self._known:
            raise Degenerate("depth.pose", f"The camera is not known on frame {frame}.")
        keys = self._keys(frame)
        own = self._carried(frame, frame) if frame in keys else None
        others = [one for k in keys if k != frame and (one := self._carried(k, frame)) is not None]
        if own is None and not others:
            raise Degenerate("depth.parallax", NO_PARALLAX)
        stack = [one for one in (own, *others) if one is not None]
        told, _ = agreed(stack[0], stack[1:], min(AGREE, len(stack)))
        soft = np.asarray(cv2.GaussianBlur(self._straight.colour(frame), (0, 0), 0.8), np.float32)
        return raised(tidied(told, soft), self._straight, frame, self._rgb(frame))

    def _keys(self, frame: int) -> list[int]:
        """The frames told by themselves that are nearest to one, the nearest first."""
        every = self._effort.every
        first, last = int(self._known[0]), int(self._known[-1])
        all_keys = [k for k in range(first, last + 1, every) if k in self._known]
        if last not in all_keys:
            all_keys.append(last)
        return sorted(all_keys, key=lambda k: abs(k - frame))[: self._effort.around + 1]

    def _carried(self, key: int, frame: int) -> F32 | None:
        """(h, w) what one frame tells of another; None where it tells nothing."""
        one = self._single(key)
        if one is None:
            return None
        usable = np.where(one.cost < USELESS, one.inverse, 0).astype(np.float32)
        return usable if key == frame else carried_depth(usable, self._straight.lies(key, frame))

    def _single(self, frame: int) -> Single | None:
        if frame not in self._singles:
            self._singles[frame] = self.tell(frame)
            while len(self._singles) > KEPT:
                self._singles.popitem(last=False)
        self._singles.move_to_end(frame)
        return self._singles[frame]

    def tell(self, frame: int) -> Single | None:
        """A frame by itself, not kept; None where no other tells it."""
        reach = distances(self._straight, frame)
        others = [] if reach is None else beside(self._straight, frame, reach.middle)
        if reach is None or not others:
            return None
        return single(self._straight, frame, others, 1 / reach.far, 1 / reach.near, self._effort.passes)
