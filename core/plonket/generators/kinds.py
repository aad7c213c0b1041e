"""The registry of generated elements."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any

from pydantic import Field

from plonket.base.conventions import F32
from plonket.base.registry import Entry, Registry
from plonket.generators import cone, dust, flare, rain, ring, smoke, sparks, texture
from plonket.generators.common import GeneratorContext

GENERATORS: Registry[Callable[[Any, GeneratorContext], F32]] = Registry("generated element")
for _kind, _label, _help, _settings, _run in (
    ("ring", "Ring of sparks", "Sparks thrown off a spinning ring.", ring.RingOfSparks, ring.run),
    ("sparks", "Rising sparks", "Glowing motes that warm air carries up.", sparks.RisingSparks, sparks.run),
    ("smoke", "Smoke", "Soft puffs that rise and spread; thin it for haze.", smoke.Smoke, smoke.run),
    ("rain", "Rain", "Drops at several distances.", rain.Rain, rain.run),
    ("dust", "Dust in light", "Motes that drift and catch the light.", dust.Dust, dust.run),
    ("flare", "Flare", "A bright light's glow, star, streak and ghosts.", flare.Flare, flare.run),
    ("cone", "Light beam", "A cone of light in hazy air.", cone.LightCone, cone.run),
    ("texture", "Animated noise", "Mist, wisps or a net of light that changes.", texture.NoiseTexture, texture.run),
):
    GENERATORS.add(Entry(kind=_kind, label=_label, help=_help, settings=_settings, run=_run))

Generator = Annotated[
    ring.RingOfSparks | sparks.RisingSparks | smoke.Smoke | rain.Rain | dust.Dust | flare.Flare | cone.LightCone
    | texture.NoiseTexture,
    Field(discriminator="kind"),
]  # fmt: skip
