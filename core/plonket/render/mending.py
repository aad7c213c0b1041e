"""What a shot's footage is mended with: its own pictures, masks, and how far away all of it was measured to be."""

from __future__ import annotations

from collections.abc import Callable

from plonket.base.conventions import F32, F64
from plonket.document.shot import Shot
from plonket.masks.combine import Mattes
from plonket.plate.repair.behind import MeasuredDepth
from plonket.plate.repair.mended import Mending
from plonket.render.media_pool import MediaPool
from plonket.room.camera_track import CameraTrack
from plonket.track.depth.settings import DepthMotion
from plonket.track.spaces import Spaces


def mending_of(
    shot: Shot, pool: MediaPool, movement: Callable[[str, int], F64 | None], spaces: Spaces, mattes: Mattes
) -> Mending:
    """What mends the frames of a shot with footage, in its clip's own time; see `Mending`."""
    assert shot.footage is not None
    asset = shot.footage.asset
    return Mending(shot, lambda frame: pool.clip(asset).rgb(frame), pool, movement, spaces, mattes, _measured_depth(shot, pool))


def _measured_depth(shot: Shot, pool: MediaPool) -> MeasuredDepth | None:
    """How far away what the clip shows is, where that was measured from its solved camera; None: it was not."""
    for motion in shot.motions:
        if not isinstance(motion, DepthMotion) or motion.measurement is None or motion.camera is None:
            continue
        solved = shot.motion(motion.camera).measurement
        track = pool.measured(solved) if solved else None
        if isinstance(track, CameraTrack):
            return MeasuredDepth(track, _depths(pool, motion.measurement))
    return None


def _depths(pool: MediaPool, measurement: str) -> Callable[[int], F32 | None]:
    def told(frame: int) -> F32 | None:
        found = pool.depth(measurement, frame)
        return None if found is None else found.depth

    return told
