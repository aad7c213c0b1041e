"""The motion `form`, announced."""

from __future__ import annotations

from plonket.document.kinds import MOTIONS, MotionEntry
from plonket.room.camera_track import CameraTrack
from plonket.track.form.measure import measure_form
from plonket.track.form.settings import FormMotion
from plonket.track.movement import room_movement

MOTIONS.add(MotionEntry(
    kind="form", order=50, label="Form", settings=FormMotion, run=measure_form, track=CameraTrack, movement=room_movement,
    help="A box, cylinder, plane or model put in place by hand on a few frames, and followed by its surface.",
    traits=frozenset({"room", "regions"}), groups=("Form", "Movement", "How it looks for it", "Lens"), handles="form",
))  # fmt: skip
