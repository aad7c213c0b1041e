"""White balance: what should be white, or how warm the light is."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.base.colour import LUMA, linear_of
from plonket.base.conventions import F32, F64
from plonket.base.fields import Number, colour, number, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext, coloured, straight

DAYLIGHT_K = 6504.0
RGB_FROM_XYZ = np.array([
    [3.2404542, -1.5371385, -0.4985314], [-0.9692660, 1.8760108, 0.0415560], [0.0556434, -0.2040259, 1.0572252],
])  # fmt: skip
"""Linear sRGB from CIE XYZ (IEC 61966-2-1)."""


class WhiteBalance(LookBase):
    """Takes a colour cast off, in linear light."""

    kind: Literal["white"] = "white"
    white: str = colour("#ffffff", label="Was white", group="White balance",
                        help="A spot of the picture that should be white or grey.")  # fmt: skip
    kelvin: Number = number(DAYLIGHT_K, label="Light", low=1700, high=20000, step=50, unit="K", group="White balance",
                            soft=(2500, 12000), help="The light it was taken in: lamps 2800, daylight 6500.")  # fmt: skip
    green: Number = number(0.0, label="Green off", low=-100, high=100, step=1, unit="%", group="White balance")


def white_of(kelvin: float) -> F64:
    """(3,) linear sRGB of the daylight or lamp of a colour temperature, its brightness 1.

    CIE daylight above 4000 K, else the Planckian locus as approximated by Kim et al., US patent 7024034, 2006.
    """
    t = float(np.clip(kelvin, 1700, 25000))
    if t >= 4000:
        a = (-4.6070e9, 2.9678e6, 99.11, 0.244063) if t <= 7000 else (-2.0064e9, 1.9018e6, 247.48, 0.237040)
        x = a[0] / t**3 + a[1] / t**2 + a[2] / t + a[3]
        y = -3.0 * x * x + 2.870 * x - 0.275
    else:
        x = -0.2661239e9 / t**3 - 0.2343589e6 / t**2 + 0.8776956e3 / t + 0.179910
        low = (-1.1063814, -1.34811020, 2.18555832, -0.20219683)
        a3 = low if t <= 2222 else (-0.9549476, -1.37418593, 2.09137015, -0.16748867)
        y = a3[0] * x**3 + a3[1] * x * x + a3[2] * x + a3[3]
    rgb = RGB_FROM_XYZ @ np.array([x / y, 1.0, (1 - x - y) / y])
    return np.maximum(rgb, 1e-3)


def run(rgba: F32, look: WhiteBalance, context: LookContext) -> F32:
    """The picture with each channel's light scaled so that what was white is; the brightness of white stays."""
    f = context.frame
    cast = np.maximum(linear_of(look.white), 1e-3) * white_of(value_at(look.kelvin, f)) / white_of(DAYLIGHT_K)
    gains = cast.mean() / cast
    gains = gains * np.array([1.0, np.exp(-0.4 * value_at(look.green, f) / 100), 1.0])
    gains /= float(gains @ LUMA)
    return coloured(rgba, straight(rgba) * gains.astype(np.float32))


LOOKS.add(LookEntry(
    kind="white", order=50, label="White balance", settings=WhiteBalance, run=run, traits=frozenset({"picks-grey"}),
    help="Takes a colour cast off.",
))  # fmt: skip
