"""A point motion of what a file says was followed."""

from __future__ import annotations

import numpy as np

from plonket.base.errors import FormatError
from plonket.formats.registry import Coming
from plonket.track.points.settings import Given, PointMotion, TrackPoint
from plonket.track.points.tracks import PointTracks


def motion_of(tracks: PointTracks, coming: Coming) -> PointMotion:
    """A motion with a point for each track, put where it is first known. Raises `FormatError`."""
    points = []
    for k, point_id in enumerate(tracks.ids):
        known = np.nonzero(tracks.known(k))[0]
        if len(known) == 0:
            raise FormatError("points.unknown", f"{tracks.names[k]} has no frame on which it is not lost.")
        first = int(known[0])
        x, y = tracks.xy[k, first].tolist()
        points.append(TrackPoint(id=point_id, name=tracks.names[k], given=[Given(frame=first, x=x, y=y)]))
    return PointMotion(id=coming.motion_id, name=coming.name, points=points)
