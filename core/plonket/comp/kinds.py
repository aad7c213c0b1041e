"""The registry of layer kinds."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from plonket.comp.picture import Picture
from plonket.conventions import F64
from plonket.layers import beam, pin, still
from plonket.registry import Entry, Registry

LAYERS: Registry[Callable[[Any, Any, int, tuple[int, int], F64], Picture]] = Registry("layer")
LAYERS.add(
    Entry(
        kind="still",
        label="Placed",
        help="A picture or clip that stays where you put it, or follows a motion.",
        settings=still.StillLayer,
        run=still.draw,
    )
)
LAYERS.add(
    Entry(
        kind="pin",
        label="Pinned",
        help="A picture or clip pinned by its corners to a surface.",
        settings=pin.PinLayer,
        run=pin.draw,
    )
)
LAYERS.add(
    Entry(
        kind="beam",
        label="Beam",
        help="A line or curve between points or perches, with things hung on it.",
        settings=beam.BeamLayer,
        run=beam.draw,
    )
)
