"""Ripple: the picture bent by noise that moves, as hot air, water and old glass do."""

from __future__ import annotations

from typing import Literal

import cv2
import numpy as np

from plonket.base.conventions import F32
from plonket.base.fields import Number, choice, number, plain, value_at
from plonket.base.noise import noise_field
from plonket.document.bases import PlacedLook
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext


class Ripple(PlacedLook):
    """Displacement by animated noise; its masks say where."""

    kind: Literal["ripple"] = "ripple"
    form: Literal["heat", "water", "glass"] = choice(
        "heat", label="As", group="Ripple", names={"heat": "Hot air", "water": "Water", "glass": "Old glass"})  # fmt: skip
    amount: Number = number(4.0, label="Amount", low=0, high=400, step=0.1, unit="px", group="Ripple", soft=(0, 30))
    lump: Number = number(46.0, label="Size", low=2, high=4000, step=1, unit="px", group="Ripple", soft=(8, 300))
    speed: Number = number(3.0, label="Moves", low=-200, high=200, step=0.1, unit="px/fr", group="Ripple", soft=(-12, 12))
    direction: Number = number(-90.0, label="Towards", low=-360, high=360, step=1, unit="°", group="Ripple", soft=(-180, 180))
    changes: Number = number(16.0, label="Changes in", low=1, high=5000, step=1, unit="fr", group="Ripple", soft=(3, 120),
                             help="Old glass does not change.")  # fmt: skip
    seed: int = plain(1, label="Seed", low=0, high=9999, step=1, group="Ripple", whole=True)


def reach(look: Ripple, frame: int) -> float:
    """How far pixels may go, in pixels of the clip."""
    return value_at(look.amount, frame) * 1.5


def run(rgba: F32, look: Ripple, context: LookContext) -> F32:
    """The picture bent; coverage bends along, so nothing tears at its edges."""
    f = context.frame
    amount = value_at(look.amount, f) * context.scale
    matrix = np.diag([context.scale, context.scale, 1.0]) if context.into is None else context.into(look)
    if amount < 0.02 or matrix is None:
        return rgba
    back = np.linalg.inv(matrix)
    lump = max(value_at(look.lump, f), 1.0)
    still = look.form == "glass"
    angle = np.radians(value_at(look.direction, f))
    goes = np.zeros(2) if still else value_at(look.speed, f) * f * np.array([np.cos(angle), np.sin(angle)])
    z = 0.0 if still else f / max(value_at(look.changes, f), 1.0)
    h, w = rgba.shape[:2]
    # Water has longer waves across than along; the noise is fine with a quarter of the pixels.
    flat = np.diag([1.0, 2.4, 1.0]) if look.form == "water" else np.eye(3)
    k = 2 if min(h, w) > 64 else 1
    shape = (-(-h // k), -(-w // k))
    field = np.empty((2, *shape), np.float32)
    up = np.diag([w / shape[1], h / shape[0], 1.0])
    for c in range(2):
        noise_field(field[c], flat @ back @ up, lump, goes, z, 2 if look.form != "glass" else 3, look.seed * 5 + 101 * c)
    bent = cv2.resize(np.ascontiguousarray(field.transpose(1, 2, 0)), (w, h), interpolation=cv2.INTER_LINEAR) * 2.2 * amount
    y, x = np.mgrid[0:h, 0:w].astype(np.float32)
    out = cv2.remap(rgba, x + bent[..., 0], y + bent[..., 1], cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
    out[..., 3] = np.clip(out[..., 3], 0, 1)
    return np.maximum(out, 0).astype(np.float32)


LOOKS.add(LookEntry(
    kind="ripple", order=150, label="Ripple", settings=Ripple, run=run, reach=reach,
    help="Bent as by hot air, water or old glass.",
))  # fmt: skip
