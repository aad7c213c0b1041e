"""Animated noise: mist, water light, a texture to cut or bend other things with."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.base.conventions import F32
from plonket.base.fields import Number, choice, colour, number, plain, value_at
from plonket.base.noise import noise_field
from plonket.document.kinds import GENERATORS, GeneratorEntry
from plonket.generators.common import GeneratorContext, GeneratorModel, light_of


class NoiseTexture(GeneratorModel):
    """Noise between two colours, each with what it covers."""

    kind: Literal["texture"] = "texture"
    form: Literal["cloud", "ridge", "net"] = choice(
        "cloud", label="Form", group="Noise", names={"cloud": "Clouds", "ridge": "Wisps", "net": "Net of light"})  # fmt: skip
    lump: Number = number(180.0, label="Size", low=2, high=10000, step=1, unit="px", group="Noise", soft=(10, 800))
    finer: int = plain(4, label="Detail", low=1, high=8, step=1, group="Noise", whole=True)
    contrast: Number = number(120.0, label="Contrast", low=0, high=1000, step=1, unit="%", group="Noise", soft=(0, 400))
    middle: Number = number(0.0, label="Middle", low=-100, high=100, step=1, unit="%", group="Noise")
    changes: Number = number(50.0, label="Changes in", low=1, high=10000, step=1, unit="fr", group="Noise", soft=(5, 200))
    drift: Number = number(0.6, label="Drifts", low=-400, high=400, step=0.1, unit="px/fr", group="Noise", soft=(-10, 10))
    direction: Number = number(0.0, label="Towards", low=-360, high=360, step=1, unit="°", group="Noise", soft=(-180, 180))
    dark: str = colour("#8fa0b4", label="Low", group="Noise")
    dark_cover: Number = number(0.0, label="Covers", low=0, high=100, step=1, unit="%", group="Noise")
    light: str = colour("#dfe6ee", label="High", group="Noise")
    light_cover: Number = number(55.0, label="Covers", low=0, high=100, step=1, unit="%", group="Noise")


def run(settings: NoiseTexture, context: GeneratorContext) -> F32:
    """The noise over the whole picture, on a surface that lies where the element does."""
    f = context.frame
    noise = np.empty((context.size[1], context.size[0]), np.float32)
    angle = np.radians(value_at(settings.direction, f))
    drift = value_at(settings.drift, f) * f * np.array([np.cos(angle), np.sin(angle)])
    noise_field(noise, np.linalg.inv(context.place(f)), max(value_at(settings.lump, f), 1.0), drift,
                f / max(value_at(settings.changes, f), 1.0), settings.finer, settings.seed * 11 + 7)  # fmt: skip
    if settings.form == "ridge":
        noise = np.asarray(0.35 - 1.4 * np.abs(noise), np.float32)
    elif settings.form == "net":
        noise = np.asarray(0.9 * np.exp(-22 * np.abs(noise)) - 0.45, np.float32)
    t = np.clip(0.5 + noise * 1.6 * value_at(settings.contrast, f) / 100 + value_at(settings.middle, f) / 100, 0, 1)[..., None]
    ends = [
        np.append(light_of(code) * share, share).astype(np.float32)
        for code, share in ((settings.dark, value_at(settings.dark_cover, f) / 100),
                            (settings.light, value_at(settings.light_cover, f) / 100))
    ]  # fmt: skip
    return np.asarray(ends[0] + (ends[1] - ends[0]) * t, np.float32)


GENERATORS.add(GeneratorEntry(
    kind="texture", order=80, label="Animated noise", settings=NoiseTexture, run=run,
    help="Mist, wisps or a net of light that changes.",
))  # fmt: skip
