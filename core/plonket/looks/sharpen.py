"""Sharpen: fine detail made stronger, or the rims that a camera's own sharpening drew taken off."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.base.conventions import F32
from plonket.base.fields import Number, choice, number, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext, blurred, coded, coloured, lit, straight

STEPS = 8


class Sharpen(LookBase):
    """What is finer than a radius, made stronger; or made as weak again as it was before something had made it stronger."""

    kind: Literal["sharpen"] = "sharpen"
    does: Literal["sharpen", "rims"] = choice(
        "sharpen", label="Does", group="Sharpen", names={"sharpen": "Sharpen", "rims": "Take rims off"},
        help="Phones draw bright and dark rims along edges: these are taken off.")  # fmt: skip
    amount: Number = number(60.0, label="Amount", low=0, high=500, step=1, unit="%", group="Sharpen", soft=(0, 200))
    radius: Number = number(1.2, label="Radius", low=0.3, high=40, step=0.1, unit="px", group="Sharpen", soft=(0.3, 6))


def run(rgba: F32, look: Sharpen, context: LookContext) -> F32:
    """The sharpened picture. Detail is measured in display code, where it looks alike in light and dark, and never across the
    picture's own edge."""
    sigma = max(value_at(look.radius, context.frame) * context.scale, 0.25)
    code, alpha = coded(straight(rgba)), rgba[..., 3]
    amount = np.float32(value_at(look.amount, context.frame) / 100)
    soft = _softened(code, alpha, sigma)
    if look.does == "sharpen":
        return coloured(rgba, lit(np.maximum(code + amount * (code - soft), 0)))
    # The picture c with c + a (c - soft(c)) = code, by c <- (code + a soft(c)) / (1 + a), each step nearer by a / (1 + a).
    found = code
    for _ in range(STEPS):
        found = np.asarray((code + amount * soft) / (1 + amount), np.float32)
        soft = _softened(found, alpha, sigma)
    return coloured(rgba, lit(np.maximum(found, 0)))


def _softened(code: F32, alpha: F32, sigma: float) -> F32:
    spread = blurred(np.dstack([code * alpha[..., None], alpha]), sigma)
    return np.asarray(spread[..., :3] / np.maximum(spread[..., 3:], np.float32(1e-4)), np.float32)


LOOKS.add(LookEntry(
    kind="sharpen", order=120, label="Sharpen", settings=Sharpen, run=run,
    help="Fine detail made stronger, or a phone's rims taken off.",
))  # fmt: skip
