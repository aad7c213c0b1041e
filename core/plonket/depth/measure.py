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
from plonket.depth.borders import at_edges
from plonket.depth.frame_depth import FrameDepth
from plonket.depth.fuse import agreed, carried_depth
from plonket.depth.raised import lies_at, nearest_of, raised
from plonket.depth.single import Single, single
from plonket.depth.straight import Straight
from plonket.depth.tidied import tidied
from plonket.depth.views import Distances, beside, distances
from plonket.room.camera_track import CameraTrack

USELESS = 0.35
"""Cost from which on a single frame's depth is not used."""
AGREE = 3
"""Frames that must agree."""
FILLED_SURE = 0.1
"""How sure what only takes after its surroundings is."""
MOVES = 40
"""Of 255, from which on a mover covers a pixel."""
KEPT = 16
BORDERS = 2
"""Times that what is in front is told along its borders, each time from where they were put before."""


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
    moves : frame -> 8-bit (H, W), white where something moves by itself, of which nothing is told; None: nothing does.
    """

    def __init__(
        self, rgb: Callable[[int], U8], track: CameraTrack, effort: Effort = QUALITY["good"],
        moves: Callable[[int], U8 | None] = lambda _frame: None,
    ) -> None:  # fmt: skip
        self._rgb, self._track, self._effort, self._moves = rgb, track, effort, moves
        self._straight = Straight(rgb, track, min(effort.width, track.size[0]))
        self._known = np.flatnonzero(track.known())
        self._singles: OrderedDict[int, Single | None] = OrderedDict()
        self._found: dict[int, _Seen | None] = {}

    def depth(self, frame: int) -> FrameDepth:
        """A frame's depth, by itself and by what its neighbours tell.

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
        told, votes = agreed(stack[0], stack[1:], min(AGREE, len(stack)))
        soft = np.asarray(cv2.GaussianBlur(self._straight.colour(frame), (0, 0), 0.8), np.float32)
        tidy = self._bordered(tidied(told, soft), frame)
        sure = np.where(told > 0, votes / len(stack), np.float32(FILLED_SURE))
        at = lies_at(self._straight, frame)
        depth = raised(tidy, self._straight.colour(frame), self._rgb(frame), at)
        sure = np.where(depth > 0, nearest_of(np.asarray(sure, np.float32), at), np.float32(0))
        if (moving := self._moves(frame)) is not None:
            depth[moving > MOVES] = 0
            sure[moving > MOVES] = 0
        return FrameDepth(depth, sure)

    def _bordered(self, inverse: F32, frame: int) -> F32:
        """A frame's inverse depths with their jumps where its own edges are."""
        seen = self._beside(frame)
        if seen is None:
            return inverse
        greys = [self._straight.grey(k) for k in (frame, *seen.others)]
        lies = [self._straight.lies(frame, k) for k in seen.others]
        turn, shift = (np.ascontiguousarray(np.stack([getattr(one, name) for one in lies])) for name in ("turn", "shift"))
        return at_edges(inverse, self._straight.colour(frame), greys, turn, shift, BORDERS)

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
        if (moving := self._moves(key)) is not None:
            usable[self._straight.reduced(moving, key) > MOVES] = 0
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
        seen = self._beside(frame)
        if seen is None:
            return None
        return single(self._straight, frame, seen.others, 1 / seen.reach.far, 1 / seen.reach.near, self._effort.passes)

    def _beside(self, frame: int) -> _Seen | None:
        """The frames that tell a frame, found once; None where none does."""
        if frame not in self._found:
            reach = distances(self._straight, frame)
            others = [] if reach is None else beside(self._straight, frame, reach.middle)
            self._found[frame] = None if reach is None or not others else _Seen(others, reach)
        return self._found[frame]


@dataclass(frozen=True, slots=True)
class _Seen:
    """Frames from which another one is seen from elsewhere, and how far away what it shows is."""

    others: list[int]
    reach: Distances
