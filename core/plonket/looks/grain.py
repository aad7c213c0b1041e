"""Grain: fresh noise in every frame, as a sensor has it."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import Annotated, Literal

import cv2
import numpy as np
from pydantic import Field
from scipy.interpolate import CubicSpline

from plonket.base.conventions import F32, F64
from plonket.base.fields import Number, Settings, number, plain, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext, coded, coloured, lit, straight

BANDS = np.linspace(0.06, 0.94, 7)
"""Brightness in display code for which a measured grain knows its strength; between them it is interpolated."""
RINGS = 10
"""Bands of fineness of a measured grain, from coarse to the finest that pixels can show (half a cycle a pixel)."""
KERNEL = 13


Codes = Annotated[float, Field(ge=0, le=255)]


class GrainProfile(Settings):
    """Grain as it was measured on footage.

    `strength` holds the SD in 8-bit display codes for each of `BANDS` and channel; `spectrum` the power in each of `RINGS`
    bands of spatial frequency, evenly spaced from 0 to half a cycle a pixel, in any unit; `alike` the share of the variance
    that all channels have in common.
    """

    strength: list[tuple[Codes, Codes, Codes]] = Field(min_length=7, max_length=7)
    spectrum: list[Annotated[float, Field(ge=0, le=1e9)]] = Field(min_length=RINGS, max_length=RINGS)
    alike: float = Field(default=0.5, ge=0, le=1)


class Grain(LookBase):
    """Noise of a strength, softness and share of colour; or as it was measured on the plate."""

    kind: Literal["grain"] = "grain"
    profile: GrainProfile | None = Field(default=None, description="As measured; takes the place of strength and softness")
    share: Number = number(100.0, label="Of measured", low=0, high=400, step=1, unit="%", group="Grain", soft=(0, 200),
                           help="How much of the measured grain there is. Without a measured one it does nothing.")  # fmt: skip
    strength: Number = number(2.0, label="Strength", low=0, high=60, step=0.1, unit="codes", group="Grain", soft=(0, 12),
                              help="SD in 8-bit display codes, in the middle tones.")  # fmt: skip
    softness: Number = number(0.6, label="Softness", low=0, high=6, step=0.05, unit="px", group="Grain", soft=(0, 2))
    coloured: Number = number(35.0, label="Coloured", low=0, high=100, step=1, unit="%", group="Grain")
    highlights: Number = number(60.0, label="In the lights", low=0, high=200, step=1, unit="%", group="Grain",
                                help="How strong it is where the picture is bright.")  # fmt: skip
    seed: int = plain(1, label="Seed", low=0, high=9999, step=1, group="Grain", whole=True)


def run(rgba: F32, look: Grain, context: LookContext) -> F32:
    """The picture with grain. A frame always gets the same; two frames never do."""
    f = context.frame
    rng = np.random.default_rng([f, look.seed])
    code = coded(straight(rgba))
    if look.profile is not None:
        noise = measured_noise(rgba.shape[:2], look.profile, rng, context.scale)
        sd = strength_at(look.profile, code) * np.float32(value_at(look.share, f) / 100 / 255)
        return coloured(rgba, lit(np.maximum(code + noise * sd, 0)))
    mixed = np.sqrt(np.float32(np.clip(value_at(look.coloured, f) / 100, 0, 1)))
    noise = _mixed(rgba.shape[:2], mixed**2, rng)
    sigma = value_at(look.softness, f) * context.scale
    if sigma > 0.15:
        noise = cv2.GaussianBlur(noise, (0, 0), sigma)
        noise /= max(float(noise.std()), 1e-6)
    bright = np.clip(code.mean(axis=2, keepdims=True), 0, 1)
    shape = 1 + (value_at(look.highlights, f) / 100 - 1) * np.clip(bright * 2 - 1, 0, 1)
    strength = value_at(look.strength, f) / 255
    return coloured(rgba, lit(np.maximum(code + (noise * strength * shape).astype(np.float32), 0)))


def _mixed(shape: tuple[int, int], own: float, rng: np.random.Generator) -> F32:
    """White noise (h, w, 3) of SD 1, a share of whose variance each channel has for itself."""
    common = rng.standard_normal((*shape, 1), np.float32)
    single = rng.standard_normal((*shape, 3), np.float32)
    return np.asarray(np.sqrt(1 - own) * common + np.sqrt(own) * single, np.float32)


def measured_noise(shape: tuple[int, int], profile: GrainProfile, rng: np.random.Generator, scale: float = 1.0) -> F32:
    """Noise (h, w, 3) of SD 1 at full size with the profile's spectrum; a reduced picture gets what reducing leaves of it."""
    noise = _mixed(shape, 1 - profile.alike, rng)
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
    """The round kernel that gives white noise of SD 1 this spectrum, and SD 1 again."""
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


LOOKS.add(LookEntry(
    kind="grain", order=190, label="Grain", settings=Grain, run=run,
    help="Fresh noise in every frame.",
))  # fmt: skip
