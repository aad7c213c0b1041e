"""A paved yard with crates and a post, under a sun and a sky that are known: truth for whatever tells light from pictures."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

import cv2
import numpy as np

from plonket.base.conventions import F32, F64, U8
from plonket.base.states import GIVEN
from plonket.room.alignment import Room
from plonket.room.camera import RoomCamera
from plonket.room.camera_track import CameraTrack
from synth.phone import texture as tx
from synth.phone.camera import PhoneCamera
from synth.phone.film import FilmStudio
from synth.phone.path import HandheldPath
from synth.phone.sensor import Sensor
from synth.phone.solid import Light, MiniatureSet, box, lathe, panel, shift, turn

FAR_M = 30.0
"""How far off the sun stands: its light is nearly parallel."""
STANDS = (
    (-0.55, -0.1, 0.26, 0.34, 0.20, 25), (0.35, 0.2, 0.30, 0.20, 0.24, -30), (0.05, -0.5, 0.20, 0.42, 0.20, 10),
    (0.80, -0.3, 0.22, 0.30, 0.22, 0),
)  # fmt: skip
"""x, z, width, height, depth in metres and the turn in degrees of each crate; the last one is a round post."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Daylight:
    """Where a sun stands (degrees about the upright from +z, and above the ground), the half angle under which it is seen, and
    what a white surface that faces it shows by it, and by all the rest."""

    heading: float
    height: float
    soft_deg: float
    sun: tuple[float, float, float]
    sky: tuple[float, float, float]

    @property
    def way(self) -> F64:
        """(3,) unit vector towards the sun."""
        a, e = np.radians(self.heading), np.radians(self.height)
        return np.array([np.cos(e) * np.sin(a), np.sin(e), np.cos(e) * np.cos(a)])

    @property
    def missing(self) -> F64:
        """(3,) share of the light on level ground that a shadow takes away."""
        by = np.array(self.sun) * self.way[1]
        return np.asarray(by / (by + np.array(self.sky)))


@dataclass(frozen=True, slots=True, kw_only=True)
class YardTake:
    """A handheld take: 8-bit frames, what filmed them (positions (n, 3), local-to-world turns (n, 3, 3), pixels of
    focal length) and the details (m, 3) that a solve would find, with where they were seen (m, n, 2), nan elsewhere."""

    frames: list[U8]
    position: F64
    rotation: F64
    focal: float
    points: F64
    xy: F32

    def solved(self) -> RoomCamera:
        """The camera in its room, as a perfect solve would give it."""
        n, m = len(self.frames), len(self.points)
        height, width = self.frames[0].shape[:2]
        return RoomCamera(CameraTrack(
            size=(width, height), kind="full", locked=False, position=self.position, rotation=self.rotation,
            focal=np.full(n, self.focal), distortion=(0.0, 0.0, 0.0, 0.0, 0.0), readout=0.0,
            state=np.full(n, GIVEN, np.uint8), reason=np.zeros(n, np.uint8), confidence=np.ones(n, np.float32),
            error_px=np.zeros(n, np.float32), seen=np.full(n, m, np.int32), ids=np.arange(m), points=self.points,
            point_error=np.zeros(m, np.float32), angle=np.full(m, 9, np.float32), kept=np.ones(m, bool),
            strong=np.zeros(m, bool), xy=self.xy, noise=0.1, focal_doubt=0.0, followed="", warnings=(),
        ), Room())  # fmt: skip


