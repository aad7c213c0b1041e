"""A ring of sparks: thrown off a circle that spins."""

from __future__ import annotations

from typing import Literal

from plonket.base.conventions import F32
from plonket.base.fields import Number, choice, number
from plonket.document.kinds import GENERATORS, GeneratorEntry
from plonket.generators.common import GeneratorContext
from plonket.generators.particles import SHAPES, TALL, WIDE, ParticleModel, Shape, shining


class RingOfSparks(ParticleModel):
    """Sparks that leave a circle along its rim."""

    kind: Literal["ring"] = "ring"
    shape: Shape = choice("ring", label="Come from", group="Source", names=SHAPES)
    width: Number = number(240.0, label="Width", low=0, high=10000, step=1, unit="px", group="Source", soft=(0, 800),
                           when=WIDE)  # fmt: skip
    height: Number = number(240.0, label="Height", low=0, high=10000, step=1, unit="px", group="Source", soft=(0, 800),
                            when=TALL)  # fmt: skip
    rate: Number = number(60.0, label="How many", low=0, high=2000, step=0.5, unit="/fr", group="Source", soft=(0, 200))
    life: Number = number(22.0, label="Live for", low=1, high=600, step=1, unit="fr", group="Source", soft=(1, 150))
    speed: Number = number(1.2, label="Speed", low=-400, high=400, step=0.1, unit="px/fr", group="Way", soft=(-20, 20))
    spin: Number = number(9.0, label="Spin", low=-400, high=400, step=0.1, unit="px/fr", group="Way", soft=(-30, 30))
    spread: Number = number(24.0, label="Spread", low=0, high=360, step=1, unit="°", group="Way")
    pull: Number = number(0.12, label="Falls", low=-20, high=20, step=0.01, unit="px/fr²", group="Way", soft=(-1, 1))
    drag: Number = number(7.0, label="Slowed", low=0, high=100, step=0.5, unit="%/fr", group="Way", soft=(0, 30))


def run(settings: RingOfSparks, context: GeneratorContext) -> F32:
    """Light of the sparks alive in a frame."""
    return shining(settings, context)


GENERATORS.add(GeneratorEntry(
    kind="ring", order=10, label="Ring of sparks", settings=RingOfSparks, run=run,
    help="Sparks thrown off a spinning ring.",
))  # fmt: skip
