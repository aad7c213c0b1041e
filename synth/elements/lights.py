"""The shelf's light maps: the light all round, twice as wide as tall, built by code."""

from __future__ import annotations

import cv2
import numpy as np

from plonket.base.conventions import F32, F64

SIZE = (512, 256)


def _ways() -> tuple[F64, F64, F64]:
    """For every pixel: degrees right of the map's middle, degrees above the horizon, and the latter's sine."""
    w, h = SIZE
    right = (np.arange(w) + 0.5) / w * 360 - 180
    above = 90 - (np.arange(h) + 0.5) / h * 180
    across, up = np.meshgrid(right, above)
    return across, up, np.sin(np.radians(up))


def _window(across: F64, up: F64, middle: float, wide: float, low: float, high: float, soft: float = 1.2) -> F64:
    """A rectangle of light with soft edges."""
    sides = np.clip((wide / 2 - np.abs(across - middle)) / soft + 0.5, 0, 1)
    return np.asarray(sides * np.clip((up - low) / soft + 0.5, 0, 1) * np.clip((high - up) / soft + 0.5, 0, 1))


def window_light() -> F32:
    """A workshop by day: a window of four panes on the left, warm wood all round, a lamp on the right."""
    across, up, sine = _ways()
    warm, cool = np.array([0.24, 0.17, 0.11]), np.array([6.5, 7.6, 9.2])
    level = 0.35 + 0.5 * np.clip(sine + 0.3, 0, 1) + 0.25 * np.exp(-(((across + 70) / 60) ** 2))
    out = level[..., None] * warm
    out[up < -8] *= 0.55
    panes = np.sum([_window(across, up, -70 + dx, 15, low, low + 17) for dx in (-8.5, 8.5) for low in (2, 21)], axis=0)
    sky = 0.75 + 0.5 * np.clip(up / 40, 0, 1)
    out = out * (1 - panes[..., None]) + (panes * sky)[..., None] * cool
    lamp = np.exp(-((((across - 105) / 5) ** 2) + ((up - 28) / 5) ** 2))
    out = out + lamp[..., None] * np.array([34.0, 19.0, 8.0])
    return np.asarray(cv2.GaussianBlur(out.astype(np.float32), (0, 0), 0.8), np.float32)


def evening_light() -> F32:
    """An evening by the harbour: a low sun ahead on the right, a sky from gold to blue, dark water below."""
    across, up, sine = _ways()
    t = np.clip(sine, 0, 1)[..., None]
    low, middle, high = (np.array(c) for c in ([1.5, 0.78, 0.36], [0.5, 0.52, 0.66], [0.16, 0.3, 0.62]))
    sky = (1 - t) ** 2 * low + 2 * t * (1 - t) * middle + t**2 * high
    way = np.hypot((across - 35) * np.cos(np.radians(up)), up - 11)
    glow = np.exp(-((way / 26) ** 2))[..., None] * np.array([2.2, 1.0, 0.36])
    sun = np.clip((2.2 - way) / 0.8, 0, 1)[..., None] * np.array([420.0, 250.0, 110.0])
    water = np.array([0.05, 0.06, 0.08]) + 0.3 * np.exp(np.minimum(up, 0) / 9)[..., None] * np.array([1.0, 0.6, 0.34])
    over = np.clip(up / 1.5 + 0.5, 0, 1)[..., None]
    return np.asarray((sky + glow + sun) * over + water * (1 - over), np.float32)
