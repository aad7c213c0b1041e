"""Streaks: bright light drawn out into a star, as through a scratched or gridded glass."""

from __future__ import annotations

from typing import Literal

import cv2
import numpy as np

from plonket.base.colour import LUMA, linear_of
from plonket.base.conventions import F32
from plonket.base.fields import Number, colour, number, plain, value_at
from plonket.document.bases import LookBase
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext, lighted


class Streaks(LookBase):
    """Light above a threshold, drawn out along a few directions and added."""

    kind: Literal["streaks"] = "streaks"
    threshold: Number = number(85.0, label="From", low=0, high=100, step=1, unit="%", group="Streaks")
    rays: int = plain(2, label="Rays", low=2, high=16, step=1, group="Streaks", whole=True)
    angle: Number = number(0.0, label="Direction", low=-360, high=360, step=1, unit="°", group="Streaks", soft=(-90, 90))
    length: Number = number(120.0, label="Length", low=1, high=2000, step=1, unit="px", group="Streaks", soft=(10, 500))
    strength: Number = number(60.0, label="Strength", low=0, high=2000, step=1, unit="%", group="Streaks", soft=(0, 300))
    tint: str = colour("#cfe0ff", label="Colour", group="Streaks")


def reach(look: Streaks, frame: int) -> float:
    """How far they shine, in pixels of the clip."""
    return 3 * value_at(look.length, frame)


def run(rgba: F32, look: Streaks, context: LookContext) -> F32:
    """The picture with its streaks: each direction is a fall-off by e over a third of the length, to both sides."""
    f = context.frame
    level = (value_at(look.threshold, f) / 100) ** 2.2
    light = rgba[..., :3]
    bright = (light @ LUMA)[..., None]
    over = np.asarray(light * np.clip((bright - level) / np.maximum(bright, 1e-4), 0, 1), np.float32)
    length = max(value_at(look.length, f) * context.scale, 1.0)
    # Long streaks are worked out reduced.
    k = 1
    while length / k > 90 and min(rgba.shape[:2]) > 32 * k:
        k *= 2
    h, w = over.shape[:2]
    small = cv2.resize(over, (-(-w // k), -(-h // k)), interpolation=cv2.INTER_AREA) if k > 1 else over
    total = np.zeros_like(small)
    lines = max(1, look.rays // 2)
    for n in range(lines):
        kernel = line_kernel(length / k, value_at(look.angle, f) + 180 * n / lines, small.shape[:2])
        total += cv2.filter2D(small, -1, kernel, borderType=cv2.BORDER_CONSTANT)
    total = cv2.resize(total, (w, h), interpolation=cv2.INTER_LINEAR) if k > 1 else total
    # A streak spreads light over a line; its strength is told at its source.
    gain = np.float32(value_at(look.strength, f) / 100 * length / k * 0.12)
    return lighted(light + gain * total * linear_of(look.tint).astype(np.float32), rgba)


def line_kernel(length: float, angle: float, shape: tuple[int, int]) -> F32:
    """A line through the middle that falls off to both sides; whole, its sum is 1. It ends where a picture of `shape` does."""
    half = int(np.ceil(length)) + 1
    tall, wide = min(half, shape[0]), min(half, shape[1])
    y, x = np.mgrid[-tall : tall + 1, -wide : wide + 1]
    a = np.radians(angle)
    along, across = np.abs(x * np.cos(a) + y * np.sin(a)), np.abs(-x * np.sin(a) + y * np.cos(a))
    kernel = np.exp(-3 * along / length) * np.clip(1 - across, 0, 1) * (along <= length)
    # A line that is cut off keeps the strength of the whole one: the light that leaves the picture is lost.
    cut = tall < half or wide < half
    return np.asarray(kernel / (2 * length * (1 - np.exp(-3)) / 3 if cut else kernel.sum()), np.float32)


LOOKS.add(LookEntry(
    kind="streaks", order=140, label="Streaks", settings=Streaks, run=run, reach=reach,
    help="Bright light drawn out into a star.",
))  # fmt: skip
