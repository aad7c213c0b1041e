"""The registry of motions."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from plonket.motion.plane import measure as plane
from plonket.motion.plane.settings import PlaneMotion
from plonket.motion.points import measure as points
from plonket.motion.points.settings import PointMotion
from plonket.registry import Entry, Registry

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
