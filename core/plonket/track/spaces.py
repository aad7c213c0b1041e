"""Spaces: where anything that follows anything is, in any frame."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

import numpy as np

from plonket.base.conventions import F64
from plonket.base.errors import BadInput
from plonket.base.fields import Number, value_at
from plonket.base.homography import rotation_scale, translation
from plonket.document.follow import Follow
from plonket.document.perch import Perch
from plonket.document.spot import Spot
from plonket.track.following import local_movement, parts_of
from plonket.track.movement import between, inverted, steadied

DEEPEST = 12
"""Perches on perches, at the most."""


class Placed(Protocol):
    """What has a place, turn and size in the space of what it follows."""

    follow: Follow
    x: Number
    y: Number
    turn: Number
    size: Number


class Spaces:
    """Resolves chains of followers.

    Parameters
    ----------
    perches : all of the shot. movement : (motion id, reference frame) -> (n, 3, 3), or None while it is
        not measured. size : (width, height) of the picture. screen : moment of the clip -> (3, 3) from the finished
        picture's pixels to the clip's, where the clip is steadied: what follows nothing stays put on the screen.
        spot : (camera motion, spot in its room) -> (n, 3, 3) from the spot's pixels to every frame's of the shot, or None.
        moment : frame of the shot -> moment of the clip, to which movements and reference frames belong.
    """

    def __init__(
        self, perches: Sequence[Perch], movement: Callable[[str, int], F64 | None], size: tuple[int, int],
        screen: Callable[[float], F64] | None = None, spot: Callable[[str, Spot], F64 | None] | None = None,
        moment: Callable[[float], float] | None = None,
    ) -> None:  # fmt: skip
        self._perches = {p.id: p for p in perches}
        self._moment = moment or float
        self._movement, self._size, self._screen, self._spot = movement, size, screen, spot
        self._spots: dict[str, F64 | None] = {}
        self._steadied: dict[tuple[str, int, float, bool], F64 | None] = {}

    def of(self, follow: Follow, frame: float, depth: int = 0) -> F64:
        """(3, 3) from the follower's space to the frame: all of the target's movement."""
        return self._of(follow, frame, self._moment(frame), depth)

    def _of(self, follow: Follow, frame: float, moment: float, depth: int) -> F64:
        if follow.target is None:
            # An exposure's instants share their frame's view: the plate's own blur was filmed, not added.
            if self._screen is None:
                return np.eye(3)
            whole = round(frame)
            return self._screen(moment if whole == frame == moment else self._moment(whole))
        perch = self._perches.get(follow.target)
        if perch is not None:
            if depth > DEEPEST:
                raise BadInput("perch.depth", f"Perches stand on each other more than {DEEPEST} deep at {perch.name}.")
            return self._perch(perch, frame, moment, depth + 1)
        path = self._path(follow.target, follow)
        return np.eye(3) if path is None else between(path, moment)

    def placed(self, follow: Follow, frame: float, at: F64) -> F64:
        """(3, 3) from the follower's space to the frame for a thing at `at`: the parts it takes."""
        return self._placed(follow, frame, self._moment(frame), at, 0)

    def _placed(self, follow: Follow, frame: float, moment: float, at: F64, depth: int) -> F64:
        moved = self._of(follow, frame, moment, depth)
        home = follow.reference_frame
        start = moved if follow.shift else self._of(follow, home, home, depth)
        return local_movement(parts_of(follow), moved, start, at)

    def perch(self, perch: Perch, frame: float) -> F64:
        """(3, 3) from a perch's own space (its place is the origin) to the frame."""
        return self._perch(perch, frame, self._moment(frame), 0)

    def _perch(self, perch: Perch, frame: float, moment: float, depth: int) -> F64:
        at = np.array([value_at(perch.x, frame), value_at(perch.y, frame)])
        if perch.spot is not None:
            return np.asarray(self._in_room(perch, frame) @ seated(at, perch.turn, perch.size, frame))
        seat = self._placed(perch.follow, frame, moment, at, depth)
        return np.asarray(seat @ seated(at, perch.turn, perch.size, frame))

    def _in_room(self, perch: Perch, frame: float) -> F64:
        """(3, 3) from the pixels of a perch's spot to the frame."""
        if perch.id not in self._spots:
            assert perch.spot is not None
            known = self._spot is not None and perch.follow.target is not None
            self._spots[perch.id] = self._spot(perch.follow.target, perch.spot) if known else None  # type: ignore[misc, arg-type]
        path = self._spots[perch.id]
        return np.eye(3) if path is None else between(path, frame)

    def _path(self, motion: str, follow: Follow) -> F64 | None:
        key = (motion, follow.reference_frame, follow.smooth, follow.inverted)
        if key not in self._steadied:
            path = self._movement(motion, follow.reference_frame)
            if path is not None:
                path = steadied(path, follow.reference_frame, follow.smooth, self._size)
                path = inverted(path) if follow.inverted else path
            self._steadied[key] = path
        return self._steadied[key]


def seated_at(thing: Placed, spaces: Spaces, frame: float) -> F64:
    """(3, 3) from pixels about a placed thing's anchor to the frame's pixels, full resolution."""
    at = np.array([value_at(thing.x, frame), value_at(thing.y, frame)])
    return np.asarray(spaces.placed(thing.follow, frame, at) @ seated(at, thing.turn, thing.size, frame))


def seated(at: F64, turn: Number, size: Number, frame: float) -> F64:
    """(3, 3) from a thing's own pixels about its middle to its space: placed, turned and sized."""
    return np.asarray(translation(*at) @ rotation_scale(value_at(turn, frame), value_at(size, frame) / 100))
