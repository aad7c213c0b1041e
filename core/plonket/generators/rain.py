"""Rain: drops at several distances, drawn out by the shutter."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.base.conventions import F32
from plonket.base.fields import Number, colour, number, value_at
from plonket.document.kinds import GENERATORS, GeneratorEntry
from plonket.generators.common import GeneratorContext, GeneratorModel, clear, light_of
from plonket.generators.particles import through
from plonket.generators.soft_marks import draw_streaks


class Rain(GeneratorModel):
    """Falling drops over the whole picture, near ones large and soft, far ones small and many."""

    kind: Literal["rain"] = "rain"
    drops: Number = number(1400.0, label="Drops", low=0, high=20000, step=10, group="Rain", soft=(0, 4000))
    speed: Number = number(38.0, label="Speed", low=0, high=400, step=0.5, unit="px/fr", group="Rain", soft=(2, 90),
                           help="Of a drop in the middle distance.")  # fmt: skip
    slant: Number = number(6.0, label="Slant", low=-80, high=80, step=0.5, unit="°", group="Rain")
    length: Number = number(180.0, label="Streaks", low=0, high=1440, step=5, unit="°", group="Rain", soft=(0, 720),
                            help="Shutter angle along which a drop is drawn out.")  # fmt: skip
    radius: Number = number(1.0, label="Size", low=0.1, high=40, step=0.1, unit="px", group="Rain", soft=(0.2, 5))
    depth: Number = number(60.0, label="Depth", low=0, high=100, step=1, unit="%", group="Rain",
                           help="How much near and far drops differ.")  # fmt: skip
    colour: str = colour("#c9d4e0", label="Colour", group="Rain")
    bright: Number = number(110.0, label="Brightness", low=0, high=2000, step=1, unit="%", group="Rain", soft=(0, 200))


def run(settings: Rain, context: GeneratorContext) -> F32:
    """Light of the drops in a frame: each falls for ever, and begins again above when it has left below."""
    f = context.frame
    out = clear(context.size)
    count = int(np.clip(value_at(settings.drops, f), 0, 20000))
    if count < 1:
        return out
    rng = np.random.default_rng([settings.seed, 411])
    u = rng.uniform(0, 1, (4, 20000))[:, :count]
    w, h = context.clip
    # Distance from 1 (near) to 3 and more (far); most are far.
    away = 1 + value_at(settings.depth, f) / 100 * 2.4 * np.sqrt(u[2])
    middle = 1 + value_at(settings.depth, f) / 100 * 1.4
    fall = value_at(settings.speed, f) * middle / away
    lean = np.tan(np.radians(value_at(settings.slant, f)))
    room = h + 300.0
    total = u[0] * room * 7 + fall * f
    y = total % room - 150
    # Each time round a drop comes down somewhere else.
    lap = np.floor(total / room)
    x = ((u[1] + 0.61803 * lap) % 1.0) * (w + 600) - 300 - lean * y
    step = fall * max(value_at(settings.length, f), 0) / 360
    end = np.stack([x, y], axis=1)
    start = np.stack([x + lean * step, y - step], axis=1)
    matrix = context.place(f)
    # About its place: the whole clip lies round it.
    at = [through(p - [w / 2, h / 2], matrix) for p in (start, end)]
    radius = value_at(settings.radius, f) * middle / away * context.zoom(matrix)
    light = light_of(settings.colour, value_at(settings.bright, f) / 100)[None] * (0.5 + u[3][:, None] / 2)
    # A drawn-out drop is fainter all along, but less than its length would make it: it is bright against what is behind.
    longer = np.sqrt(1 + np.hypot(*(end - start).T) / 8)[:, None]
    draw_streaks(out, at[0], at[1], radius, np.asarray(light * longer, np.float32))
    return out


GENERATORS.add(GeneratorEntry(
    kind="rain", order=40, label="Rain", settings=Rain, run=run,
    help="Drops at several distances.",
))  # fmt: skip
