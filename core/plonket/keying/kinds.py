"""The registry of keys."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any

from pydantic import Field

from plonket.base.conventions import F32
from plonket.base.registry import Entry, Registry
from plonket.keying import brightness, colours, cutout, difference, screen
from plonket.keying.common import KeyContext

KEYS: Registry[Callable[[F32, Any, KeyContext], F32]] = Registry("key")
for _kind, _label, _help, _settings, _run in (
    ("screen", "Screen", "A subject before a green, blue or other cloth; folds, shadows, spill go with it.", screen.ScreenKey,
     screen.run),
    ("brightness", "Brightness", "Light on black, or what is brighter or darker than a threshold.", brightness.BrightnessKey,
     brightness.run),
    ("colours", "Colour range", "Whatever has one of the colours picked.", colours.ColourKey, colours.run),
    ("difference", "Difference", "What was not there on a clean plate.", difference.DifferenceKey, difference.run),
    ("cutout", "Cut-out", "A subject before anything, from a few strokes over it and beside it.", cutout.CutOutKey, cutout.run),
):  # fmt: skip
    KEYS.add(Entry(kind=_kind, label=_label, help=_help, settings=_settings, run=_run))

Key = Annotated[
    screen.ScreenKey | brightness.BrightnessKey | colours.ColourKey | difference.DifferenceKey | cutout.CutOutKey,
    Field(discriminator="kind"),
]
