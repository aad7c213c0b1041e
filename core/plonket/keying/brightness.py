"""The brightness key: skies, and stock on black or white."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from pydantic import model_validator

from plonket.base.colour import LUMA, encode
from plonket.base.conventions import F32
from plonket.base.fields import Number, choice, number
from plonket.document.kinds import KEYS, KeyEntry
from plonket.keying.common import KeyContext, held, ramp
from plonket.keying.shape import UnmixedKey, shaped, unmixed


class BrightnessKey(UnmixedKey):
    """What is brighter, or darker, than a threshold; or light on black taken as it is."""

    kind: Literal["brightness"] = "brightness"
    keeps: Literal["light", "bright", "dark"] = choice(
        "light", label="Keeps", group="Brightness",
        names={"light": "Light on black", "bright": "What is brighter", "dark": "What is darker"},
        help="Light on black: flames, sparks and smoke shine through as bright as they are.")  # fmt: skip
    threshold: Number = number(50, label="Threshold", low=0, high=100, step=0.5, unit="%", group="Brightness",
                             when={"keeps": ("bright", "dark")}, help="As seen on screen.")  # fmt: skip
    black: Number = number(0, label="Black below", low=0, high=100, step=0.5, unit="%", group="Brightness", soft=(0, 30),
                         when={"keeps": ("light",)},
                         help="As seen on screen: what is darker is taken for black that is not quite black.")  # fmt: skip
    soft: Number = number(15, label="Softness", low=0, high=100, step=0.5, unit="%", group="Brightness",
                        help="How gradually it goes from nothing to all, about the threshold.")  # fmt: skip

    @model_validator(mode="before")
    @classmethod
    def _had_one_threshold(cls, data: Any) -> Any:
        # Of light on black the threshold once said what is black: none at 50, else a tenth of its light.
        if isinstance(data, dict) and data.get("keeps", "light") == "light" and "black" not in data:
            threshold = data.get("threshold", 50)
            if isinstance(threshold, int | float) and threshold != 50 and 0 <= threshold <= 100:
                floor = (threshold / 100) ** 2.2 * 0.1
                return data | {"black": round(float(encode(np.array(floor))) * 100, 1), "threshold": 50}
        return data


def run(light: F32, settings: BrightnessKey, context: KeyContext) -> F32:
    """The keyed frame, linear, premultiplied (h, w, 4)."""
    if settings.keeps == "light":
        # What shines hides as much as it is bright: the black behind it is taken off and nothing else.
        shine = light.max(axis=2)
        if held(settings.black) > 0:
            seen = np.asarray(encode(np.clip(shine, 0, 1)), np.float32)
            black, half = held(settings.black) / 100, held(settings.soft) / 100
            share = ramp(seen, black * (1 - half), black * (1 + half))
            light, shine = light * share[..., None], shine * share
        alpha = np.clip(shine, 0, 1).astype(np.float32)
        thinner = shaped(alpha, settings)
        if thinner is not alpha:
            # Only what goes takes its light with it: what shines has no colour to give to a wider edge.
            thinner = np.minimum(thinner, alpha)
            light = np.asarray(light * (thinner / np.maximum(alpha, 1e-6))[..., None], np.float32)
        return np.dstack([np.maximum(light, 0), thinner]).astype(np.float32)
    seen = np.asarray(encode(np.clip(light @ LUMA, 0, 1)), np.float32)
    half, middle = held(settings.soft) / 200, held(settings.threshold) / 100
    alpha = ramp(seen, middle - half, middle + half)
    return unmixed(light, alpha if settings.keeps == "bright" else 1 - alpha, settings)


KEYS.add(KeyEntry(
    kind="brightness", order=20, label="Brightness", settings=BrightnessKey, run=run, groups=("Brightness", "Matte"),
    help="Light on black, or what is brighter or darker than a threshold.",
))  # fmt: skip
