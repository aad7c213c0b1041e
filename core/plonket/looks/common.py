"""What every look has, and what it is told."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from pydantic import Field

from plonket.colour import decode, encode
from plonket.conventions import F32, F64
from plonket.fields import Identifier, Model, Name, Number, number, switch
from plonket.masks.kinds import Mask

LEAST_ALPHA = 1e-4
ONLY_LIGHT = 0.02
"""Coverage below which a pixel is taken for light alone."""


class LookModel(Model):
    """A look's name, how much of it is seen, and where."""

    id: Identifier
    name: Name
    shown: bool = switch(True, label="On")
    mix: Number = number(100.0, label="Mix", low=0, high=100, step=1, unit="%", group="Where",
                         help="How much of the look is seen.")  # fmt: skip
    masks: list[Mask] = Field(default_factory=list, max_length=100)


@dataclass(frozen=True, slots=True, kw_only=True)
class LookContext:
    """What a look knows besides the picture.

    Attributes
    ----------
    frame : of the clip. scale : pixels of the picture for one of the clip, so that a blur looks alike at any size.
    x, y : where the picture's top-left pixel lies in the frame. behind : linear (h, w, 4), what it is laid over.
    """

    frame: int
    scale: float = 1.0
    x: int = 0
    y: int = 0
    behind: F32 | None = None


def straight(rgba: F32) -> F32:
    """Colours (h, w, 3) of a premultiplied picture, nought where there is none.

    Light that hides nothing (a glow beyond its source) counts as covering as much as it is bright.
    """
    weight = _weight(rgba)
    return np.where(weight > LEAST_ALPHA, rgba[..., :3] / np.maximum(weight, LEAST_ALPHA), 0).astype(np.float32)


def _weight(rgba: F32) -> F32:
    alpha = rgba[..., 3:]
    shine = np.clip(rgba[..., :3].max(axis=2, keepdims=True), 0, 1)
    return np.where(alpha < ONLY_LIGHT, np.maximum(alpha, shine), alpha).astype(np.float32)


def coloured(rgba: F32, colours: F32 | F64) -> F32:
    """The picture with other colours (straight, linear) under its own coverage."""
    return np.dstack([np.maximum(colours, 0) * _weight(rgba), rgba[..., 3]]).astype(np.float32)


def coded(light: F32) -> F32:
    """Display code 0 to 1; what is brighter than white goes on in a straight line."""
    over = np.maximum(light - 1, 0)
    return np.asarray(encode(np.clip(light, 0, 1)) + over, np.float32)


def lit(code: F32 | F64) -> F32:
    """The inverse of `coded`."""
    over = np.maximum(code - 1, 0)
    return np.asarray(decode(np.clip(code, 0, 1)) + over, np.float32)
