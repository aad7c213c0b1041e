"""Colour: exposure, warmth, tint, saturation and contrast, in light."""

from __future__ import annotations

from typing import Literal

import numba
import numpy as np

from plonket.base.colour import LUMA
from plonket.base.conventions import F32, FAST
from plonket.base.fields import Number, number, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LEAST_ALPHA, LookContext, weight_at

GREY = 0.18
"""Middle grey: what contrast turns about."""
STEPS, BRIGHTEST = 4096, 8.0


class Colour(LookBase):
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
    warm, tint = value_at(look.warm, f) / 100, value_at(look.tint, f) / 100
    gains = np.array([np.exp(0.5 * warm), np.exp(0.35 * tint), np.exp(-0.5 * warm)])
    gains *= 2 ** value_at(look.exposure, f) / float(gains @ LUMA)
    slope = np.float32(max(1 + value_at(look.contrast, f) / 100, 0.0))
    out = np.empty_like(rgba)
    saturation = np.float32(value_at(look.saturation, f) / 100)
    _changed(rgba, gains.astype(np.float32), slope, _contrast(float(slope)), saturation, out)
    return out


def _contrast(slope: float) -> F32:
    """Light turned about middle grey, at evenly spaced square roots of light from 0 to `BRIGHTEST`."""
    light = (np.arange(STEPS + 2) / STEPS) ** 2 * BRIGHTEST
    return np.asarray(GREY * (light / GREY) ** slope, np.float32)


@numba.njit(cache=True, inline="always", fastmath=FAST)  # type: ignore[misc]
def _bent(light: np.float32, table: F32, slope: np.float32) -> np.float32:
    if not light > np.float32(0.0):
        return table[0]
    if light >= BRIGHTEST:
        return np.float32(GREY) * (light / np.float32(GREY)) ** slope
    at = np.sqrt(light * np.float32(1 / BRIGHTEST)) * np.float32(STEPS)
    low = int(at)
    u = at - np.float32(low)
    return table[low] * (np.float32(1.0) - u) + table[low + 1] * u


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _changed(rgba: F32, gains: F32, slope: np.float32, table: F32, saturation: np.float32, out: F32) -> None:
    one = np.float32(1.0)
    for y in numba.prange(rgba.shape[0]):
        for x in range(rgba.shape[1]):
            weight = weight_at(rgba, y, x)
            out[y, x, 3] = rgba[y, x, 3]
            if weight <= LEAST_ALPHA:
                out[y, x, 0] = out[y, x, 1] = out[y, x, 2] = np.float32(0.0)
                continue
            r = max(rgba[y, x, 0] / weight * gains[0], np.float32(0.0))
            g = max(rgba[y, x, 1] / weight * gains[1], np.float32(0.0))
            b = max(rgba[y, x, 2] / weight * gains[2], np.float32(0.0))
            if slope != one:
                r, g, b = _bent(r, table, slope), _bent(g, table, slope), _bent(b, table, slope)
            grey = np.float32(0.2126) * r + np.float32(0.7152) * g + np.float32(0.0722) * b
            out[y, x, 0] = max(grey + (r - grey) * saturation, np.float32(0.0)) * weight
            out[y, x, 1] = max(grey + (g - grey) * saturation, np.float32(0.0)) * weight
            out[y, x, 2] = max(grey + (b - grey) * saturation, np.float32(0.0)) * weight


LOOKS.add(LookEntry(
    kind="colour", order=10, label="Colour", settings=Colour, run=run,
    help="Exposure, contrast, warmth and saturation.",
))  # fmt: skip
