"""Pictures of wide colour and high dynamic range (BT.2020, HLG, PQ) to the display codes that the rest of the core works on;
and its linear light to HLG.

Light is worked out as a reference display of 1000 cd/m2 shows it, with white at 203 cd/m2 (ITU-R BT.2408): what is as bright as
that is about as bright as white paper afterwards, and what is brighter is rolled off towards white. `Exposure` brings it down.
"""

from __future__ import annotations

import functools
from typing import Literal

import numba
import numpy as np

from plonket.base.colour import LINEAR_OF_16BIT, code_of
from plonket.base.conventions import F32, F64, FAST, U16

Transfer = Literal["sdr", "pq", "hlg"]
WHITE = 203.0
"""Light of white in cd/m2."""
PEAK = 1000.0
"""Of the display for which HLG is worked out."""
KNEE = 0.8
"""Share of white up to which light stays as it is."""
_LUMINANCE: F32 = np.array([0.2627, 0.6780, 0.0593], np.float32)

# BT.2020 to BT.709 primaries, linear light (ITU-R BT.2087-0, annex 1).
_709_FROM_2020: F32 = np.array(
    [[1.6605, -0.5876, -0.0728], [-0.1246, 1.1329, -0.0083], [-0.0182, -0.1006, 1.1187]], np.float32
)


_2020_FROM_709: F32 = np.linalg.inv(_709_FROM_2020.astype(np.float64)).astype(np.float32)
_A, _B, _C = 0.17883277, 0.28466892, 0.55991073
"""Of HLG's curve (ITU-R BT.2100-2, table 5)."""
_MOST = PEAK / WHITE - KNEE
_SPARE = _MOST / (_MOST / (1 - KNEE) - 1)
"""Of the roll-off, so that the brightest that a display of `PEAK` shows becomes white."""


@functools.cache
def _to_light(transfer: Transfer) -> F32:
    """16-bit code to linear light: of the scene for HLG, where 1.0 is its largest; else of the display, where it is white."""
    if transfer == "sdr":
        return LINEAR_OF_16BIT
    e: F64 = np.arange(65536, dtype=np.float64) / 65535
    if transfer == "pq":  # SMPTE ST 2084
        m1, m2, c1, c2, c3 = 0.1593017578125, 78.84375, 0.8359375, 18.8515625, 18.6875
        p = e ** (1 / m2)
        nits = 10000 * (np.maximum(p - c1, 0) / (c2 - c3 * p)) ** (1 / m1)
        return np.asarray(nits / WHITE, np.float32)
    return np.asarray(np.where(e <= 0.5, e * e / 3, (np.exp((e - _C) / _A) + _B) / 12), np.float32)


def display_codes(wide: U16, transfer: Transfer) -> U16:
    """16-bit codes of BT.2020 colour (h, w, 3) to 16-bit sRGB codes.

    HLG gets the system gamma of 1.2 on its luminance (BT.2100, table 5); what lies outside of the smaller gamut is held at its
    edge, and what is brighter than `KNEE` rolled off with its colour kept.
    """
    out = np.empty_like(wide)
    scale = PEAK / WHITE if transfer == "hlg" else 1.0
    _show(wide, _to_light(transfer), transfer == "hlg", np.float32(scale), transfer != "sdr", out)
    return out


@numba.njit(parallel=True, cache=True, fastmath=FAST)  # type: ignore[misc]
def _show(wide: U16, table: F32, system: bool, scale: np.float32, rolls: bool, out: U16) -> None:
    h, w = wide.shape[:2]
    knee, spare = np.float32(KNEE), np.float32(_SPARE)
    for y in numba.prange(h):
        for x in range(w):
            r, g, b = table[wide[y, x, 0]], table[wide[y, x, 1]], table[wide[y, x, 2]]
            if system:
                luminance = _LUMINANCE[0] * r + _LUMINANCE[1] * g + _LUMINANCE[2] * b
                gain = scale * max(luminance, np.float32(1e-7)) ** np.float32(0.2)
                r, g, b = r * gain, g * gain, b * gain
            red, green, blue = _smaller(r, g, b, 0), _smaller(r, g, b, 1), _smaller(r, g, b, 2)
            peak = max(red, green, blue)
            if rolls and peak > knee:
                over = peak - knee
                share = (knee + over * spare / (over + spare)) / peak
                red, green, blue = red * share, green * share, blue * share
            for c, light in enumerate((red, green, blue)):
                out[y, x, c] = np.uint16(code_of(light) * np.float32(65535.0) + np.float32(0.5))


