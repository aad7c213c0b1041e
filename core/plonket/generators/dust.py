"""Dust in light: motes that drift and catch it for a while."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.base.conventions import F32
from plonket.base.fields import Number, colour, number, value_at
from plonket.base.noise import noise_at
from plonket.document.kinds import GENERATORS, GeneratorEntry
from plonket.generators.common import GeneratorContext, GeneratorModel, clear, light_of
from plonket.generators.particles import through
from plonket.generators.soft_marks import draw_streaks


class Dust(GeneratorModel):
    """Motes in an area; those that are near or far are soft."""

    kind: Literal["dust"] = "dust"
    motes: Number = number(240.0, label="Motes", low=0, high=8000, step=5, group="Dust", soft=(0, 800))
    width: Number = number(900.0, label="Width", low=1, high=20000, step=5, unit="px", group="Dust", soft=(50, 2000))
    height: Number = number(600.0, label="Height", low=1, high=20000, step=5, unit="px", group="Dust", soft=(50, 2000))
    drift: Number = number(0.5, label="Drifts", low=0, high=60, step=0.05, unit="px/fr", group="Dust", soft=(0, 5))
    direction: Number = number(70.0, label="Towards", low=-360, high=360, step=1, unit="°", group="Dust", soft=(-180, 180))
    sway: Number = number(24.0, label="Sway", low=0, high=600, step=1, unit="px", group="Dust", soft=(0, 120))
    radius: Number = number(1.5, label="Size", low=0.1, high=60, step=0.1, unit="px", group="Dust", soft=(0.3, 6))
    soft: Number = number(60.0, label="Out of focus", low=0, high=100, step=1, unit="%", group="Dust")
    colour: str = colour("#ffe9c4", label="Colour", group="Dust")
    bright: Number = number(220.0, label="Brightness", low=0, high=2000, step=1, unit="%", group="Dust", soft=(0, 300))
    twinkle: Number = number(70.0, label="Twinkle", low=0, high=100, step=1, unit="%", group="Dust")


def run(settings: Dust, context: GeneratorContext) -> F32:
    """Light of the motes in a frame."""
    f = context.frame
    out = clear(context.size)
    count = int(np.clip(value_at(settings.motes, f), 0, 8000))
    if count < 1:
        return out
    u = np.random.default_rng([settings.seed, 733]).uniform(0, 1, (6, 8000))[:, :count]
    w, h = value_at(settings.width, f), value_at(settings.height, f)
    away = u[2] * 2 - 1
    angle = np.radians(value_at(settings.direction, f))
    goes = value_at(settings.drift, f) * f * (0.5 + u[3])
    sway = value_at(settings.sway, f)
    own = np.stack([np.full(count, 0.0), u[4] * 97], axis=1)
    x = (u[0] * w + np.cos(angle) * goes + sway * 1.6 * noise_at(own, f / (34 + 40 * u[5]), 2, settings.seed)) % w - w / 2
    y = (u[1] * h + np.sin(angle) * goes + sway * 1.6 * noise_at(own + 31, f / (34 + 40 * u[5]), 2, settings.seed)) % h - h / 2
    # Towards its rims the area thins out, so that nothing pops in.
    edge = np.clip(np.minimum(w / 2 - np.abs(x), h / 2 - np.abs(y)) / (0.12 * min(w, h)), 0, 1)
    turn = 0.5 + 0.5 * np.sin(2 * np.pi * (f / (20 + 60 * u[3]) + u[5]))
    shows = edge * (1 - value_at(settings.twinkle, f) / 100 * turn)
    matrix = context.place(f)
    at = through(np.stack([x, y], axis=1), matrix)
    spread = 1 + 7 * value_at(settings.soft, f) / 100 * away**2
    radius = value_at(settings.radius, f) * (0.6 + 0.8 * u[4]) * spread * context.zoom(matrix)
    light = light_of(settings.colour, value_at(settings.bright, f) / 100)[None] * (shows / spread**1.2)[:, None]
    draw_streaks(out, at, at, radius, np.asarray(light, np.float32))
    return out


GENERATORS.add(GeneratorEntry(
    kind="dust", order=50, label="Dust in light", settings=Dust, run=run,
    help="Motes that drift and catch the light.",
))  # fmt: skip
