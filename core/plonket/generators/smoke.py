"""Smoke and haze: soft puffs that one sees through, the more of them the less."""

from __future__ import annotations

from typing import Literal

import cv2
import numpy as np

from plonket.base.conventions import F32, F64
from plonket.base.fields import Number, choice, colour, number, switch, value_at
from plonket.base.noise import noise_field
from plonket.document.kinds import GENERATORS, GeneratorEntry
from plonket.generators.common import GeneratorContext, clear, light_of
from plonket.generators.particles import ROOMY, SHAPES, ParticleModel, Shape, alive
from plonket.generators.soft_marks import draw_puffs

THROWN = 0.6
"""What smoke throws back of light from one side, of what a white surface does that faces it: it goes to all sides."""
STEP = 10.0
"""Pixels of its own by which it is seen where light comes from."""


class Smoke(ParticleModel):
    """Rising puffs, torn by noise that rises with them."""

    kind: Literal["smoke"] = "smoke"
    shape: Shape = choice("spot", label="Come from", group="Source", names=SHAPES)
    rate: Number = number(1.5, label="How many", low=0, high=200, step=0.1, unit="/fr", group="Source", soft=(0, 10))
    life: Number = number(110.0, label="Live for", low=1, high=600, step=1, unit="fr", group="Source", soft=(1, 300))
    speed: Number = number(2.6, label="Speed", low=-400, high=400, step=0.1, unit="px/fr", group="Way", soft=(-20, 20))
    pull: Number = number(-0.01, label="Falls", low=-20, high=20, step=0.01, unit="px/fr²", group="Way", soft=(-1, 1))
    drag: Number = number(1.5, label="Slowed", low=0, high=100, step=0.5, unit="%/fr", group="Way", soft=(0, 30))
    turbulence: Number = number(40.0, label="Turbulence", low=0, high=1000, step=0.5, unit="px", group="Way", soft=(0, 80))
    lump: Number = number(220.0, label="Its size", low=4, high=4000, step=1, unit="px", group="Way", soft=(10, 500))
    radius: Number = number(22.0, label="Size", low=0.1, high=1000, step=0.5, unit="px", group="Look", soft=(1, 120))
    radius_end: Number = number(420.0, label="Size at its end", low=0, high=4000, step=5, unit="%", group="Look", soft=(0, 800))
    first: str = colour("#d9d6d0", label="Lit side", group="Look")
    last: str = colour("#5d6069", label="Dark side", group="Look")
    bright: Number = number(100.0, label="Brightness", low=0, high=2000, step=5, unit="%", group="Look", soft=(0, 200))
    density: Number = number(16.0, label="Density", low=0, high=1000, step=1, unit="%", group="Look", soft=(0, 150))
    lit: bool = switch(False, label="Lit by the room", group="Look", when=ROOMY,
                       help="As the room's first model is, by its sun and sky, and by the room's lamps; its dark side too.")
    torn: Number = number(70.0, label="Torn", low=0, high=100, step=1, unit="%", group="Look")


def run(settings: Smoke, context: GeneratorContext) -> F32:
    """Smoke as one sees it: what covers is 1 - e^(-depth), so the order of the puffs does not matter."""
    f = context.frame
    out = clear(context.size)
    p = alive(settings, context)
    if not len(p.at):
        return out
    # Smoke has no fine detail: half the size each way is enough, and four times as quick.
    small = (max(context.size[0] // 2, 1), max(context.size[1] // 2, 1))
    down = np.array([small[0] / context.size[0], small[1] / context.size[1]])
    depth = np.zeros((small[1], small[0]), np.float32)
    fades = np.clip(p.part * 6, 0, 1) * (1 - np.clip(p.part, 0, 1)) ** 1.4
    thick = value_at(settings.density, f) / 100
    hidden = np.zeros((0, 0), np.float32)
    away = round_ = np.zeros(0)
    if p.away is not None and p.round is not None and p.hidden is not None:
        hidden = np.asarray(cv2.resize(p.hidden, small, interpolation=cv2.INTER_NEAREST), np.float32)
        away, round_ = p.away, np.maximum(p.round * 1.8, 1e-6)
    draw_puffs(depth, p.at * down, p.radius * down[0] * 1.8, fades * p.share * thick, away, round_, hidden)
    place = context.place(f)
    back = np.linalg.inv(np.diag([down[0], down[1], 1.0]) @ place)
    torn = value_at(settings.torn, f) / 100
    if torn > 0:
        noise = np.empty_like(depth)
        angle = np.radians(value_at(settings.direction, f))
        goes = value_at(settings.speed, f) * 0.7 * f * np.array([np.cos(angle), np.sin(angle)])
        noise_field(noise, back, max(value_at(settings.lump, f) * 0.45, 2.0), goes, f / 55, 4, settings.seed * 13 + 5)
        depth *= np.clip(1 + torn * (4.2 * noise - 0.45), 0, 4)
    zoom = context.zoom(place) * down[0]
    light, dark = light_of(settings.first), light_of(settings.last)
    towards = np.array([0.0, -1.0])
    shone = _room_light(context) if settings.lit else None
    if shone is not None:
        # Its own colour is what it throws back of the light there.
        towards, direct, sky = shone
        light, dark = light * (direct + sky), light * sky
    # What is thick between a spot and the light keeps that from it, and some comes through all the same.
    before = cv2.GaussianBlur(depth, (0, 0), max(9.0 * zoom, 0.8))
    shift = -towards * max(16 * zoom, 1.0)
    before = cv2.warpAffine(before, np.array([[1.0, 0, shift[0]], [0, 1.0, shift[1]]]), small, flags=cv2.INTER_LINEAR)
    lit = (0.25 + 0.75 * np.exp(-1.1 * before) + 0.15 * np.clip(depth - before, -1, 1))[..., None]
    colours = (dark + (light - dark) * np.clip(lit, 0, 1.2)) * np.float32(value_at(settings.bright, f) / 100)
    alpha = (1 - np.exp(-depth))[..., None]
    return np.asarray(cv2.resize(np.concatenate([colours * alpha, alpha], axis=2).astype(np.float32), context.size,
                                 interpolation=cv2.INTER_LINEAR), np.float32)  # fmt: skip


def _room_light(context: GeneratorContext) -> tuple[F64, F32, F32] | None:
    """Where to in the picture (2,) the light of the room comes from, less than 1 long where it comes from ahead or behind; what
    of it comes from there, and from all sides, linear (3,)."""
    if context.space is None:
        return None
    axes = context.space.axes(context.frame)
    middle = axes[:3, 3]
    told = context.space.light(middle)
    if told is None:
        return None
    strong = told.lights.sum(axis=1)
    way = (strong[:, None] * told.ways).sum(axis=0) / max(float(strong.sum()), 1e-9)
    step = max(float(np.linalg.norm(axes[:3, 0])), 1e-9) * STEP
    seen, away = context.space.project(context.frame, np.stack([middle, middle + step * way]))
    metre = context.space.focal / max(float(away[0]), 1e-9)
    towards = np.nan_to_num(seen[1] - seen[0]) / max(step * metre, 1e-9)
    return towards, np.asarray(THROWN * told.lights.sum(axis=0), np.float32), np.asarray(told.sky, np.float32)


GENERATORS.add(GeneratorEntry(
    kind="smoke", order=30, label="Smoke", settings=Smoke, run=run, preview=(320.0, 320.0),
    help="Soft puffs that rise and spread; thin it for haze.",
))  # fmt: skip
