"""HDR phone clips (PQ, HLG, BT.2020) to the SDR picture that the rest of the core works on."""

from __future__ import annotations

import functools
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, U8

# BT.2020 to BT.709 primaries, linear light (ITU-R BT.2087-0, annex 1).
_709_FROM_2020 = np.array(
    [[1.6605, -0.5876, -0.0728], [-0.1246, 1.1329, -0.0083], [-0.0182, -0.1006, 1.1187]], np.float32
)


@functools.cache
def _to_light(transfer: Literal["pq", "hlg"]) -> F32:
    """16-bit code to linear light where 1.0 is diffuse white (203 cd/m2, ITU-R BT.2408)."""
    e = np.arange(65536, dtype=np.float64) / 65535
    if transfer == "pq":  # SMPTE ST 2084
        m1, m2, c1, c2, c3 = 0.1593017578125, 78.84375, 0.8359375, 18.8515625, 18.6875
        p = e ** (1 / m2)
        nits = 10000 * (np.maximum(p - c1, 0) / (c2 - c3 * p)) ** (1 / m1)
        return (nits / 203).astype(np.float32)
    a, b, c = 0.17883277, 0.28466892, 0.55991073  # ITU-R BT.2100 HLG
    scene = np.where(e <= 0.5, e * e / 3, (np.exp((e - c) / a) + b) / 12)
    # Reference white is 75 % signal; the system gamma of 1.2 is applied per channel.
    white = (np.exp((0.75 - c) / a) + b) / 12
    return ((scene / white) ** 1.2).astype(np.float32)


def hdr_to_sdr(rgb: NDArray[np.generic], transfer: Literal["sdr", "pq", "hlg"]) -> U8:
    """16-bit HDR code values (h, w, 3) to 8-bit sRGB-coded SDR, highlights rolled off softly."""
    from plonket.base.colour import encode_8bit

    light = _to_light("pq" if transfer == "pq" else "hlg")[rgb.astype(np.uint16)]
    light = np.maximum(light @ _709_FROM_2020.T, 0)
    peak = light.max(axis=2, keepdims=True)
    knee = np.float32(0.75)
    over = np.maximum(peak - knee, 0)
    rolled = np.where(peak > knee, knee + (1 - knee) * over / (over + (1 - knee) * 1.6), peak)
    return encode_8bit(light * (rolled / np.maximum(peak, 1e-6)).astype(np.float32))
