"""The registry of keys."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any

from pydantic import Field

from plonket.conventions import F32
from plonket.key import brightness, colours, cutout, difference, screen
from plonket.key.common import KeyContext
from plonket.registry import Entry, Registry

KEYS: Registry[Callable[[F32, Any, KeyContext], F32]] = Registry("key")
KEYS.add(
    Entry(
        kind="screen",
        label="Screen",
        help="A subject before a green, blue or other cloth; folds, shadows and spill go with it.",
        settings=screen.ScreenKey,
        run=screen.run,
    )
)
KEYS.add(
    Entry(
        kind="brightness",
        label="Brightness",
        help="Light on black, or what is brighter or darker than a threshold.",
        settings=brightness.BrightnessKey,
        run=brightness.run,
    )
)
KEYS.add(
    Entry(
        kind="colours",
        label="Colour range",
        help="Whatever has one of the colours picked.",
        settings=colours.ColourKey,
        run=colours.run,
    )
)
KEYS.add(
    Entry(
        kind="difference",
        label="Difference",
        help="What was not there on a clean plate.",
        settings=difference.DifferenceKey,
        run=difference.run,
    )
)
KEYS.add(
    Entry(
        kind="cutout",
        label="Cut-out",
        help="A subject before anything, from a few strokes over it and beside it.",
        settings=cutout.CutOutKey,
        run=cutout.run,
    )
)

Key = Annotated[
    screen.ScreenKey | brightness.BrightnessKey | colours.ColourKey | difference.DifferenceKey | cutout.CutOutKey,
    Field(discriminator="kind"),
]
