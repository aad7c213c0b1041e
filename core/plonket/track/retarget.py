"""A thing that follows something else from a frame on, and stays where it is in that frame."""

from __future__ import annotations

from typing import Any

import numpy as np

from plonket.base.conventions import F64
from plonket.base.errors import BadInput
from plonket.base.fields import Number
from plonket.base.homography import jacobian, transform_point
from plonket.document.follow import Follow
from plonket.document.kinds import MOTIONS
from plonket.document.operations import thing, with_values
from plonket.document.perch import Perch
from plonket.document.shot import Shot
from plonket.track.spaces import Spaces, seated_at

ORIGIN = np.zeros(2)


def retarget(shot: Shot, thing_id: str, target: str | None, frame: int, spaces: Spaces) -> Shot:
    """The shot in which a placed layer or a perch follows another motion or perch, or nothing, from `frame` on.

    Its place, turn and size are restated for the new target so that it lies in that frame as before; those that move by keys
    are left. A perch that leaves its room is placed in pixels again. Raises `BadInput` for what has no place of its own.
    """
    one: Any = thing(shot, thing_id)
    if not all(hasattr(one, name) for name in ("follow", "x", "y", "turn", "size")):
        raise BadInput("retarget.placeless", f"{one.name} has no place of its own to keep.")
    now = spaces.perch(one, frame) if isinstance(one, Perch) else seated_at(one, spaces, frame)
    place = transform_point(now, ORIGIN)
    surfaces = {m.id for m in shot.motions if "surface" in MOTIONS.of(m).traits}
    home = round(shot.footage.moment(frame)) if shot.footage else frame
    follow = one.follow.model_copy(update={"target": target, "reference_frame": home, "perspective": target in surfaces})
    values: dict[str, Any] = {"follow": follow} | _restated(one, now, place, follow, spaces, frame)
    if isinstance(one, Perch):
        values["spot"] = None
    return with_values(shot, thing_id, values)


def _restated(one: Any, now: F64, place: F64, follow: Follow, spaces: Spaces, frame: int) -> dict[str, Number]:
    """Place, turn and size in the new target's space; numbers that move are left out."""
    moved = spaces.of(follow, frame)
    at = transform_point(np.asarray(np.linalg.inv(moved), np.float64), place)
    turn, size = _turn_and_size(now, ORIGIN)
    # The new target's own turn and size in this frame are taken off again: on a perch they are not nought.
    own_turn, own_size = _turn_and_size(moved, at)
    new = {"x": float(at[0]), "y": float(at[1]), "turn": turn - own_turn, "size": 100 * size / own_size}
    return {name: round(value, 3) for name, value in new.items() if isinstance(getattr(one, name), int | float)}


def _turn_and_size(matrix: F64, at: F64) -> tuple[float, float]:
    """Degrees and ratio that a homography has at a spot."""
    j = jacobian(matrix, at)
    turn = float(np.degrees(np.arctan2(j[1, 0] - j[0, 1], j[0, 0] + j[1, 1])))
    return turn, float(np.sqrt(abs(np.linalg.det(j))))
