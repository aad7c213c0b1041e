"""The registry of looks."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any

from pydantic import Field

from plonket.base.conventions import F32
from plonket.base.registry import Entry, Registry
from plonket.looks import (
    blur,
    colour,
    colour_range,
    cube,
    curves,
    glow,
    grain,
    haze,
    levels,
    lift,
    moved,
    projection,
    rays,
    ripple,
    shadow,
    sharpen,
    streaks,
    white,
    wrap,
)  # fmt: skip
from plonket.looks.common import LookContext

LOOKS: Registry[Callable[[F32, Any, LookContext], F32]] = Registry("look")
for _kind, _label, _help, _settings, _run in (
    ("colour", "Colour", "Exposure, contrast, warmth and saturation.", colour.Colour, colour.run),
    ("levels", "Levels", "What is black, middle and white.", levels.Levels, levels.run),
    ("curves", "Curves", "Tones moved by curves drawn by hand.", curves.Curves, curves.run),
    ("lift", "Lift, gamma, gain", "Shadows, middle tones and lights, each with a tint.", lift.LiftGammaGain, lift.run),
    ("white", "White balance", "Takes a colour cast off.", white.WhiteBalance, white.run),
    ("range", "Colour range", "Changes one range of colours only.", colour_range.ColourRange, colour_range.run),
    ("cube", "Colour table", "Colours through a .cube table.", cube.ColourTable, cube.run),
    ("blur", "Blur", "Soft, as a lens out of focus, or as a movement.", blur.Blur, blur.run),
    ("rays", "Rays", "Light or blur drawn out from a point.", rays.Rays, rays.run),
    ("haze", "Distance", "Haze or blur that grows from spot to spot.", haze.Haze, haze.run),
    ("moved", "Motion blur", "Draws out what moves, found from the frames beside.", moved.Moved, moved.run),
    ("sharpen", "Sharpen", "Fine detail made stronger.", sharpen.Sharpen, sharpen.run),
    ("glow", "Glow", "Bright light shines over its surroundings.", glow.Glow, glow.run),
    ("streaks", "Streaks", "Bright light drawn out into a star.", streaks.Streaks, streaks.run),
    ("ripple", "Ripple", "Bent as by hot air, water or old glass.", ripple.Ripple, ripple.run),
    ("projection", "Projection", "Scan lines, a roll bar and a ghost's tint.", projection.Projection, projection.run),
    ("shadow", "Drop shadow", "Its own shadow on the ground or a wall.", shadow.Shadow, shadow.run),
    ("wrap", "Light wrap", "What lies behind shines round the edges.", wrap.Wrap, wrap.run),
    ("grain", "Grain", "Fresh noise in every frame.", grain.Grain, grain.run),
):
    LOOKS.add(Entry(kind=_kind, label=_label, help=_help, settings=_settings, run=_run))

REACH: dict[str, Callable[[Any, int], float]] = {
    "blur": blur.reach, "glow": glow.reach, "rays": rays.reach, "haze": haze.reach, "moved": moved.reach,
    "streaks": streaks.reach, "ripple": ripple.reach, "shadow": shadow.reach,
}  # fmt: skip
"""How far beyond the picture's edge a look spreads, in pixels of the clip, for those that do."""

Look = Annotated[
    colour.Colour | levels.Levels | curves.Curves | lift.LiftGammaGain | white.WhiteBalance | colour_range.ColourRange
    | cube.ColourTable | blur.Blur | rays.Rays | haze.Haze | moved.Moved | sharpen.Sharpen | glow.Glow | streaks.Streaks
    | ripple.Ripple | projection.Projection | shadow.Shadow | wrap.Wrap | grain.Grain,
    Field(discriminator="kind"),
]  # fmt: skip
