"""Blur: soft, along a direction, or as a lens out of focus makes it."""

from __future__ import annotations

from typing import Literal

import cv2
import numpy as np

from plonket.base.conventions import F32
from plonket.base.fields import Number, choice, number, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext, blurred

WIDEST_PX = 48.0
"""Kernels up to this radius are laid on the picture as it is."""


class Blur(LookBase):
    """Light spread over its surroundings; coverage goes along, so that edges stay free of fringes."""

    kind: Literal["blur"] = "blur"
    shape: Literal["soft", "lens", "along"] = choice(
        "soft", label="As", group="Blur",
        names={"soft": "Soft", "lens": "A lens out of focus", "along": "A movement"})  # fmt: skip
    radius: Number = number(6.0, label="Radius", low=0, high=400, step=0.1, unit="px", group="Blur", soft=(0, 60))
    angle: Number = number(0.0, label="Direction", low=-360, high=360, step=1, unit="°", group="Blur", soft=(-180, 180))


def reach(look: Blur, frame: int) -> float:
    """How far beyond its edge the picture spreads, in pixels of the clip."""
    return value_at(look.radius, frame) * (3 if look.shape == "soft" else 1) + 2


def run(rgba: F32, look: Blur, context: LookContext) -> F32:
    """The blurred picture. The radius is the Gaussian's SD, the disc's radius, or half the length of the movement."""
    radius = value_at(look.radius, context.frame) * context.scale
    if radius < 0.1:
        return rgba
    if look.shape == "soft":
        return blurred(rgba, radius)
    # Wide ones are worked out reduced, which nothing shows.
    k = 1
    while radius / k > WIDEST_PX and min(rgba.shape[:2]) > 16 * k:
        k *= 2
    h, w = rgba.shape[:2]
    small = rgba if k == 1 else cv2.resize(rgba, (-(-w // k), -(-h // k)), interpolation=cv2.INTER_AREA)
    soft = cv2.filter2D(small, -1, _kernel(look, radius / k, context.frame), borderType=cv2.BORDER_REPLICATE)
    return np.asarray(soft if k == 1 else cv2.resize(soft, (w, h), interpolation=cv2.INTER_LINEAR), np.float32)


def _kernel(look: Blur, radius: float, frame: int) -> F32:
    """A disc or a line of a radius in pixels, its sum 1."""
    half = int(np.ceil(radius)) + 1
    y, x = np.mgrid[-half : half + 1, -half : half + 1]
    if look.shape == "lens":
        kernel = np.clip(radius + 0.5 - np.hypot(x, y), 0, 1)
    else:
        a = np.radians(value_at(look.angle, frame))
        along, across = x * np.cos(a) + y * np.sin(a), -x * np.sin(a) + y * np.cos(a)
        kernel = np.clip(radius + 0.5 - np.abs(along), 0, 1) * np.clip(1 - np.abs(across), 0, 1)
    return np.asarray(kernel / kernel.sum(), np.float32)


LOOKS.add(LookEntry(
    kind="blur", order=80, label="Blur", settings=Blur, run=run, reach=reach,
    help="Soft, as a lens out of focus, or as a movement.",
))  # fmt: skip
