"""Small truth shots for tests and the bench: the chart on the wall, filmed by the fast path."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from functools import cache

import cv2
import numpy as np

from plonket.base.conventions import F32, F64, U8
from synth.phone import texture as tx
from synth.phone.camera import PhoneCamera
from synth.phone.path import HandheldPath
from synth.phone.quick import Surface, quick_light
from synth.phone.sensor import Sensor

CHART = (0.60, 0.42)


@dataclass(frozen=True, slots=True, kw_only=True)
class QuickShot:
    """A filmed truth shot.

    Attributes
    ----------
    frames : upright 8-bit pictures. camera, times : what filmed them. rate : frames per second.
    """

    frames: list[U8]
    camera: PhoneCamera
    times: F64
    rate: Fraction

    def on_chart(self, u: float, v: float) -> F64:
        """Exact pixels (n, 2) of the chart spot at fractions (u right, v down) of its sides."""
        spot = np.array([[(u - 0.5) * CHART[0], (0.5 - v) * CHART[1], 0.0]])
        return np.array([self.camera.project(float(t), spot)[0] for t in self.times])


@cache
def _wall() -> F32:
    rows = [tx.wood((1600, 110), seed=900 + k) for k in range(8)]
    return np.concatenate(rows)


@cache
def _chart() -> F32:
    return tx.sea_chart((1200, 840))


def quad(centre: tuple[float, float, float], width: float, height: float) -> F64:
    """Corners (4, 3) of an upright rectangle facing +z, clockwise from top left."""
    x, y, z = centre
    w, h = width / 2, height / 2
    return np.array([[x - w, y + h, z], [x + w, y + h, z], [x + w, y - h, z], [x - w, y - h, z]])


def defocused(light: F32, radius_px: float) -> F32:
    """Linear light seen through a lens focused elsewhere: spread over a disc."""
    if radius_px < 0.3:
        return light
    half = int(np.ceil(radius_px)) + 1
    y, x = np.mgrid[-half : half + 1, -half : half + 1]
    disc = np.clip(radius_px + 0.5 - np.hypot(x, y), 0, 1).astype(np.float32)
    return np.asarray(cv2.filter2D(light, -1, disc / disc.sum(), borderType=cv2.BORDER_REPLICATE), np.float32)


def chart_shot(
    *,
    size: tuple[int, int] = (640, 360),
    frames: int = 60,
    seed: int = 3,
    eyes: list[tuple[float, float, float]] | None = None,
    shake: float = 1.0,
    exposure_s: float = 0.0,
    readout_s: float = 0.0,
    samples: int = 3,
    sensor: Sensor | None = None,
    hand: Callable[[float], F64] | None = None,
    light: Callable[[float], float] | None = None,
    rate: Fraction = Fraction(30),
    focal: float = 0.82,
    chart: F32 | None = None,
    defocus_px: Callable[[float], float] | None = None,
) -> QuickShot:
    """The chart on a plank wall, handheld.

    Parameters
    ----------
    eyes : way-points of the camera. shake : factor on the hand shake.
    hand : corners (4, 3) in metres of a plain dark card that passes before the wall, by time.
    light : brightness factor by time. chart : another texture in the chart's place.
    defocus_px : radius in pixels of the blur disc, by time.
    """
    path = HandheldPath(
        eyes=np.array(eyes or [(-0.06, 0.02, 0.92), (0.05, -0.02, 0.88)]),
        targets=np.array([[0.0, 0.0, 0.0]]),
        seconds=max(frames / float(rate), 0.1),
        seed=seed,
        shake_m=0.004 * shake,
        shake_deg=0.35 * shake,
        tremor_deg=0.03 * shake,
    )
    camera = PhoneCamera(
        size=size, focal_px=focal * size[0], pose=path.pose, exposure_s=exposure_s, readout_s=readout_s
    )
    surfaces = [
        Surface(name="wall", corners=quad((0, 0, -0.02), 2.6, 1.45), texture=_wall()),
        Surface(name="chart", corners=quad((0, 0, 0), *CHART), texture=_chart() if chart is None else chart),
    ]
    if hand is not None:
        card = tx.plaster((200, 200), colour="#3d2a22", seed=4)
        surfaces.append(Surface(name="hand", corners=hand, texture=card))
    times = np.arange(frames) / float(rate)
    sensor = sensor or Sensor()
    rng = np.random.default_rng(seed)
    pictures = [
        sensor.photograph(defocused(x, defocus_px(float(t))) if defocus_px else x, rng)
        for t, x in zip(times, quick_light(surfaces, camera, times, samples=samples, light=light), strict=True)
    ]
    return QuickShot(frames=pictures, camera=camera, times=times, rate=rate)
