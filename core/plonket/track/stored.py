"""Reading stored measurements of any kind."""

from __future__ import annotations

import io
import zipfile

import numpy as np

from plonket.base.errors import FormatError
from plonket.room.camera_track import CameraTrack
from plonket.track.movement import Measured
from plonket.track.plane.track import PlaneTrack
from plonket.track.points.tracks import PointTracks


def read_measured(data: bytes) -> Measured:
    """What a measurement's `to_bytes` wrote. Raises `FormatError`."""
    try:
        with np.load(io.BytesIO(data), allow_pickle=False) as z:
            kind = str(z["kind"]) if "kind" in z.files else "points"
    except (OSError, ValueError, zipfile.BadZipFile) as error:
        raise FormatError("tracks.unreadable", "A stored measurement is damaged. Measure again.") from error
    if kind == "camera":
        return CameraTrack.from_bytes(data)
    return PlaneTrack.from_bytes(data) if kind == "plane" else PointTracks.from_bytes(data)
