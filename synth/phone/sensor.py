"""The phone's sensor and picture processing: linear light in, the 8-bit picture a phone stores out."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from plonket.base.conventions import F32, U8


@dataclass(frozen=True, slots=True, kw_only=True)
class Sensor:
    """What the phone does to the light.

    Attributes
    ----------
    gain : exposure. shot, read : noise variance per unit light, and read noise SD (linear).
    blur_px : softness of lens and demosaicing (Gaussian SD). sharpen : unsharp amount.
    vignette : fraction of light lost in the corners.
    """

    gain: float = 1.0
    shot: float = 0.00035
    read: float = 0.0022
    blur_px: float = 0.55
    sharpen: float = 0.35
    vignette: float = 0.16

    def photograph(self, light: F32, rng: np.random.Generator) -> U8:
        """Linear light (h, w, 3) to the stored picture, 8-bit sRGB-coded (h, w, 3)."""
        seen = self.optical(light)
        noise = rng.standard_normal(seen.shape, np.float32)
        noise *= np.sqrt(np.maximum(seen, 0) * np.float32(self.shot) + np.float32(self.read**2))
        # Demosaicing spreads noise over neighbours, chroma more than luma.
        noise = 0.72 * noise + 0.9 * cv2.GaussianBlur(noise, (0, 0), 0.9)
        return develop(seen + noise, sharpen=self.sharpen)

    def clean(self, light: F32) -> U8:
        """The same picture without sensor noise: the truth beside the clip."""
        return develop(self.optical(light), sharpen=self.sharpen)

    def optical(self, light: F32) -> F32:
        height, width = light.shape[:2]
        y, x = np.mgrid[0:height, 0:width].astype(np.float32)
        r2 = ((x - width / 2) ** 2 + (y - height / 2) ** 2) / (width**2 + height**2) * 4
        seen = light * (np.float32(self.gain) * (1 - np.float32(self.vignette) * r2))[..., None]
        if self.blur_px > 0:
            seen = cv2.GaussianBlur(seen, (0, 0), self.blur_px)
        return np.asarray(seen, np.float32)


def develop(light: F32, *, sharpen: float) -> U8:
    """Tone curve with a soft shoulder, sRGB coding, a little sharpening, 8 bits."""
    x = np.maximum(light, 0)
    shoulder = np.where(x < 0.7, x, 0.7 + 0.3 * (1 - np.exp(-(x - 0.7) / 0.3)))
    coded = np.where(shoulder <= 0.0031308, 12.92 * shoulder, 1.055 * np.power(shoulder, 1 / 2.4) - 0.055)
    coded = coded.astype(np.float32)
    if sharpen > 0:
        coded += np.float32(sharpen) * (coded - cv2.GaussianBlur(coded, (0, 0), 1.0))
    return np.clip(coded * 255 + 0.5, 0, 255).astype(np.uint8)
