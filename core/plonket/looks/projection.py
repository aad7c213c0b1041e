"""Projection in the air: scan lines, a roll bar, a ghost's tint."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.base.colour import LUMA, linear_of
from plonket.base.conventions import F32
from plonket.base.fields import Number, colour, number, switch, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext


class Projection(LookBase):
    """Makes a picture look thrown into the air by light."""

    kind: Literal["projection"] = "projection"
    pitch: Number = number(5.0, label="Line every", low=1.5, high=200, step=0.1, unit="px", group="Scan lines", soft=(2, 20))
    depth: Number = number(45.0, label="Depth", low=0, high=100, step=1, unit="%", group="Scan lines")
    drift: Number = number(0.35, label="Drifts", low=-20, high=20, step=0.05, unit="px/fr", group="Scan lines", soft=(-3, 3))
    bar: Number = number(30.0, label="Strength", low=0, high=400, step=1, unit="%", group="Roll bar", soft=(0, 100))
    bar_height: Number = number(90.0, label="Height", low=1, high=4000, step=1, unit="px", group="Roll bar", soft=(10, 400))
    bar_every: Number = number(75.0, label="Comes every", low=1, high=5000, step=1, unit="fr", group="Roll bar", soft=(10, 300))
    tint: str = colour("#8fd7ff", label="Tint", group="Ghost")
    tinted: Number = number(55.0, label="Tinted", low=0, high=100, step=1, unit="%", group="Ghost")
    light: bool = switch(True, label="Only light", group="Ghost", help="It hides nothing: what is dark in it is see-through.")


def run(rgba: F32, look: Projection, context: LookContext) -> F32:
    """The picture as projected. Lines thinner than two pixels of the picture are averaged, not left to beat."""
    f = context.frame
    h = rgba.shape[0]
    y = (np.arange(h) + 0.5 + context.y) / context.scale
    pitch = max(value_at(look.pitch, f), 0.5)
    shown = float(np.clip(pitch * context.scale / 2 - 0.5, 0, 1))
    wave = 0.5 + 0.5 * shown * np.cos(2 * np.pi * (y - value_at(look.drift, f) * f) / pitch)
    rows = 1 - value_at(look.depth, f) / 100 * (1 - wave)
    whole = (context.size[1] if context.size else h) / context.scale
    tall = max(value_at(look.bar_height, f), 1.0)
    at = (f / max(value_at(look.bar_every, f), 1.0)) % 1 * (whole + 4 * tall) - 2 * tall
    rows = rows * (1 + value_at(look.bar, f) / 100 * np.exp(-(((y - at) / tall) ** 2)))
    grey = (rgba[..., :3] @ LUMA)[..., None]
    share = np.float32(value_at(look.tinted, f) / 100)
    tint = linear_of(look.tint)
    colours = rgba[..., :3] + share * (grey * (tint / max(float(tint @ LUMA), 1e-3)).astype(np.float32) - rgba[..., :3])
    out = np.concatenate([colours, rgba[..., 3:]], axis=2) * rows[:, None, None]
    if look.light:
        out[..., 3] = 0
    return np.asarray(out, np.float32)


LOOKS.add(LookEntry(
    kind="projection", order=160, label="Projection", settings=Projection, run=run,
    help="Scan lines, a roll bar and a ghost's tint.",
))  # fmt: skip
