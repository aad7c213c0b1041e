"""One range of colours changed, all others left alone."""

from __future__ import annotations

from typing import Literal

import cv2
import numpy as np

from plonket.base.colour import LUMA
from plonket.base.conventions import F32
from plonket.base.fields import Number, colour, number, switch, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.keying.common import ramp
from plonket.looks.common import LookContext, coded, coloured, lit, straight


class ColourRange(LookBase):
    """Hue, strength and brightness of what is like a colour."""

    kind: Literal["range"] = "range"
    colour: str = colour("#c0392b", label="What is like", group="Range")
    width: Number = number(26.0, label="How like", low=1, high=180, step=1, unit="°", group="Range", soft=(5, 90))
    softness: Number = number(18.0, label="Softly", low=1, high=180, step=1, unit="°", group="Range", soft=(1, 60))
    pale: Number = number(12.0, label="Not paler than", low=0, high=100, step=1, unit="%", group="Range")
    hue: Number = number(0.0, label="Hue", low=-180, high=180, step=1, unit="°", group="Change")
    saturation: Number = number(100.0, label="Saturation", low=0, high=400, step=1, unit="%", group="Change", soft=(0, 200))
    exposure: Number = number(0.0, label="Exposure", low=-8, high=8, step=0.05, unit="stops", group="Change", soft=(-2, 2))
    others: bool = switch(False, label="Others grey", group="Change", help="Take the colour off everything else.")


def share_of(code: F32, look: ColourRange, frame: int) -> F32:
    """(h, w) how much of the look each pixel gets: by its hue's distance, and not where it is pale."""
    hsv = cv2.cvtColor(np.clip(code, 0, 1), cv2.COLOR_RGB2HSV)
    own = np.array([[[int(look.colour[k : k + 2], 16) / 255 for k in (1, 3, 5)]]], np.float32)
    target = float(cv2.cvtColor(own, cv2.COLOR_RGB2HSV)[0, 0, 0])
    away = np.abs((hsv[..., 0] - target + 180) % 360 - 180)
    width, soft = value_at(look.width, frame), max(value_at(look.softness, frame), 0.5)
    pale = value_at(look.pale, frame) / 100
    return np.asarray((1 - ramp(away, width, width + soft)) * ramp(hsv[..., 1], pale * 0.5, pale + 0.05), np.float32)


def run(rgba: F32, look: ColourRange, context: LookContext) -> F32:
    """The picture with only that range changed."""
    f = context.frame
    light = straight(rgba)
    code = coded(light)
    share = cv2.GaussianBlur(share_of(code, look, f), (0, 0), max(0.7 * context.scale, 0.3))[..., None]
    new = code
    turn = value_at(look.hue, f)
    if turn:
        hsv = cv2.cvtColor(np.clip(code, 0, 1), cv2.COLOR_RGB2HSV)
        hsv[..., 0] = (hsv[..., 0] + turn) % 360
        new = cv2.cvtColor(hsv, cv2.COLOR_HSV2RGB)
    changed = lit(new) * np.float32(2 ** value_at(look.exposure, f))
    grey = (changed @ LUMA)[..., None]
    changed = grey + (changed - grey) * np.float32(value_at(look.saturation, f) / 100)
    rest = (light @ LUMA)[..., None] if look.others else light
    return coloured(rgba, rest + share * (changed - rest))


LOOKS.add(LookEntry(
    kind="range", order=60, label="Colour range", settings=ColourRange, run=run,
    help="Changes one range of colours only.",
))  # fmt: skip
