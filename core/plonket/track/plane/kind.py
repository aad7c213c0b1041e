"""The motion `plane`, announced."""

from __future__ import annotations

from plonket.document.kinds import MOTIONS, MotionEntry
from plonket.track.movement import plane_movement
from plonket.track.plane.measure import measure_plane
from plonket.track.plane.settings import PlaneMotion
from plonket.track.plane.track import PlaneTrack

MOTIONS.add(MotionEntry(
    kind="plane", order=20, label="Plane", settings=PlaneMotion, run=measure_plane, track=PlaneTrack, movement=plane_movement,
    help="Follows a flat surface, whole, in perspective; what crosses it is left out.",
    traits=frozenset({"surface", "regions"}), groups=("How it looks for it", "Path", "Shown"), handles="plane",
))  # fmt: skip
