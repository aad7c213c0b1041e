"""The colour-range key: what has a colour, whatever its brightness."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import Field

from plonket.base.colour import LUMA, encode, linear_of
from plonket.base.conventions import F32
from plonket.base.fields import Number, number, switch
from plonket.document.kinds import KEYS, KeyEntry
from plonket.keying.cloth import shares_of
from plonket.keying.common import Colour, KeyContext, cut_out, held, ramp
from plonket.keying.shape import UnmixedKey, unmixed


class ColourKey(UnmixedKey):
    """What looks like its samples is gone; or, inverted, all that is kept."""

    kind: Literal["colours"] = "colours"
    colours: list[Colour] = Field(default_factory=list, max_length=24)
    reach: Number = number(12, label="Reach", low=0.5, high=100, step=0.5, unit="%", group="Colours",
                         help="How far from a sample's colour it reaches.")  # fmt: skip
    soft: Number = number(10, label="Softness", low=0, high=100, step=0.5, unit="%", group="Colours")
    brightness: Number = number(40, label="Brightness", low=1, high=100, step=1, unit="%", group="Colours",
                              help="How far its brightness may be from the sample's; 100 does not look at it.")  # fmt: skip
    inverted: bool = switch(False, label="Keep these", group="Colours", help="Keep what looks like the samples.")


def run(light: F32, settings: ColourKey, context: KeyContext) -> F32:
    """The keyed frame, linear, premultiplied (h, w, 4)."""
    if not settings.colours:
        return cut_out(light, np.ones(light.shape[:2], np.float32))
    shares, seen = shares_of(light), np.asarray(encode(np.clip(light @ LUMA, 0, 1)), np.float32)
    reach, soft, brightness = held(settings.reach), held(settings.soft), held(settings.brightness)
    distance = np.full(seen.shape, 1e3, np.float32)
    for code in settings.colours:
        sample = linear_of(code)
        own = shares_of(np.asarray(sample, np.float32))
        level = float(encode(np.clip(sample @ LUMA, 0, 1)))
        apart = np.linalg.norm(shares - own, axis=2)
        if brightness < 100:
            apart = np.maximum(apart, np.abs(seen - level) * (reach / brightness))
        distance = np.minimum(distance, apart)
    alpha = ramp(distance, reach / 100, (reach + soft) / 100)
    return unmixed(light, 1 - alpha if settings.inverted else alpha, settings)


KEYS.add(KeyEntry(
    kind="colours", order=30, label="Colour range", settings=ColourKey, run=run, groups=("Colours", "Matte"),
    help="Whatever has one of the colours picked.",
))  # fmt: skip
