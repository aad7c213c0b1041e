"""Lift, gamma, gain and offset: shadows, middle tones, lights and all of it, each with a tint."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.base.colour import rgb_of
from plonket.base.conventions import F32, F64
from plonket.base.fields import Number, colour, number, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext, coded, coloured, lit, straight

NEUTRAL = "#808080"


class LiftGammaGain(LookBase):
    """Three tonal ranges, and all of it; a tint's distance from grey is how much it colours."""

    kind: Literal["lift"] = "lift"
    lift: Number = number(0.0, label="Lift", low=-100, high=100, step=0.5, unit="%", group="Shadows", soft=(-30, 30))
    lift_tint: str = colour(NEUTRAL, label="Tint", group="Shadows")
    gamma: Number = number(1.0, label="Gamma", low=0.1, high=8, step=0.01, group="Middle tones", soft=(0.4, 2.5))
    gamma_tint: str = colour(NEUTRAL, label="Tint", group="Middle tones")
    gain: Number = number(100.0, label="Gain", low=0, high=800, step=0.5, unit="%", group="Lights", soft=(40, 200))
    gain_tint: str = colour(NEUTRAL, label="Tint", group="Lights")
    offset: Number = number(0.0, label="Offset", low=-100, high=100, step=0.5, unit="%", group="All of it", soft=(-30, 30))
    offset_tint: str = colour(NEUTRAL, label="Tint", group="All of it")


def _tint(code: str) -> F64:
    """(3,) how far a tint is from its own grey, -1 to 1."""
    rgb = rgb_of(code) / 255
    return np.asarray(rgb - rgb.mean())


def run(rgba: F32, look: LiftGammaGain, context: LookContext) -> F32:
    """c' = (gain (c + lift (1 - c))) ^ (1 / gamma) + offset in display code c, for each channel with its tint."""
    f = context.frame
    lift = value_at(look.lift, f) / 100 + 0.5 * _tint(look.lift_tint)
    gain = value_at(look.gain, f) / 100 * (1 + _tint(look.gain_tint))
    gamma = np.maximum(value_at(look.gamma, f) * (1 + _tint(look.gamma_tint)), 0.05)
    code = coded(straight(rgba))
    offset = value_at(look.offset, f) / 100 + 0.5 * _tint(look.offset_tint)
    moved = np.maximum(np.maximum(gain * (code + lift * (1 - code)), 0) ** (1 / gamma) + offset, 0)
    return coloured(rgba, lit(moved.astype(np.float32)))


LOOKS.add(LookEntry(
    kind="lift", order=40, label="Lift, gamma, gain, offset", settings=LiftGammaGain, run=run,
    help="Shadows, middle tones, lights and all of it, each with a tint on a wheel.",
))  # fmt: skip
