"""Glow: bright light shining over its surroundings."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.base.colour import LUMA, linear_of
from plonket.base.conventions import F32
from plonket.base.fields import Number, colour, number, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext, blurred, lighted


class Glow(LookBase):
    """Light above a threshold, spread wide and added."""

    kind: Literal["glow"] = "glow"
    threshold: Number = number(70.0, label="From", low=0, high=100, step=1, unit="%", group="Glow",
                               help="What is darker on screen than this does not glow.")  # fmt: skip
    radius: Number = number(14.0, label="Radius", low=1, high=300, step=0.5, unit="px", group="Glow", soft=(2, 80))
    strength: Number = number(50.0, label="Strength", low=0, high=1000, step=1, unit="%", group="Glow", soft=(0, 200))
    tint: str = colour("#ffffff", label="Colour", group="Glow")


def reach(look: Glow, frame: int) -> float:
    """How far it shines, in pixels of the clip."""
    return 8 * value_at(look.radius, frame)


def run(rgba: F32, look: Glow, context: LookContext) -> F32:
    """The picture with its glow added; a glow shines and hides nothing, so coverage stays."""
    level = (value_at(look.threshold, context.frame) / 100) ** 2.2
    light = rgba[..., :3]
    bright = (light @ LUMA)[..., None]
    over = light * np.clip((bright - level) / np.maximum(bright, 1e-4), 0, 1)
    sigma = max(value_at(look.radius, context.frame) * context.scale, 0.5)
    # Near and far together fall off as light in a lens does; the far ones are worked out reduced.
    total = sum(blurred(over, sigma * k) * np.float32(share) for k, share in ((1, 0.6), (2, 0.28), (4, 0.12)))
    tint = linear_of(look.tint).astype(np.float32)
    strength = np.float32(value_at(look.strength, context.frame) / 100)
    return lighted(light + strength * total * tint, rgba)


LOOKS.add(LookEntry(
    kind="glow", order=130, label="Glow", settings=Glow, run=run, reach=reach,
    help="Bright light shines over its surroundings.",
))  # fmt: skip
