"""The motion `object`, announced."""

from __future__ import annotations

from plonket.document.kinds import MOTIONS, MotionEntry
from plonket.room.camera_track import CameraTrack
from plonket.track.movement import room_movement
from plonket.track.object.settings import ObjectMotion, measure_object

MOTIONS.add(MotionEntry(
    kind="object", order=40, label="Object", settings=ObjectMotion, run=measure_object, track=CameraTrack,
    movement=room_movement,
    help="Solves a rigid thing that moves, from eight points or more that are followed on it.",
    traits=frozenset({"whole", "room", "counts"}), groups=("Movement", "Lens"), handles="details",
))  # fmt: skip
