"""Blur: soft, along a direction, or as a lens out of focus makes it."""

from __future__ import annotations

from typing import Literal

import cv2
import numpy as np

from plonket.base.conventions import F32
from plonket.base.fields import Number, choice, number, plain, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext, blurred

CLIPS = (0.72, 0.98)
"""Light from which on, and at which wholly, the picture may have been too dark to show how bright a thing is."""
WIDEST_PX = 48.0
"""Kernels up to this radius are laid on the picture as it is."""


class Blur(LookBase):
    """Light spread over its surroundings; coverage goes along, so that edges stay free of fringes."""

    kind: Literal["blur"] = "blur"
    shape: Literal["soft", "lens", "along"] = choice(
        "soft", label="As", group="Blur",
        names={"soft": "Soft", "lens": "A lens out of focus", "along": "A movement"})  # fmt: skip
    radius: Number = number(6.0, label="Radius", low=0, high=400, step=0.1, unit="px", group="Blur", soft=(0, 60))
    angle: Number = number(0.0, label="Direction", low=-360, high=360, step=1, unit="°", group="Blur", soft=(-180, 180),
                           help="Of the movement; of a lens, how its blades are turned.")  # fmt: skip
    blades: int = plain(0, label="Blades", low=0, high=16, step=1, group="Lens", whole=True,
                        help="Corners of the lens's opening, which bright spots show. Below 3 it is round.")  # fmt: skip
    bulge: float = plain(35, label="Rounded", low=0, high=100, step=1, unit="%", group="Lens",
                         help="How far the blades' sides bulge towards a circle.")  # fmt: skip
    rim: float = plain(0, label="Bright rim", low=-100, high=200, step=1, unit="%", group="Lens",
                       help="How much brighter a disc is at its rim than in its middle.")  # fmt: skip
    discs: Number = number(0.0, label="Bright discs", low=0, high=2000, step=5, unit="%", group="Lens", soft=(0, 400),
                           help="How much brighter lamps and glints truly are than the picture could show.")  # fmt: skip


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
    if look.shape == "lens":
        small = _brightened(small, value_at(look.discs, context.frame) / 100)
    soft = cv2.filter2D(small, -1, _kernel(look, radius / k, context.frame), borderType=cv2.BORDER_REPLICATE)
    return np.asarray(soft if k == 1 else cv2.resize(soft, (w, h), interpolation=cv2.INTER_LINEAR), np.float32)


def _brightened(rgba: F32, more: float) -> F32:
    """Light at the picture's white as much brighter as it may have been: what was clipped makes discs, the rest stays as it
    is."""
    if more <= 0:
        return rgba
    out = rgba.copy()
    top = rgba[..., :3].max(axis=2) / np.maximum(rgba[..., 3], np.float32(1e-3))
    share = np.clip((top - CLIPS[0]) / (CLIPS[1] - CLIPS[0]), 0, 1) ** 2
    out[..., :3] *= (1 + np.float32(more) * share)[..., None]
    return np.asarray(out, np.float32)


def _kernel(look: Blur, radius: float, frame: int) -> F32:
    """A lens's opening or a line of a radius in pixels, its sum 1."""
    half = int(np.ceil(radius)) + 1
    y, x = np.mgrid[-half : half + 1, -half : half + 1].astype(np.float64)
    a = np.radians(value_at(look.angle, frame))
    if look.shape == "lens":
        far = np.hypot(x, y)
        edge = np.full_like(far, radius)
        if look.blades >= 3:
            # Straight blades touch the circle at their corners; rounded ones lie between.
            part = 2 * np.pi / look.blades
            side = np.cos(part / 2) / np.cos((np.arctan2(y, x) - a) % part - part / 2)
            edge = radius * (side + (1 - side) * look.bulge / 100)
        kernel = np.clip(edge + 0.5 - far, 0, 1)
        kernel *= np.maximum(1 + look.rim / 100 * (np.minimum(far / np.maximum(edge, 1e-6), 1) ** 4 - 1 / 3), 0)
    else:
        along, across = x * np.cos(a) + y * np.sin(a), -x * np.sin(a) + y * np.cos(a)
        kernel = np.clip(radius + 0.5 - np.abs(along), 0, 1) * np.clip(1 - np.abs(across), 0, 1)
    return np.asarray(kernel / kernel.sum(), np.float32)


LOOKS.add(LookEntry(
    kind="blur", order=80, label="Blur", settings=Blur, run=run, reach=reach,
    help="Soft, as a lens out of focus, or as a movement.", groups=("Blur", ("Lens", {"shape": ("lens",)})),
))  # fmt: skip
