"""The registries of motions, and of places in what they solve."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from plonket.base.registry import Entry, Registry
from plonket.room.camera import spot_path
from plonket.room.spot import Spot
from plonket.track.camera import measure as camera
from plonket.track.camera.settings import CameraMotion
from plonket.track.form.measure import measure_form
from plonket.track.form.settings import FormMotion
from plonket.track.object.settings import ObjectMotion, measure_object
from plonket.track.plane import measure as plane
from plonket.track.plane.settings import PlaneMotion
from plonket.track.points import measure as points
from plonket.track.points.settings import PointMotion

PLACES: Registry[Callable[..., Any]] = Registry("place")
PLACES.add(
    Entry(kind="spot", label="Spot in the room", help="Where a perch stands in a solved room.", settings=Spot, run=spot_path)
)

MOTIONS: Registry[Callable[..., Any]] = Registry("motion")
MOTIONS.add(
    Entry(
        kind="points",
        label="Point",
        help="Follows small high-contrast details. One gives shift, two give turn and size as well.",
        settings=PointMotion,
        run=points.measure_points,
    )
)
MOTIONS.add(
    Entry(
        kind="plane",
        label="Plane",
        help="Follows a flat surface, whole, in perspective; what crosses it is left out.",
        settings=PlaneMotion,
        run=plane.measure_plane,
    )
)
MOTIONS.add(
    Entry(
        kind="camera",
        label="Camera",
        help="Solves the camera and the set in 3D from many details it finds by itself.",
        settings=CameraMotion,
        run=camera.measure_camera,
    )
)
MOTIONS.add(
    Entry(
        kind="object",
        label="Object",
        help="Solves a rigid thing that moves, from eight points or more that are followed on it.",
        settings=ObjectMotion,
        run=measure_object,
    )
)
MOTIONS.add(
    Entry(
        kind="form",
        label="Form",
        help="A box, cylinder, plane or model put in place by hand on a few frames, and followed by its surface.",
        settings=FormMotion,
        run=measure_form,
    )
)
