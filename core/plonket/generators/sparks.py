"""Rising sparks, as over a fire."""

from __future__ import annotations

from typing import Literal

from plonket.base.conventions import F32
from plonket.base.fields import Number, choice, number
from plonket.document.kinds import GENERATORS, GeneratorEntry
from plonket.generators.common import GeneratorContext
from plonket.generators.particles import SHAPES, ParticleModel, Shape, shining


class RisingSparks(ParticleModel):
    """Glowing motes that warm air carries up."""

    kind: Literal["sparks"] = "sparks"
    shape: Shape = choice("line", label="Come from", group="Source", names=SHAPES)
    rate: Number = number(4.0, label="How many", low=0, high=2000, step=0.5, unit="/fr", group="Source", soft=(0, 60))
    life: Number = number(60.0, label="Live for", low=1, high=600, step=1, unit="fr", group="Source", soft=(1, 150))
    speed: Number = number(6.0, label="Speed", low=-400, high=400, step=0.1, unit="px/fr", group="Way", soft=(-20, 20))
    pull: Number = number(-0.10, label="Falls", low=-20, high=20, step=0.01, unit="px/fr²", group="Way", soft=(-1, 1))
    drag: Number = number(3.0, label="Slowed", low=0, high=100, step=0.5, unit="%/fr", group="Way", soft=(0, 30))
    turbulence: Number = number(34.0, label="Turbulence", low=0, high=1000, step=0.5, unit="px", group="Way", soft=(0, 80))
    radius: Number = number(2.0, label="Size", low=0.1, high=400, step=0.1, unit="px", group="Look", soft=(0.2, 12))
    twinkle: Number = number(60.0, label="Twinkle", low=0, high=100, step=1, unit="%", group="Look")


def run(settings: RisingSparks, context: GeneratorContext) -> F32:
    """Light of the sparks alive in a frame."""
    return shining(settings, context)


GENERATORS.add(GeneratorEntry(
    kind="sparks", order=20, label="Rising sparks", settings=RisingSparks, run=run, preview=(320.0, 300.0),
    help="Glowing motes that warm air carries up.",
))  # fmt: skip
