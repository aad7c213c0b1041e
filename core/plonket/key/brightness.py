"""The brightness key: skies, and stock on black or white."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.colour import encode
from plonket.conventions import F32
from plonket.fields import Model, choice, plain
from plonket.key.common import LUMA, KeyContext, cut_out, ramp


class BrightnessKey(Model):
    """What is brighter, or darker, than a threshold; or light on black taken as it is."""

    kind: Literal["brightness"] = "brightness"
    keeps: Literal["light", "bright", "dark"] = choice(
        "light", label="Keeps", group="Brightness",
        names={"light": "Light on black", "bright": "What is brighter", "dark": "What is darker"},
        help="Light on black: flames, sparks and smoke shine through as bright as they are.")  # fmt: skip
    threshold: float = plain(50, label="Threshold", low=0, high=100, step=0.5, unit="%", group="Brightness",
                             help="As seen on screen. For light on black: what is darker is black.")  # fmt: skip
    soft: float = plain(15, label="Softness", low=0, high=100, step=0.5, unit="%", group="Brightness")


def run(light: F32, settings: BrightnessKey, context: KeyContext) -> F32:
    """The keyed frame, linear, premultiplied (h, w, 4)."""
    if settings.keeps == "light":
        # What shines hides as much as it is bright: the black behind it is taken off and nothing else.
        floor = np.float32(((settings.threshold / 100) ** 2.2) * 0.1 if settings.threshold != 50 else 0.0)
        bare = np.maximum(light - floor, 0) / max(1 - float(floor), 1e-3)
        return np.dstack([bare, np.clip(bare.max(axis=2), 0, 1)]).astype(np.float32)
    seen = np.asarray(encode(np.clip(light @ LUMA, 0, 1)), np.float32)
    half = settings.soft / 200
    alpha = ramp(seen, settings.threshold / 100 - half, settings.threshold / 100 + half)
    return cut_out(light, alpha if settings.keeps == "bright" else 1 - alpha)
