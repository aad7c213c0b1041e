"""Following: what a motion does to the things that follow it. One mechanism for everything."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

import numpy as np
from pydantic import Field

from plonket.base.conventions import F64
from plonket.base.fields import Identifier, Model, plain, reference, switch


class Follow(Model):
    """What is followed, from which frame, and which parts of the movement.

    `target` is a motion or a perch. Places of what follows a motion are pixels of the reference
    frame; places of what sits on a perch are pixels from the perch.
    """

    target: Annotated[Identifier | None, reference("place", says="follows something")] = None
    reference_frame: int = Field(default=0, ge=0)
    shift: bool = switch(True, label="Shift", group="Follow", help="Go where it goes.")
    turn: bool = switch(True, label="Turn", group="Follow", help="Turn as it turns.")
    size: bool = switch(True, label="Size", group="Follow", help="Grow as it grows.")
    perspective: bool = switch(False, label="Perspective", group="Follow",
                               help="Tilt with the surface, as if painted on it. Takes turn and size with it.")  # fmt: skip
    inverted: bool = switch(False, label="Inverted", group="Follow", help="Move the opposite way.")
    smooth: float = plain(0, label="Smoothed", low=0, high=120, step=1, unit="fr", group="Follow",
                          help="Leave small shakes out: follow a path averaged over so many frames.")  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Parts:
    """Which parts of a movement are taken."""

    shift: bool = True
    turn: bool = True
    size: bool = True
    perspective: bool = False


def parts_of(follow: Follow) -> Parts:
    return Parts(shift=follow.shift, turn=follow.turn, size=follow.size, perspective=follow.perspective)


def carried(parts: Parts, moved: F64, start: F64, at: F64) -> F64:
    """The movement that a thing at a spot takes part in.

    Parameters
    ----------
    moved : (3, 3) from the thing's own space to the frame. start : the same on the reference frame,
        where things stay that do not shift. at : (2,) the thing's place in its space.

    Returns
    -------
    (3, 3) from the thing's space to the frame: the movement itself with `perspective`, else the shift,
    turn and size that it has at that spot.
    """
    goes = spot_through(moved, at)
    place = goes if parts.shift else spot_through(start, at)
    if parts.perspective:
        return shifted(*(place - goes)) @ moved
    j = jacobian(moved, at)
    size = float(np.sqrt(abs(np.linalg.det(j)))) if parts.size else 1.0
    angle = float(np.arctan2(j[1, 0] - j[0, 1], j[0, 0] + j[1, 1])) if parts.turn else 0.0
    c, s = np.cos(angle) * size, np.sin(angle) * size
    out = np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])
    out[:2, 2] = place - out[:2, :2] @ at
    return out


def spot_through(m: F64, at: F64) -> F64:
    """A pixel (2,) through a (3, 3) matrix."""
    out = m @ np.array([at[0], at[1], 1.0])
    return np.asarray(out[:2] / out[2])


def jacobian(m: F64, at: F64) -> F64:
    """(2, 2) derivative of a homography at a spot."""
    x, y, w = m @ np.array([at[0], at[1], 1.0])
    return np.asarray((m[:2, :2] - np.outer([x / w, y / w], m[2, :2])) / w)


def shifted(dx: float, dy: float) -> F64:
    """A shift as a (3, 3) matrix."""
    return np.array([[1.0, 0, dx], [0, 1.0, dy], [0, 0, 1.0]])


def turned_sized(turn_deg: float, size: float) -> F64:
    """A turn and a size about the origin as a (3, 3) matrix."""
    a = np.radians(turn_deg)
    c, s = np.cos(a) * size, np.sin(a) * size
    return np.array([[c, -s, 0.0], [s, c, 0.0], [0, 0, 1.0]])


__all__ = [
    "Follow", "Parts", "carried", "jacobian", "parts_of", "shifted", "spot_through", "turned_sized",
]  # fmt: skip
