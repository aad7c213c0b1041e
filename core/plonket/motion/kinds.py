"""The registries of motions, and of places in what they solve."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from plonket.motion.camera import measure as camera
from plonket.motion.camera.settings import CameraMotion
from plonket.motion.camera.spot import Spot
from plonket.motion.camera.thing import ObjectMotion, measure_object
from plonket.motion.camera.view import spot_path
from plonket.motion.form.measure import measure_form
from plonket.motion.form.settings import FormMotion
from plonket.motion.plane import measure as plane
from plonket.motion.plane.settings import PlaneMotion
from plonket.motion.points import measure as points
from plonket.motion.points.settings import PointMotion
from plonket.registry import Entry, Registry

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
