"""The motion `camera`, announced."""

from __future__ import annotations

from plonket.document.kinds import MOTIONS, MotionEntry
from plonket.room.camera_track import CameraTrack
from plonket.track.camera.measure import measure_camera
from plonket.track.camera.settings import CameraMotion
from plonket.track.movement import room_movement

MOTIONS.add(MotionEntry(
    kind="camera", order=30, label="Camera", settings=CameraMotion, run=measure_camera, track=CameraTrack,
    movement=room_movement,
    help="Solves the camera and the set in 3D from many details it finds by itself.",
    traits=frozenset({"whole", "room", "regions", "counts"}), groups=("Lens", "Details", "By hand"), handles="details",
))  # fmt: skip
