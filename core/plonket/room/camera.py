"""The solved camera as the creator's room has it: projecting, and flat spots as homographies."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from plonket.base.conventions import F64
from plonket.base.fields import value_at
from plonket.base.registry import Entry
from plonket.document.kinds import PLACES
from plonket.document.spot import Spot
from plonket.room.alignment import Room
from plonket.room.camera_track import CameraTrack
from plonket.room.lens import Lens

BEHIND = 1e-6
"""Depth in metres before which nothing is seen."""
HIDDEN = np.array([[1e-9, 0.0, -1e7], [0.0, 1e-9, -1e7], [0.0, 0.0, 1.0]])
"""Where a spot goes that lies behind the camera: out of sight, and of no size."""


@dataclass(frozen=True, slots=True)
class RoomCamera:
    """A measured camera in its room.

    `still` : frame of the clip on which the room's light is as it is set, where it is the room that moves before a still
    camera. `moments` : (n,) the clip's moment that each frame shows, of footage that runs otherwise than it was `filmed`;
    `track` is then as it is at those.
    """

    track: CameraTrack
    room: Room
    still: int | None = None
    moments: F64 | None = None
    filmed: CameraTrack | None = None

    @staticmethod
    def at_moments(track: CameraTrack, room: Room, still: int | None, moments: F64) -> RoomCamera:
        """The camera as it is seen at the frames of a shot."""
        return RoomCamera(track.at_moments(moments), room, still, moments, track)

    def lit(self, frame: int) -> F64:
        """(3, 3) how the light lies in the room at a frame: of a room that moves, it stays with the camera."""
        if self.still is None:
            return np.eye(3)
        filmed = self.filmed or self.track
        at = min(self.still, filmed.frames - 1)
        return np.asarray(self.turn(frame) @ self.room.turns(filmed.rotation[at]).T)

    def eye(self, frame: int) -> F64:
        """(3,) metres."""
        return self.room.points(self.track.position[frame])

    def turn(self, frame: int) -> F64:
        """(3, 3) local-to-world; the camera looks along its -z."""
        return self.room.turns(self.track.rotation[frame])

    def lens(self, frame: int) -> Lens:
        return self.track.lens(frame)

    def local(self, frame: int, world: F64) -> F64:
        """World (..., 3) to x right, y down, z forward before the camera."""
        out = (world - self.eye(frame)) @ self.turn(frame)
        return np.asarray(out * np.array([1.0, -1.0, -1.0]))

    def project(self, frame: int, world: F64) -> F64:
        """World (..., 3) to pixels (..., 2), lens and read-out included; nan behind the camera."""
        local = self.local(frame, world)
        ahead = local[..., 2] > BEHIND
        safe = np.where(ahead[..., None], local, np.array([0.0, 0.0, 1.0]))
        out = self.lens(frame).pixels(safe)
        if self.track.readout:
            for _ in range(2):
                out = self.lens(frame).pixels(self._late(frame, safe, world, out))
        return np.where(ahead[..., None], out, np.nan)

    def _late(self, frame: int, local: F64, world: F64, seen: F64) -> F64:
        """Where points are before the camera at the moment in which their row is read."""
        row = seen[..., 1] / self.track.size[1] - 0.5
        out = local + self.track.readout * row[..., None] * self.speed(frame, world)
        return np.asarray(np.where(out[..., 2:] > BEHIND, out, local))

    def speed(self, frame: int, world: F64) -> F64:
        """World (..., 3) to how far points go before the camera in one frame of the clip, as `local`."""
        if self.filmed is not None and self.moments is not None:
            return RoomCamera(self.filmed, self.room).speed(round(float(self.moments[frame])), world)
        before, after = max(frame - 1, 0), min(frame + 1, self.track.frames - 1)
        return np.asarray((self.local(after, world) - self.local(before, world)) / max(after - before, 1))

    def goes_on(self, frame: int, other: int) -> bool:
        """Whether the clip runs on from a frame to one beside it, and does not jump there."""
        if self.moments is None:
            return True
        steps = np.abs(np.diff(self.moments))
        at = min(frame, other)
        beside = [float(steps[k]) for k in (at - 1, at + 1) if 0 <= k < len(steps)]
        return not beside or float(steps[at]) <= 2 * max(beside) + 0.5

    def ray(self, frame: int, pixel: F64) -> tuple[F64, F64]:
        """Where a pixel (2,) looks: the eye (3,) and a unit direction (3,) in the world."""
        way = self.lens(frame).rays(np.asarray(pixel, np.float64)) * np.array([1.0, -1.0, -1.0])
        out = self.turn(frame) @ way
        return self.eye(frame), out / np.linalg.norm(out)

    def flat(self, frame: int, centre: F64, right: F64, up: F64) -> F64:
        """Homography (3, 3) from a flat patch's own pixels to the frame's.

        Parameters
        ----------
        centre : (3,) world place of its origin. right, up : (3,) what one of its pixels spans, metres.
        """
        turn = self.turn(frame).T
        flip = np.array([1.0, -1.0, -1.0])
        origin = (turn @ (centre - self.eye(frame))) * flip
        if origin[2] <= BEHIND:
            return HIDDEN
        lens = self.lens(frame)
        k = np.array([[lens.focal, 0, lens.principal[0]], [0, lens.focal, lens.principal[1]], [0, 0, 1.0]])
        m = k @ np.stack([(turn @ right) * flip, (turn @ -up) * flip, origin], axis=1)
        if abs(m[2, 2]) < 1e-12:
            return HIDDEN
        m = m / m[2, 2]
        return np.asarray(self._bend(frame, m, centre) @ m)

    def _bend(self, frame: int, m: F64, centre: F64) -> F64:
        """What lens and read-out do to the plain picture round a patch's origin, as an affine map."""
        if self.track.lens(frame).straight and not self.track.readout:
            return np.eye(3)
        lens = self.lens(frame)
        at = m[:2, 2]
        step = 4.0
        plain = np.stack([at, at + [step, 0], at + [0, step]])
        bent = lens.distort((plain - np.array(lens.principal)) / lens.focal) * lens.focal + np.array(lens.principal)
        out = np.eye(3)
        out[:2, 0], out[:2, 1] = (bent[1] - bent[0]) / step, (bent[2] - bent[0]) / step
        # The origin itself is put where it is truly seen.
        true = self.project(frame, centre)
        out[:2, 2] = (true if np.isfinite(true).all() else bent[0]) - out[:2, :2] @ at
        return out


