"""Grain: fresh noise in every frame, as a sensor has it."""

from __future__ import annotations

from typing import Literal

import cv2
import numpy as np
from pydantic import Field

from plonket.base.conventions import F32
from plonket.base.fields import Number, number, plain, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.image.grain import GrainProfile, measured_noise, mixed_noise, strength_at
from plonket.looks.common import LookContext, coded, coloured, lit, straight


class Grain(LookBase):
    """Noise of a strength, softness and share of colour; or as it was measured on the plate."""

    kind: Literal["grain"] = "grain"
    profile: GrainProfile | None = Field(default=None, description="As measured; takes the place of strength and softness")
    share: Number = number(100.0, label="Of measured", low=0, high=400, step=1, unit="%", group="Grain", soft=(0, 200),
                           help="How much of the measured grain there is. Without a measured one it does nothing.")  # fmt: skip
    strength: Number = number(2.0, label="Strength", low=0, high=60, step=0.1, unit="codes", group="Grain", soft=(0, 12),
                              help="SD in 8-bit display codes, in the middle tones.")  # fmt: skip
    softness: Number = number(0.6, label="Softness", low=0, high=6, step=0.05, unit="px", group="Grain", soft=(0, 2))
    coloured: Number = number(35.0, label="Coloured", low=0, high=100, step=1, unit="%", group="Grain")
    highlights: Number = number(60.0, label="In the lights", low=0, high=200, step=1, unit="%", group="Grain",
                                help="How strong it is where the picture is bright.")  # fmt: skip
    seed: int = plain(1, label="Seed", low=0, high=9999, step=1, group="Grain", whole=True)


def run(rgba: F32, look: Grain, context: LookContext) -> F32:
    """The picture with grain. A frame always gets the same; two frames never do."""
    f = context.frame
    rng = np.random.default_rng([f, look.seed])
    code = coded(straight(rgba))
    if look.profile is not None:
        noise = measured_noise(rgba.shape[:2], look.profile, rng, context.scale)
        sd = strength_at(look.profile, code) * np.float32(value_at(look.share, f) / 100 / 255)
        return coloured(rgba, lit(np.maximum(code + noise * sd, 0)))
    mixed = np.sqrt(np.float32(np.clip(value_at(look.coloured, f) / 100, 0, 1)))
    noise = mixed_noise(rgba.shape[:2], mixed**2, rng)
    sigma = value_at(look.softness, f) * context.scale
    if sigma > 0.15:
        noise = cv2.GaussianBlur(noise, (0, 0), sigma)
        noise /= max(float(noise.std()), 1e-6)
    bright = np.clip(code.mean(axis=2, keepdims=True), 0, 1)
    shape = 1 + (value_at(look.highlights, f) / 100 - 1) * np.clip(bright * 2 - 1, 0, 1)
    strength = value_at(look.strength, f) / 255
    return coloured(rgba, lit(np.maximum(code + (noise * strength * shape).astype(np.float32), 0)))


LOOKS.add(LookEntry(
    kind="grain", order=190, label="Grain", settings=Grain, run=run,
    help="Fresh noise in every frame.",
))  # fmt: skip
