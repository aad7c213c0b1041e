"""The registry of looks."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any

from pydantic import Field

from plonket.conventions import F32
from plonket.looks import blur, colour, glow, grain, levels, sharpen, wrap
from plonket.looks.common import LookContext
from plonket.registry import Entry, Registry

LOOKS: Registry[Callable[[F32, Any, LookContext], F32]] = Registry("look")
for _kind, _label, _help, _settings, _run in (
    ("colour", "Colour", "Exposure, contrast, warmth and saturation.", colour.Colour, colour.run),
    ("levels", "Levels", "What is black, middle and white.", levels.Levels, levels.run),
    ("blur", "Blur", "Soft, as a lens out of focus, or as a movement.", blur.Blur, blur.run),
    ("sharpen", "Sharpen", "Fine detail made stronger.", sharpen.Sharpen, sharpen.run),
    ("glow", "Glow", "Bright light shines over its surroundings.", glow.Glow, glow.run),
    ("grain", "Grain", "Fresh noise in every frame.", grain.Grain, grain.run),
    ("wrap", "Light wrap", "What lies behind shines round the edges.", wrap.Wrap, wrap.run),
):
    LOOKS.add(Entry(kind=_kind, label=_label, help=_help, settings=_settings, run=_run))

REACH: dict[str, Callable[[Any, int], float]] = {"blur": blur.reach, "glow": glow.reach}
"""How far beyond the picture's edge a look spreads, in pixels of the clip, for those that do."""

Look = Annotated[
    colour.Colour | levels.Levels | blur.Blur | sharpen.Sharpen | glow.Glow | grain.Grain | wrap.Wrap,
    Field(discriminator="kind"),
]