def spot_path(camera: RoomCamera, spot: Spot) -> F64:
    """(n, 3, 3) from a spot's own pixels to every frame's."""
    out = []
    for frame in range(camera.track.frames):
        centre, right, up = spot.stood(frame, camera.eye(frame), camera.turn(frame))
        size = value_at(spot.pixel_mm, frame) / 1000
        out.append(camera.flat(frame, centre, right * size, up * size))
    return np.stack(out)


def camera_movement(track: CameraTrack, reference: int) -> F64:
    """(n, 3, 3) from frame `reference`: the movement of what lies before it, at the depth of most details
    or of the form.

    Of a camera that only turns this is exact for everything.
    """
    camera = RoomCamera(track, Room())
    reference = min(reference, track.frames - 1)
    depth = 1.0
    if track.kind == "full" and track.kept.any():
        z = camera.local(reference, track.points[track.kept])[:, 2]
        z = z[z > BEHIND]
        depth = float(np.median(z)) if len(z) else 1.0
    elif track.kind == "full":
        # Of a form there are no details: it stands on its room's origin.
        foot = float(camera.local(reference, np.zeros(3))[2])
        depth = foot if foot > BEHIND else 1.0
    turn = camera.turn(reference)
    centre = camera.eye(reference) - turn[:, 2] * depth
    size = depth / float(track.focal[reference])
    path = np.stack([camera.flat(i, centre, turn[:, 0] * size, turn[:, 1] * size) for i in range(track.frames)])
    out = path @ np.linalg.inv(path[reference])
    return np.asarray(out / out[:, 2:, 2:])


PLACES.add(Entry(
    kind="spot", order=10, label="Spot in the room", settings=Spot, run=spot_path,
    help="Where a perch stands in a solved room.",
    groups=("In the room",),
))  # fmt: skip
