"""The registry of motions."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from plonket.motion.points import measure, settings
from plonket.registry import Entry, Registry

MOTIONS: Registry[Callable[..., Any]] = Registry("motion")
MOTIONS.add(
    Entry(
        kind="points",
        label="Point",
        help="Follows small high-contrast details. One gives shift, two give turn and size as well.",
        settings=settings.PointMotion,
        run=measure.measure_points,
    )
)
