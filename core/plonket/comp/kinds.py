"""The registry of layer kinds."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from plonket.comp.picture import Picture
from plonket.layers import still
from plonket.registry import Entry, Registry

LAYERS: Registry[Callable[[Any, Any, int, tuple[int, int], float], Picture]] = Registry("layer")
LAYERS.add(
    Entry(
        kind="still",
        label="Still",
        help="A picture with transparency that stays where you put it, or follows a motion.",
        settings=still.StillLayer,
        run=still.draw,
    )
)
