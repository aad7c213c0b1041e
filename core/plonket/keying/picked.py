"""The footage cut by a matte that was picked, with what was behind it taken off its soft edges."""

from __future__ import annotations

from typing import Annotated, Literal

import cv2
import numpy as np

from plonket.base.conventions import F32
from plonket.base.fields import PART_GOES, Identifier, reference
from plonket.document.kinds import KEYS, KeyEntry
from plonket.keying.common import KeyContext, cut_out, held
from plonket.keying.shape import GONE, NEAR, UnmixedKey, shaped
from plonket.matting.mix import explained, unmix

LEAST_NEAR = 5.0
"""Pixels: an edge may be as soft as that in a small picture, too."""


class PickedKey(UnmixedKey):
    """What a matte among the motions covers; of the shot's own footage alone."""

    kind: Literal["picked"] = "picked"
    motion: Annotated[Identifier, reference("matte", says="uses a matte", left=PART_GOES)]


def run(light: F32, settings: PickedKey, context: KeyContext) -> F32:
    """The frame cut out, linear, premultiplied (h, w, 4); nothing of it where the matte is not known."""
    h, w = light.shape[:2]
    if context.matte is None:
        return cut_out(light, np.zeros((h, w), np.float32))
    alpha = context.matte.astype(np.float32) / np.float32(255)
    if alpha.shape != (h, w):
        alpha = np.asarray(cv2.resize(alpha, (w, h), interpolation=cv2.INTER_AREA), np.float32)
    clean = held(settings.clean) / 100
    if clean <= 0:
        return cut_out(light, shaped(alpha, settings))
    around = np.ones((3, 3), np.uint8)
    inside = cv2.erode((alpha > 1 - GONE).astype(np.uint8), around, borderValue=1)
    outside = cv2.erode((alpha < GONE).astype(np.uint8), around, borderValue=1)
    near = max(LEAST_NEAR, NEAR * w)
    mix = explained(light, np.asarray(inside, np.uint8), np.asarray(outside, np.uint8), (0.4 * near, near), alpha, 1.0)
    return unmix(light, shaped(alpha, settings), mix.behind, mix.trust * np.float32(clean))


KEYS.add(KeyEntry(
    kind="picked", order=60, label="Picked thing", settings=PickedKey, run=run, groups=("Matte",), traits=frozenset({"matte"}),
    help="What a matte among the motions covers, freed of what was behind it.",
))  # fmt: skip
