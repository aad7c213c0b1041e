"""What grain is: how strong at which brightness, how fine, how coloured; and fresh noise that is like it."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import Annotated

import cv2
import numpy as np
from pydantic import Field
from scipy.interpolate import CubicSpline

from plonket.base.conventions import F32, F64
from plonket.base.fields import Settings

BANDS = np.linspace(0.06, 0.94, 7)
"""Brightness in display code for which a measured grain knows its strength; between them it is interpolated."""
RINGS = 10
"""Bands of fineness of a measured grain, from coarse to the finest that pixels can show (half a cycle a pixel)."""
KERNEL = 13

Strength = Annotated[float, Field(ge=0, le=255)]


class GrainProfile(Settings):
    """Grain as it was measured on footage.

    `strength` holds the SD in 8-bit display codes for each of `BANDS` and channel; `spectrum` the power in each of `RINGS`
    bands of spatial frequency, evenly spaced from 0 to half a cycle a pixel, in any unit; `alike` the share of the variance
    that all channels have in common.
    """

    strength: list[tuple[Strength, Strength, Strength]] = Field(min_length=7, max_length=7)
    spectrum: list[Annotated[float, Field(ge=0, le=1e9)]] = Field(min_length=RINGS, max_length=RINGS)
    alike: float = Field(default=0.5, ge=0, le=1)


def mixed_noise(shape: tuple[int, int], own: float, rng: np.random.Generator) -> F32:
    """White noise (h, w, 3) of SD 1, a share of whose variance each channel has for itself."""
    common = rng.standard_normal((*shape, 1), np.float32)
    single = rng.standard_normal((*shape, 3), np.float32)
    return np.asarray(np.sqrt(1 - own) * common + np.sqrt(own) * single, np.float32)


def measured_noise(shape: tuple[int, int], profile: GrainProfile, rng: np.random.Generator, scale: float = 1.0) -> F32:
    """Noise (h, w, 3) of SD 1 at full size with the profile's spectrum; a reduced picture gets what reducing leaves of it."""
    noise = mixed_noise(shape, 1 - profile.alike, rng)
    kernel = kernel_of(tuple(profile.spectrum))
    if scale >= 0.99:
        return np.asarray(cv2.filter2D(noise, -1, kernel, borderType=cv2.BORDER_REFLECT), np.float32)
    # What averaging over 1 / scale pixels leaves: the mean of the kernel's own correlation over that box.
    box = np.full((max(1, round(1 / scale)),) * 2, scale**2, np.float32)
    big = cv2.filter2D(np.pad(kernel, len(box)), -1, box, borderType=cv2.BORDER_CONSTANT)
    return np.asarray(noise * np.float32(np.sqrt((big**2).sum())), np.float32)


def power_over(spectrum: Sequence[float], n: int) -> F64:
    """Power (n, n) at each frequency of a discrete Fourier transform, of noise with a spectrum in `RINGS`."""
    f = np.fft.fftfreq(n)
    radius = np.hypot(f[:, None], f[None, :])
    middles = (np.arange(RINGS) + 0.5) * 0.5 / RINGS
    level = np.log(np.maximum(spectrum, 1e-6))
    # Beyond the last ring, in the corners of the spectrum, it goes on falling as it did.
    beyond = (level[-1] - level[-2]) / 0.05 * np.clip(radius - middles[-1], 0, 0.2)
    return np.asarray(np.exp(np.interp(radius, middles, level) + beyond), np.float64)


@lru_cache(maxsize=32)
def kernel_of(spectrum: tuple[float, ...]) -> F32:
    """The round kernel (k, k) that gives white noise of SD 1 this spectrum, and SD 1 again."""
    n = 64
    kernel = np.fft.fftshift(np.fft.ifft2(np.sqrt(power_over(spectrum, n))).real)
    c, half = n // 2, KERNEL // 2
    kernel = kernel[c - half : c + half + 1, c - half : c + half + 1]
    return np.asarray(kernel / max(np.sqrt((kernel**2).sum()), 1e-9), np.float32)


def strength_at(profile: GrainProfile, code: F32) -> F32:
    """(h, w, 3) SD in 8-bit codes at each pixel's own brightness in each channel."""
    table = np.array(profile.strength, np.float64)
    where = np.linspace(0, 1, 64)
    out = np.empty_like(code)
    # A curve through the bands: straight lines would cut off the bow that a sensor's grain has in the middle tones.
    inside = np.clip(where, BANDS[0], BANDS[-1])
    curve = np.maximum(CubicSpline(BANDS, table, bc_type="natural")(inside), 0.5 * table.min(axis=0)).astype(np.float32)
    for c in range(3):
        lut = np.ascontiguousarray(curve[:, c])
        out[..., c] = lut[np.clip(code[..., c] * 63 + 0.5, 0, 63).astype(np.int32)]
    return out


def fresh_grain(code: F32, profile: GrainProfile, rng: np.random.Generator) -> F32:
    """Grain (h, w, 3) in 8-bit codes for a picture `code` of display values 0 to 1."""
    return np.asarray(measured_noise(code.shape[:2], profile, rng) * strength_at(profile, code), np.float32)
