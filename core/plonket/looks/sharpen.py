"""Sharpen: fine detail made stronger."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.base.conventions import F32
from plonket.base.fields import Number, number, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext, blurred, coded, coloured, lit, straight


class Sharpen(LookBase):
    """What is finer than a radius, made stronger."""

    kind: Literal["sharpen"] = "sharpen"
    amount: Number = number(60.0, label="Amount", low=0, high=500, step=1, unit="%", group="Sharpen", soft=(0, 200))
    radius: Number = number(1.2, label="Radius", low=0.3, high=40, step=0.1, unit="px", group="Sharpen", soft=(0.3, 6))


def run(rgba: F32, look: Sharpen, context: LookContext) -> F32:
    """The sharpened picture. Detail is measured in display code, where it looks alike in light and dark, and never across the
    picture's own edge."""
    sigma = max(value_at(look.radius, context.frame) * context.scale, 0.25)
    code, alpha = coded(straight(rgba)), rgba[..., 3]
    spread = blurred(np.dstack([code * alpha[..., None], alpha]), sigma)
    soft = spread[..., :3] / np.maximum(spread[..., 3:], np.float32(1e-4))
    amount = np.float32(value_at(look.amount, context.frame) / 100)
    return coloured(rgba, lit(np.maximum(code + amount * (code - soft), 0)))


LOOKS.add(LookEntry(
    kind="sharpen", order=120, label="Sharpen", settings=Sharpen, run=run,
    help="Fine detail made stronger.",
))  # fmt: skip