@numba.njit(cache=True, fastmath=FAST, inline="always")  # type: ignore[misc]
def _smaller(r: np.float32, g: np.float32, b: np.float32, c: int) -> np.float32:
    return max(_709_FROM_2020[c, 0] * r + _709_FROM_2020[c, 1] * g + _709_FROM_2020[c, 2] * b, np.float32(0.0))


def hlg_codes(light: F32, *, rolled: bool) -> U16:
    """Linear light (h, w, 3 or more) as 16-bit HLG codes of BT.2020 colour (h, w, 3): `display_codes` the other way.

    White lies at `WHITE`, what is brighter goes on up to `PEAK`.

    Parameters
    ----------
    rolled : whether highlights were rolled off when the footage was read, and are brought back to where they were.
    """
    out = np.empty((*light.shape[:2], 3), np.uint16)
    _to_hlg(light, _hlg_table(), rolled, out)
    return out


_HLG_ENTRIES = 4096


@functools.cache
def _hlg_table() -> F32:
    """HLG signal by the root of the scene's light, in which its lower part is straight."""
    e = (np.arange(_HLG_ENTRIES + 2) / _HLG_ENTRIES) ** 2
    upper = _A * np.log(np.maximum(12 * e - _B, 1e-9)) + _C
    return np.asarray(np.where(e <= 1 / 12, np.sqrt(3 * e), upper), np.float32)


@numba.njit(parallel=True, cache=True, fastmath=FAST)  # type: ignore[misc]
def _to_hlg(light: F32, table: F32, rolled: bool, out: U16) -> None:
    knee, spare, one = np.float32(KNEE), np.float32(_SPARE), np.float32(1.0)
    down, top = np.float32(WHITE / PEAK), np.float32(PEAK / WHITE)
    for y in numba.prange(out.shape[0]):
        for x in range(out.shape[1]):
            r, g, b = _some(light[y, x, 0]), _some(light[y, x, 1]), _some(light[y, x, 2])
            peak = max(r, g, b)
            if rolled and peak > knee:
                part = min(peak, one) - knee
                share = min(knee + part * spare / max(spare - part, np.float32(1e-6)), top) / peak
                r, g, b = r * share, g * share, b * share
            red, green, blue = _wider(r, g, b, 0) * down, _wider(r, g, b, 1) * down, _wider(r, g, b, 2) * down
            # The system gamma of 1.2 is taken off the luminance that the display would show.
            luminance = _LUMINANCE[0] * red + _LUMINANCE[1] * green + _LUMINANCE[2] * blue
            gain = max(luminance, np.float32(1e-9)) ** np.float32(1 / 1.2 - 1)
            for c, part in enumerate((red, green, blue)):
                at = np.sqrt(min(max(part * gain, np.float32(0.0)), one)) * np.float32(_HLG_ENTRIES)
                k = int(at)
                signal = table[k] + (at - np.float32(k)) * (table[k + 1] - table[k])
                out[y, x, c] = np.uint16(min(signal, one) * np.float32(65535.0) + np.float32(0.5))


@numba.njit(cache=True, fastmath=FAST, inline="always")  # type: ignore[misc]
def _some(light: np.float32) -> np.float32:
    return light if light > np.float32(0.0) else np.float32(0.0)


@numba.njit(cache=True, fastmath=FAST, inline="always")  # type: ignore[misc]
def _wider(r: np.float32, g: np.float32, b: np.float32, c: int) -> np.float32:
    return _2020_FROM_709[c, 0] * r + _2020_FROM_709[c, 1] * g + _2020_FROM_709[c, 2] * b
