"""Truth shots of a room for tests and the bench: walls, a bench and crates at many depths, filmed by the fast path."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from functools import cache
from typing import Literal

import numpy as np

from plonket.base.conventions import F32, F64, U8
from plonket.base.states import TRACKED
from plonket.room.camera_track import CameraTrack
from synth.phone import texture as tx
from synth.phone.camera import PhoneCamera
from synth.phone.path import HandheldPath
from synth.phone.quick import Surface, quick_depth, quick_light
from synth.phone.quickset import defocused, quad
from synth.phone.sensor import Sensor

Move = Literal["push-in", "truck", "orbit", "pan", "locked", "walk"]

WAYS: dict[str, tuple[list[tuple[float, float, float]], list[tuple[float, float, float]]]] = {
    "push-in": ([(-0.1, 0.42, 1.9), (0.05, 0.34, 1.25)], [(0.0, 0.12, -0.1)]),
    "truck": ([(-0.42, 0.36, 1.5), (0.42, 0.34, 1.45)], [(-0.22, 0.12, 0.0), (0.22, 0.12, 0.0)]),
    "orbit": ([(-0.7, 0.4, 1.2), (0.0, 0.36, 1.45), (0.7, 0.42, 1.2)], [(0.0, 0.1, 0.0)]),
    "pan": ([(0.0, 0.36, 1.4)], [(-0.35, 0.14, 0.0), (0.35, 0.16, 0.0)]),
    "locked": ([(0.0, 0.36, 1.4)], [(0.0, 0.14, 0.0)]),
    "walk": ([(-0.5, 0.45, 1.9), (-0.1, 0.36, 1.5), (0.3, 0.34, 1.3)], [(-0.1, 0.1, 0.0), (0.1, 0.12, 0.0)]),
}  # fmt: skip

SOFT_PX = 0.8
"""Radius of the disc over which the lens spreads a point."""

CRATES = (
    ((-0.34, 0.09, 0.10), (0.20, 0.18, 0.16), 20),
    ((0.30, 0.06, 0.22), (0.16, 0.12, 0.14), -30),
    ((0.08, 0.13, -0.22), (0.26, 0.26, 0.14), 8),
    ((-0.05, 0.035, 0.42), (0.10, 0.07, 0.10), 40),
)
"""Centre, size in metres and turn in degrees about y."""


@dataclass(frozen=True, slots=True, kw_only=True)
class RoomShot:
    """A filmed truth shot of the room.

    Attributes
    ----------
    frames : upright 8-bit pictures. camera, times : what filmed them. mattes : where the puppet is, bool (h, w).
    spots : (n, 3) points on surfaces that are seen, metres.
    """

    frames: list[U8]
    camera: PhoneCamera
    times: F64
    rate: Fraction
    spots: F64
    puppet: Callable[[float], F64] | None
    surfaces: list[Surface]

    def depth(self, frame: int) -> F64:
        """(h, w) true z-depth in metres."""
        return quick_depth(self.surfaces, self.camera, float(self.times[frame]))

    def track(self) -> CameraTrack:
        """The camera as it was, with the places of what it saw."""
        n, m, camera = len(self.times), len(self.spots), self.camera
        position, rotation = self.poses()
        spots = np.moveaxis(self.pixels(self.spots), 0, 1).astype(np.float32)
        return CameraTrack(
            size=camera.size, kind="full", locked=False, position=position, rotation=rotation,
            focal=np.full(n, camera.focal_px), distortion=(camera.k1, camera.k2, 0, 0, 0),
            readout=camera.readout_s * float(self.rate), state=np.full(n, TRACKED, np.uint8), reason=np.zeros(n, np.uint8),
            confidence=np.ones(n, np.float32), error_px=np.zeros(n, np.float32), seen=np.full(n, m, np.int32),
            ids=np.arange(m), points=self.spots, point_error=np.zeros(m, np.float32), angle=np.full(m, 5, np.float32),
            kept=np.ones(m, bool), strong=np.zeros(m, bool), xy=spots, noise=0.1, focal_doubt=0.0, followed="", warnings=(),
        )  # fmt: skip

    def poses(self) -> tuple[F64, F64]:
        """Positions (n, 3) and local-to-world rotations (n, 3, 3) at the middle of each frame."""
        each = [self.camera.pose(float(t)) for t in self.times]
        return np.stack([p for p, _ in each]), np.stack([r for _, r in each])

    def pixels(self, world: F64) -> F64:
        """Exact pixels (frames, n, 2) of world points, read-out included."""
        return np.stack([self.camera.project(float(t), world) for t in self.times])


def room_shot(
    move: Move,
    *,
    size: tuple[int, int] = (640, 360),
    frames: int = 60,
    seed: int = 5,
    shake: float = 1.0,
    focal: float = 0.82,
    k1: float = 0.0,
    k2: float = 0.0,
    readout_s: float = 0.0,
    exposure_s: float = 0.0,
    puppet: bool = False,
    samples: int = 3,
    rate: Fraction = Fraction(30),
    sensor: Sensor | None = None,
) -> RoomShot:
    """A handheld shot of the room.

    Parameters
    ----------
    move : what the camera does; pan and locked stand on one spot without any shake of place.
    focal : over the picture's width. puppet : a tall card walks across, before most of the set.
    """
    eyes, targets = WAYS[move]
    still = move in ("pan", "locked")
    path = HandheldPath(
        eyes=np.array(eyes), targets=np.array(targets), seconds=max(frames / float(rate), 0.1), seed=seed,
        shake_m=0.0 if still else 0.004 * shake, shake_deg=0.0 if move == "locked" else 0.35 * shake,
        tremor_deg=0.0 if move == "locked" else 0.03 * shake,
    )  # fmt: skip
    camera = PhoneCamera(size=size, focal_px=focal * size[0], pose=path.pose, exposure_s=exposure_s,
                         readout_s=readout_s, k1=k1, k2=k2)  # fmt: skip
    surfaces, spots = _room()
    walker: Callable[[float], F64] | None = None
    if puppet:
        seconds = frames / float(rate)

        def walker(t: float) -> F64:
            x = -0.7 + 1.4 * t / seconds
            return quad((x, 0.27 + 0.012 * np.sin(9 * t), 0.34), 0.22, 0.54)

        surfaces = [*surfaces, Surface(name="puppet", corners=walker, texture=_coat())]
    times = np.arange(frames) / float(rate)
    sensor = sensor or Sensor()
    rng = np.random.default_rng(seed)
    pictures = [
        sensor.photograph(defocused(x, SOFT_PX), rng) for x in quick_light(surfaces, camera, times, samples=samples)
    ]
    return RoomShot(frames=pictures, camera=camera, times=times, rate=rate, spots=spots, puppet=walker,
                    surfaces=surfaces)


@cache
def _coat() -> F32:
    return tx.sea_chart((300, 700)) * np.array([0.5, 0.6, 0.9], np.float32)


@cache
def _room() -> tuple[list[Surface], F64]:
    wall = _worn(np.concatenate([tx.wood((1400, 120), seed=700 + k) for k in range(8)]), seed=1)
    bench = _worn(np.concatenate([tx.wood((1400, 160), seed=740 + k) for k in range(8)]), seed=2)
    side = tx.plaster((900, 700), colour="#9a8f7a", seed=11)
    surfaces = [
        Surface(name="wall", corners=quad((0, 0.55, -0.6), 3.2, 1.5), texture=wall),
        Surface(name="bench", corners=np.array([[-1.4, 0, -0.6], [1.4, 0, -0.6], [1.4, 0, 1.0], [-1.4, 0, 1.0]]),
                texture=bench),
        Surface(name="side", corners=np.array([[-1.2, 1.2, 0.9], [-1.2, 1.2, -0.6], [-1.2, 0, -0.6], [-1.2, 0, 0.9]]),
                texture=side),
        Surface(name="chart", corners=quad((-0.25, 0.62, -0.59), 0.6, 0.42), texture=tx.sea_chart((900, 630))),
        Surface(name="sign", corners=quad((0.5, 0.5, -0.45), 0.3, 0.3), texture=tx.sea_chart((420, 420))),
    ]  # fmt: skip
    spots = [np.array([[x, 0.0, z] for x in (-0.5, -0.2, 0.0, 0.25, 0.5) for z in (-0.3, 0.0, 0.3)]),
             np.array([[x, y, -0.6] for x in (-0.5, 0.0, 0.5) for y in (0.2, 0.4, 0.6)])]  # fmt: skip
    for k, (centre, extent, turned) in enumerate(CRATES):
        for n, (corners, shade) in enumerate(_crate(centre, extent, turned)):
            texture = tx.crate_face((420, 420), seed=800 + 7 * k + n) * np.float32(shade)
            surfaces.append(Surface(name=f"crate-{k}-{n}", corners=corners, texture=texture))
        spots.append(_crate(centre, extent, turned)[0][0])
    return surfaces, np.concatenate(spots)


def _worn(texture: F32, seed: int) -> F32:
    """The same with knots, nicks and stains."""
    rng = np.random.default_rng(seed)
    out = texture.copy()
    for _ in range(420):
        x, y = int(rng.integers(0, out.shape[1])), int(rng.integers(0, out.shape[0]))
        w, h = rng.integers(2, 11, 2)
        out[y : y + h, x : x + w] *= np.float32(rng.uniform(0.25, 0.7) if rng.random() < 0.7 else rng.uniform(1.3, 1.8))
    return out


def _crate(centre: tuple[float, float, float], extent: tuple[float, float, float], turned: float) -> list[tuple[F64, float]]:
    """Corners and brightness of the top and the four sides of a crate."""
    a = np.radians(turned)
    turn = np.array([[np.cos(a), 0, np.sin(a)], [0, 1, 0], [-np.sin(a), 0, np.cos(a)]])
    w, h, d = np.array(extent) / 2
    faces = [
        ([[-w, h, -d], [w, h, -d], [w, h, d], [-w, h, d]], 1.0),
        ([[-w, h, d], [w, h, d], [w, -h, d], [-w, -h, d]], 0.75),
        ([[w, h, d], [w, h, -d], [w, -h, -d], [w, -h, d]], 0.5),
        ([[-w, h, -d], [-w, h, d], [-w, -h, d], [-w, -h, -d]], 0.6),
        ([[w, h, -d], [-w, h, -d], [-w, -h, -d], [w, -h, -d]], 0.4),
    ]
    return [(np.array(corners) @ turn.T + np.array(centre), shade) for corners, shade in faces]
