"""A rigid thing that carries marks, as a motion: its room is the thing's own space."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from plonket.base.errors import BadInput
from plonket.base.fields import GOES, Identifier, reference
from plonket.room.camera_track import CameraTrack
from plonket.track.object.solve import solve_rigid
from plonket.track.request import MeasureRequest
from plonket.track.room_motion import Moves, RoomMotion, moves_choice


class ObjectMotion(RoomMotion):
    """The movement of a rigid thing, solved from points on it that point motions follow."""

    MEASURING = RoomMotion.MEASURING | {"points"}

    kind: Literal["object"] = "object"
    points: Annotated[list[Identifier], reference("points", says="counts on a point motion", left=GOES)] = Field(
        default_factory=list, max_length=50
    )
    moves: Moves = moves_choice()


def measure_object(motion: ObjectMotion, request: MeasureRequest) -> CameraTrack:
    """Solve the movement from the points of the motions it counts on.

    Parameters
    ----------
    request : its context gives the points that are followed on the object.

    Returns
    -------
    CameraTrack of a camera that goes round the thing, in the thing's own space.

    Raises
    ------
    BadInput
        No points. Degenerate: too few of them, or movement that no rigid thing makes.
    """
    strong, clip, start, stop = request.context.control_points(motion), request.clip, request.start, request.end
    if not strong:
        raise BadInput("object.points", f"{motion.name} needs a point motion on it: follow eight points or more first.")
    xy = np.stack([path for path, _ in strong.values()])
    seen = np.stack([known for _, known in strong.values()])
    seen[:, :start], seen[:, stop:] = False, False
    track = solve_rigid(xy, seen, clip.info.size, focal=motion.focal(clip.info.size), work=request.work)
    return round_it(track)


def round_it(track: CameraTrack) -> CameraTrack:
    """An object's poses before a still camera as a camera's path round a thing that stands still."""
    turn = np.swapaxes(track.rotation, 1, 2)
    place = -np.einsum("nij,nj->ni", turn, track.position)
    return replace(track, rotation=turn, position=place)
