"""A beam of light in the air: a soft cone that shows the haze it shines through."""

from __future__ import annotations

from typing import Literal

import numba
import numpy as np

from plonket.base.conventions import F32, F64, FAST
from plonket.base.fields import Number, colour, number, value_at
from plonket.base.noise import noise_field
from plonket.document.kinds import GENERATORS, GeneratorEntry
from plonket.generators.common import GeneratorContext, GeneratorModel, clear, light_of


class LightCone(GeneratorModel):
    """Shines from its place to the right, before it is turned."""

    kind: Literal["cone"] = "cone"
    length: Number = number(700.0, label="Length", low=1, high=20000, step=5, unit="px", group="Light", soft=(20, 2000))
    width: Number = number(18.0, label="Width there", low=0, high=4000, step=1, unit="px", group="Light", soft=(0, 200))
    spread: Number = number(16.0, label="Spread", low=0, high=160, step=0.5, unit="°", group="Light", soft=(0, 70))
    soft: Number = number(55.0, label="Soft edge", low=1, high=100, step=1, unit="%", group="Light")
    falls: Number = number(1.3, label="Falls off", low=0, high=6, step=0.05, group="Light", soft=(0, 3))
    colour: str = colour("#ffe6b8", label="Colour", group="Light")
    bright: Number = number(55.0, label="Brightness", low=0, high=5000, step=1, unit="%", group="Light", soft=(0, 300))
    haze: Number = number(45.0, label="Haze in it", low=0, high=100, step=1, unit="%", group="Light")
    lump: Number = number(150.0, label="Its size", low=4, high=4000, step=1, unit="px", group="Light", soft=(20, 600))
    drift: Number = number(1.2, label="Drifts", low=-100, high=100, step=0.1, unit="px/fr", group="Light", soft=(-8, 8))


def run(settings: LightCone, context: GeneratorContext) -> F32:
    """Light of the beam in a frame; it hides nothing."""
    f = context.frame
    out = clear(context.size)
    back = np.linalg.inv(context.place(f))
    haze = np.ones((context.size[1], context.size[0]), np.float32)
    share = value_at(settings.haze, f) / 100
    if share > 0:
        drift = value_at(settings.drift, f) * f * np.array([0.8, -0.6])
        noise_field(haze, back, max(value_at(settings.lump, f), 2.0), drift, f / 70, 4, settings.seed * 17 + 3)
        haze = np.clip(1 + share * (2.2 * haze - 0.15), 0, 3).astype(np.float32)
    parts = np.array([
        max(value_at(settings.length, f), 1.0), value_at(settings.width, f) / 2,
        np.tan(np.radians(np.clip(value_at(settings.spread, f), 0, 160) / 2)), value_at(settings.soft, f) / 100,
        value_at(settings.falls, f),
    ])  # fmt: skip
    _shine(out, back, parts, haze, light_of(settings.colour, value_at(settings.bright, f) / 100))
    return out


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _shine(out: F32, back: F64, parts: F64, haze: F32, light: F32) -> None:
    length, half, slope, soft, falls = parts[0], parts[1], parts[2], parts[3], parts[4]
    for j in numba.prange(out.shape[0]):
        for i in range(out.shape[1]):
            x, y = i + 0.5, j + 0.5
            d = back[2, 0] * x + back[2, 1] * y + back[2, 2]
            u = (back[0, 0] * x + back[0, 1] * y + back[0, 2]) / d
            v = (back[1, 0] * x + back[1, 1] * y + back[1, 2]) / d
            if u < -2 or u > length:
                continue
            wide = max(half + max(u, 0.0) * slope, 0.5)
            q = abs(v) / wide
            if q >= 1:
                continue
            edge = min((1 - q) / soft, 1.0)
            edge = edge * edge * (3 - 2 * edge)
            t = max(u, 0.0) / length
            fade = (1 - t) ** falls * min(max(u / 2 + 1, 0.0), 1.0)
            # The same light spread over a wider cone is weaker.
            thin = (half + 6) / (wide + 6)
            shine = edge * fade * thin**0.35 * haze[j, i]
            for c in range(3):
                out[j, i, c] = light[c] * shine


GENERATORS.add(GeneratorEntry(
    kind="cone", order=70, label="Light beam", settings=LightCone, run=run, preview=(70.0, 200.0),
    help="A cone of light in hazy air.",
))  # fmt: skip