def yard(light: Daylight, ground: F32, faces: list[F32]) -> MiniatureSet:
    """The set: a ground of eight metres, whose texture covers two, and things with a face each."""
    solids = [panel("ground", 8, 8, np.tile(ground, (4, 4, 1))).moved(turn("x", -90))]
    for k, ((x, z, w, h, d, turned), face) in enumerate(zip(STANDS, faces, strict=True)):
        if k == len(STANDS) - 1:
            post = lathe(f"thing{k}", [(0.001, 0), (w / 2, 0), (w / 2, h), (0.001, h)], face)
            solids.append(post.moved(shift(x, 0, z)))
        else:
            crate = box(f"thing{k}", (w, h, d), face, bevel=0.004)
            solids.append(crate.moved(shift(x, h / 2, z) @ turn("y", turned)))
    lights = []
    if max(light.sun) > 0:
        side = 2 * FAR_M * float(np.tan(np.radians(light.soft_deg))) * float(np.sqrt(np.pi)) / 2
        r, g, b = (float(v) * np.pi * FAR_M**2 / side**2 for v in light.sun)
        x, y, z = (float(v) for v in light.way * FAR_M)
        lights.append(Light(centre=(x, y, z), target=(0, 0, 0), size=(side, side), radiance=(r, g, b)))
    return MiniatureSet(solids=solids, lights=lights, ambient=light.sky)


def paving() -> tuple[F32, list[F32]]:
    """Textures of our own: planks for a ground, crates and a post."""
    ground = np.concatenate([tx.wood((700, 88), seed=300 + k) for k in range(8)])
    faces = [tx.crate_face((360, 360), seed=310 + k) for k in range(3)]
    return ground, [*faces, tx.plaster((360, 360), colour="#a09078", seed=320, rough=0.3)]


@cache
def yard_take(
    light: Daylight, textures: str = "own", *, size: tuple[int, int] = (512, 288), frames: int = 8, samples: int = 9
) -> YardTake:
    """A take of the yard with textures of a name; see `TEXTURES`."""
    ground, faces = TEXTURES[textures]()
    path = HandheldPath(eyes=np.array([(-0.65, 1.15, 2.0), (0.65, 1.1, 1.9)]), targets=np.array([(0, 0.1, -0.1)]),
                        seconds=frames / 3, seed=3, shake_m=0.004, shake_deg=0.3, tremor_deg=0.02)  # fmt: skip
    phone = PhoneCamera(size=size, focal_px=0.85 * size[0], pose=path.pose)
    studio = FilmStudio(yard(light, ground, faces), phone, samples=samples, pad=0)
    sensor, rng = Sensor(), np.random.default_rng(3)
    pictures, worlds = [], []
    for k in range(frames):
        exposure = studio.expose(k / 3)
        pictures.append(sensor.photograph(exposure.light, rng))
        worlds.append(exposure.world)
    poses = [phone.pose(k / 3) for k in range(frames)]
    points, xy = _details(pictures, worlds, phone, rng)
    return YardTake(frames=pictures, position=np.stack([p for p, _ in poses]), rotation=np.stack([r for _, r in poses]),
                    focal=0.85 * size[0], points=points, xy=xy)  # fmt: skip


TEXTURES = {"own": paving}
"""What a yard may be made of: a name and what makes its ground and its four faces, linear (h, w, 3)."""


def _details(pictures: list[U8], worlds: list[F32], phone: PhoneCamera, rng: np.random.Generator) -> tuple[F64, F32]:
    """Details as good as a solve's, 4 mm off: (m, 3) metres and (m, n, 2) pixels."""
    n, size = len(pictures), np.array(phone.size)
    found = []
    for f in (0, n // 2, n - 1):
        corners = cv2.goodFeaturesToTrack(cv2.cvtColor(pictures[f], cv2.COLOR_RGB2GRAY), 240, 0.01, 7)[:, 0]
        where = worlds[f][corners[:, 1].astype(int), corners[:, 0].astype(int)]
        found.append(where[np.isfinite(where).all(axis=1) & (np.abs(where).max(axis=1) < 4)])
    points = np.concatenate(found).astype(np.float64)
    points += rng.normal(0, 0.004, points.shape)
    xy = np.full((len(points), n, 2), np.nan, np.float32)
    for f in range(n):
        at = phone.project(f / 3, points)
        inside = np.flatnonzero(np.isfinite(at[:, 0]) & (at > 1).all(axis=1) & (at < size - 1).all(axis=1))
        seen = worlds[f][at[inside, 1].astype(int), at[inside, 0].astype(int)]
        there = inside[np.linalg.norm(seen - points[inside], axis=1) < 0.04]
        xy[there, f] = at[there]
    return points, xy
