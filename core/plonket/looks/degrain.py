"""De-grain, on a layer or on everything: by the frames beside, along the movement; alone, by its surroundings."""

from __future__ import annotations

from functools import cache
from typing import Literal

import numpy as np

from plonket.base.colour import encode_8bit
from plonket.base.conventions import F32, U8
from plonket.base.fields import Number, number, plain, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.image.degrain import degrained_picture
from plonket.image.grain import BANDS, RINGS, GrainProfile
from plonket.looks.common import LookContext, coded, coloured, lit, straight


class DegrainLook(LookBase):
    """Grain of a strength taken off."""

    kind: Literal["degrain"] = "degrain"
    strength: Number = number(3.0, label="Strength", low=0, high=40, step=0.1, unit="codes", group="De-grain", soft=(0, 12),
                              help="How strong the grain is: SD in 8-bit display codes.")  # fmt: skip
    reach: int = plain(2, label="Frames", low=0, high=5, step=1, group="De-grain", whole=True,
                       help="How many frames before and after help. With 0 only its surroundings do.")  # fmt: skip


def run(rgba: F32, look: DegrainLook, context: LookContext) -> F32:
    """The picture with less grain; edges of its coverage stay as they are."""
    # What a halved picture shows of fine grain is half as strong.
    sd = value_at(look.strength, context.frame) * min(context.scale, 1.0)
    if sd < 0.05 or min(rgba.shape[:2]) < 16:
        return rgba
    code = coded(straight(rgba))

    @cache
    def shown(frame: int) -> U8:
        if frame == context.frame or context.neighbour is None:
            return encode_8bit(straight(rgba))
        return encode_8bit(straight(context.neighbour(frame)))

    profile = GrainProfile(strength=[(sd, sd, sd)] * len(BANDS), spectrum=[1.0] * RINGS)
    reach = look.reach if context.neighbour is not None else 0
    calm = degrained_picture(shown, context.frame, context.frame + reach + 1, profile, reach=reach)
    # Only the grain is taken: what lies below eight bits, and light above white, stays.
    own = shown(context.frame).astype(np.float32)
    return coloured(rgba, lit(np.maximum(code + (calm - own) / np.float32(255), 0)))


LOOKS.add(LookEntry(
    kind="degrain", order=185, label="De-grain", settings=DegrainLook, run=run, neighbours=True,
    help="Grain taken off, along the movement.",
))  # fmt: skip
