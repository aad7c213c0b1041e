"""The difference key: what was not there on a clean plate."""

from __future__ import annotations

from typing import Literal

import cv2
import numpy as np
from pydantic import Field

from plonket.base.colour import encode, linear_from_codes
from plonket.base.conventions import F32
from plonket.base.fields import AssetDigest, Number, number
from plonket.document.kinds import KEYS, KeyEntry
from plonket.keying.common import Element, KeyContext, cut_out, held, ramp
from plonket.keying.shape import ShapedKey, shaped
from plonket.matting.mix import unmix


class DifferenceKey(ShapedKey):
    """A subject before a set that was filmed without it, from the same place."""

    kind: Literal["difference"] = "difference"
    clean: AssetDigest | None = Field(default=None, description="A still of the set without the subject")
    threshold: Number = number(6, label="Threshold", low=0, high=100, step=0.5, unit="%", group="Difference",
                             help="What differs less than this is gone.")  # fmt: skip
    soft: Number = number(8, label="Softness", low=0, high=100, step=0.5, unit="%", group="Difference")
    calm: Number = number(2, label="Calm noise", low=0, high=10, step=0.5, unit="px", group="Difference",
                        help="Looks at averages over so many pixels.")  # fmt: skip


def run(light: F32, settings: DifferenceKey, context: KeyContext) -> F32:
    """The keyed frame, linear, premultiplied (h, w, 4); all of it while there is no clean plate."""
    if context.clean is None:
        return cut_out(light, np.ones(light.shape[:2], np.float32))
    clean = context.clean
    if clean.shape != light.shape:
        clean = cv2.resize(clean, (light.shape[1], light.shape[0]), interpolation=cv2.INTER_AREA)
    seen, before = (np.asarray(encode(np.clip(p, 0, 1)), np.float32) for p in (light, clean))
    calm, threshold, soft = held(settings.calm), held(settings.threshold), held(settings.soft)
    if calm > 0:
        seen, before = (np.asarray(cv2.GaussianBlur(p, (0, 0), calm), np.float32) for p in (seen, before))
    # Light that changed as a whole is not a subject.
    seen = seen * np.median((before + 0.02) / (seen + 0.02), axis=(0, 1)).astype(np.float32)
    distance = np.abs(seen - before).max(axis=2)
    alpha = ramp(np.asarray(distance, np.float32), threshold / 100, (threshold + soft) / 100)
    return unmix(light, shaped(alpha, settings), clean)


def learn(key: DifferenceKey, element: Element) -> KeyContext:
    """The clean plate."""
    return KeyContext(clean=None if key.clean is None else linear_from_codes(element.still(key.clean)))


KEYS.add(KeyEntry(
    kind="difference", order=40, label="Difference", settings=DifferenceKey, run=run, groups=("Difference", "Matte"),
    help="What was not there on a clean plate.", learn=learn, learns_from=("clean",),
))  # fmt: skip
