"""The motion `depth`, announced."""

from __future__ import annotations

import numpy as np

from plonket.base.conventions import F64
from plonket.depth.of_motion import measure_depth
from plonket.document.kinds import MOTIONS, MotionEntry
from plonket.track.depth.depth_track import DepthTrack
from plonket.track.depth.settings import DepthMotion


def no_movement(motion: DepthMotion, track: DepthTrack, reference: int) -> F64:
    """(n, 3, 3): depth is told in the clip's own pixels."""
    return np.tile(np.eye(3), (track.frames, 1, 1))


MOTIONS.add(MotionEntry(
    kind="depth", order=70, label="Depth", settings=DepthMotion, run=measure_depth, track=DepthTrack, movement=no_movement,
    help="How far away everything is: what stands in the room goes behind what the footage shows before it.",
    traits=frozenset({"depth", "whole", "unfollowed"}), groups=("Depth",), handles="depth",
))  # fmt: skip
