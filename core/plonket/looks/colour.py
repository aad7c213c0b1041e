"""Colour: exposure, warmth, tint, saturation and contrast, in light."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.conventions import F32
from plonket.fields import Number, number, value_at
from plonket.key.common import LUMA
from plonket.looks.common import LookContext, LookModel, coloured, straight

GREY = 0.18
"""Middle grey: what contrast turns about."""


class Colour(LookModel):
    """Brighter or darker, warmer or cooler, stronger or paler."""

    kind: Literal["colour"] = "colour"
    exposure: Number = number(0.0, label="Exposure", low=-10, high=10, step=0.05, unit="stops", group="Colour", soft=(-3, 3))
    contrast: Number = number(0.0, label="Contrast", low=-100, high=200, step=1, unit="%", group="Colour", soft=(-50, 50))
    warm: Number = number(0.0, label="Warmer", low=-100, high=100, step=1, unit="%", group="Colour")
    tint: Number = number(0.0, label="Greener", low=-100, high=100, step=1, unit="%", group="Colour")
    saturation: Number = number(100.0, label="Saturation", low=0, high=400, step=1, unit="%", group="Colour", soft=(0, 200))


def run(rgba: F32, look: Colour, context: LookContext) -> F32:
    """The picture with these changes made to its linear light; warmth and tint leave the brightness of grey alone."""
    f = context.frame
    light = straight(rgba) * np.float32(2 ** value_at(look.exposure, f))
    warm, tint = value_at(look.warm, f) / 100, value_at(look.tint, f) / 100
    gains = np.array([np.exp(0.5 * warm), np.exp(0.35 * tint), np.exp(-0.5 * warm)])
    gains /= float(gains @ LUMA)
    light = light * gains.astype(np.float32)
    slope = 1 + value_at(look.contrast, f) / 100
    if slope != 1:
        light = GREY * np.power(np.maximum(light, 0) / GREY, max(slope, 0.0))
    grey = (light @ LUMA)[..., None]
    return coloured(rgba, grey + (light - grey) * np.float32(value_at(look.saturation, f) / 100))
