"""Levels: black, middle and white, for all channels or each."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.base.conventions import F32
from plonket.base.fields import Number, choice, number, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext, coded, coloured, lit, straight


class Levels(LookBase):
    """What is black, middle and white before and after, in display code."""

    kind: Literal["levels"] = "levels"
    channel: Literal["all", "red", "green", "blue"] = choice(
        "all", label="Channel", group="Levels",
        names={"all": "All", "red": "Red", "green": "Green", "blue": "Blue"})  # fmt: skip
    black: Number = number(0.0, label="Black at", low=-50, high=95, step=0.5, unit="%", group="Levels", soft=(0, 50))
    middle: Number = number(1.0, label="Middle", low=0.1, high=10, step=0.01, group="Levels", soft=(0.3, 3))
    white: Number = number(100.0, label="White at", low=5, high=300, step=0.5, unit="%", group="Levels", soft=(50, 150))
    out_black: Number = number(0.0, label="Black to", low=0, high=100, step=0.5, unit="%", group="Levels", soft=(0, 50))
    out_white: Number = number(100.0, label="White to", low=0, high=100, step=0.5, unit="%", group="Levels", soft=(50, 100))


def run(rgba: F32, look: Levels, context: LookContext) -> F32:
    """The picture with its levels moved: c' = ob + (ow - ob) ((c - b) / (w - b)) ^ (1 / middle) in display code c."""
    f = context.frame
    low, high = value_at(look.black, f) / 100, value_at(look.white, f) / 100
    bottom, top = value_at(look.out_black, f) / 100, value_at(look.out_white, f) / 100
    light = straight(rgba)
    code = coded(light)
    t = np.maximum((code - low) / max(high - low, 0.01), 0) ** (1 / max(value_at(look.middle, f), 0.05))
    new = lit(bottom + (top - bottom) * t)
    if look.channel != "all":
        k = ("red", "green", "blue").index(look.channel)
        light[..., k] = new[..., k]
        new = light
    return coloured(rgba, new)


LOOKS.add(LookEntry(
    kind="levels", order=20, label="Levels", settings=Levels, run=run, traits=frozenset({"picks-black", "picks-white"}),
    help="What is black, middle and white.",
))  # fmt: skip
