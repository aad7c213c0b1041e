"""A solved room as it goes out to other programs: its camera, its points, what stands in it and what lights it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Literal

import numpy as np

from plonket.base.conventions import F64
from plonket.room.alignment import Room
from plonket.room.camera_track import CameraTrack
from plonket.room.meshes.mesh import Mesh


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Placed:
    """A model as it stands in the room: its meshes, and (4, 4) room from model for every frame of the clip."""

    name: str
    model: Mesh
    stands: F64


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SetLight:
    """A light of the room.

    Attributes
    ----------
    shape : `sun`, far away, whose irradiance on what faces it `light` is; `sky`, from all round, the radiance; `soft`, a
    rectangle, the radiance; `point` and `spot`, the radiant intensity. Light of 1 leaves a white card as white: its radiance.
    light : (frames, 3) linear RGB. stands : (frames, 4, 4) rigid, room from light, which shines along its +z. wide, tall : of
    a rectangle, metres. cone, edge : half angles of a spot, all of it and what of it is lit evenly. soft : half angle of a sun.
    """

    name: str
    shape: Literal["sun", "sky", "soft", "point", "spot"]
    light: F64
    stands: F64
    wide: float = 0.0
    tall: float = 0.0
    cone: float = 0.0
    edge: float = 0.0
    soft: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Scene:
    """What is written."""

    track: CameraTrack
    room: Room
    fps: Fraction
    name: str = "camera"
    placed: Sequence[Placed] = ()
    lights: Sequence[SetLight] = ()

    def cut(self, start: int, stop: int) -> Scene:
        """Frames start..stop-1 of it, which count from 0 then."""
        part = slice(start, stop)
        return replace(
            self, track=self.track.at_moments(np.arange(start, stop, dtype=np.float64)),
            placed=[replace(one, stands=one.stands[part]) for one in self.placed],
            lights=[replace(one, stands=one.stands[part], light=one.light[part]) for one in self.lights],
        )  # fmt: skip

    def frames(self) -> np.ndarray:
        """The frames of which the camera is known."""
        return np.flatnonzero(self.track.known())

    def poses(self) -> F64:
        """(n, 4, 4) room from camera on those frames."""
        known = self.frames()
        out = np.tile(np.eye(4), (len(known), 1, 1))
        out[:, :3, :3] = self.room.turns(self.track.rotation[known])
        out[:, :3, 3] = self.room.points(self.track.position[known])
        return out

    def points(self) -> F64:
        """(n, 3) the solved points that are kept, in the room."""
        return self.room.points(self.track.points[self.track.kept])


def turned_about(stands: F64) -> F64:
    """(n, 4, 4) of what looks or shines along its -z, as glTF and USD have it, from what does so along +z."""
    return np.asarray(stands @ np.diag([-1.0, 1.0, -1.0, 1.0]))
