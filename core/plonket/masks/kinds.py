"""The registry of mask kinds."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any

from pydantic import Field

from plonket.base.conventions import F32, F64
from plonket.base.registry import Entry, Registry
from plonket.masks import graded, outlined

MASKS: Registry[Callable[[Any, float, tuple[int, int], F64], F32]] = Registry("mask")
MASKS.add(
    Entry(
        kind="outline",
        label="Outline",
        help="What lies inside a closed curve, with a feather of its own at every point.",
        settings=outlined.OutlineMask,
        run=outlined.cover,
    )
)
MASKS.add(
    Entry(
        kind="graded",
        label="Graded",
        help="Fades from one line to another.",
        settings=graded.GradedMask,
        run=graded.cover,
    )
)

Mask = Annotated[outlined.OutlineMask | graded.GradedMask, Field(discriminator="kind")]
