"""The motion `matte`, announced."""

from __future__ import annotations

import numpy as np

from plonket.base.conventions import F64
from plonket.document.kinds import MOTIONS, MotionEntry
from plonket.matting.measure import measure_matte
from plonket.track.matte.matte_track import MatteTrack
from plonket.track.matte.settings import MatteMotion


def no_movement(motion: MatteMotion, track: MatteTrack, reference: int) -> F64:
    """(n, 3, 3): what is covered is drawn in the clip's own pixels."""
    return np.tile(np.eye(3), (track.frames, 1, 1))


MOTIONS.add(MotionEntry(
    kind="matte", order=60, label="Matte", settings=MatteMotion, run=measure_matte, track=MatteTrack, movement=no_movement,
    help="What a thing covers in every frame, from a click on it: to cut by, to ignore, or to take out.",
    traits=frozenset({"matte", "unfollowed"}), groups=("Edge",), handles="matte",
))  # fmt: skip
