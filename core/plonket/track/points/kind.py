"""The motion `points`, announced."""

from __future__ import annotations

from plonket.document.kinds import MOTIONS, MotionEntry
from plonket.track.movement import point_movement
from plonket.track.points.measure import measure_points
from plonket.track.points.settings import PointMotion
from plonket.track.points.tracks import PointTracks

MOTIONS.add(MotionEntry(
    kind="points", order=10, label="Point", settings=PointMotion, run=measure_points, track=PointTracks,
    movement=point_movement,
    help="Follows small high-contrast details. One gives shift, two give turn and size as well.",
    traits=frozenset({"points"}), groups=("Point", "How it looks for it", "Path"), handles="points",
))  # fmt: skip
