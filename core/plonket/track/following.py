"""Following: what a motion does to the things that follow it. One mechanism for everything."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from plonket.base.conventions import F64
from plonket.base.homography import jacobian, transform_point, translation
from plonket.document.follow import Follow


@dataclass(frozen=True, slots=True, kw_only=True)
class Parts:
    """Which parts of a movement are taken."""

    shift: bool = True
    turn: bool = True
    size: bool = True
    perspective: bool = False


def parts_of(follow: Follow) -> Parts:
    return Parts(shift=follow.shift, turn=follow.turn, size=follow.size, perspective=follow.perspective)


def local_movement(parts: Parts, moved: F64, start: F64, at: F64) -> F64:
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
    goes = transform_point(moved, at)
    place = goes if parts.shift else transform_point(start, at)
    if parts.perspective:
        return translation(*(place - goes)) @ moved
    j = jacobian(moved, at)
    size = float(np.sqrt(abs(np.linalg.det(j)))) if parts.size else 1.0
    angle = float(np.arctan2(j[1, 0] - j[0, 1], j[0, 0] + j[1, 1])) if parts.turn else 0.0
    c, s = np.cos(angle) * size, np.sin(angle) * size
    out = np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])
    out[:2, 2] = place - out[:2, :2] @ at
    return out
