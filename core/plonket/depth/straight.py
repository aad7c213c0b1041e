"""Frames of a clip as a pinhole would have seen them, at a reduced size, and how they lie to each other."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np

from plonket.base.coarse import coarsely
from plonket.base.conventions import F32, F64, U8
from plonket.room.camera_track import CameraTrack

FLIP = np.diag([1.0, -1.0, -1.0])
"""From the world's axes before a camera to x right, y down, z forward."""
KEPT = 24
COARSE = 8
"""Pixels within which a lens bends nothing more."""


@dataclass(frozen=True, slots=True)
class Lies:
    """How a picture lies to another one, row by row of the first.

    turn : (h, 3, 3) and shift : (h, 3), so that pixel (x, y) with inverse depth d goes to turn (x, y, 1) + d shift.
    """

    turn: F32
    shift: F32

    def reduced(self, full: tuple[int, int], size: tuple[int, int]) -> Lies:
        """The same between pictures of another size (width, height)."""
        sx, sy = full[0] / size[0], full[1] / size[1]
        up = np.array([[sx, 0, 0.5 * sx - 0.5], [0, sy, 0.5 * sy - 0.5], [0, 0, 1]])
        down = np.linalg.inv(up)
        rows = np.clip(((np.arange(size[1]) + 0.5) * sy - 0.5).round().astype(int), 0, full[1] - 1)
        turn = down @ self.turn[rows].astype(np.float64) @ up
        shift = self.shift[rows].astype(np.float64) @ down.T
        return Lies(np.ascontiguousarray(turn, np.float32), np.asarray(shift, np.float32))


class Straight:
    """Grey and coloured frames without the lens's distortion, `width` pixels across.

    Parameters
    ----------
    rgb : frame -> 8-bit (h, w, 3) of the clip. track : the solved camera.
    """

    def __init__(self, rgb: Callable[[int], U8], track: CameraTrack, width: int) -> None:
        self.track = track
        self.scale = width / track.size[0]
        self.size = (width, max(2, round(track.size[1] * self.scale)))
        self._rgb = rgb
        self._grey: OrderedDict[int, F32] = OrderedDict()

    def inner(self, frame: int) -> F64:
        """(3, 3) from directions (x right, y down, z forward) to array indices of the reduced picture."""
        lens = self.track.lens(frame)
        f, (cx, cy) = lens.focal * self.scale, lens.principal
        return np.array([[f, 0, cx * self.scale - 0.5], [0, f, cy * self.scale - 0.5], [0, 0, 1.0]])

    def colour(self, frame: int) -> U8:
        """8-bit (h, w, 3)."""
        return self.reduced(self._rgb(frame), frame)

    def reduced(self, codes: U8, frame: int) -> U8:
        """What lies in a frame as it was filmed, 8-bit (H, W) or (H, W, 3), as it lies in the reduced one."""
        if self.track.lens(frame).straight:
            return np.asarray(cv2.resize(codes, self.size, interpolation=cv2.INTER_AREA), np.uint8)
        soft = cv2.GaussianBlur(codes, (0, 0), 0.4 / self.scale) if self.scale < 0.9 else codes
        x, y = self.bent_grid(frame)
        return np.asarray(cv2.remap(soft, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE), np.uint8)

    def bent_grid(self, frame: int) -> tuple[F32, F32]:
        """Where each reduced pixel lies in the clip's frame, as array indices there (h, w) each."""
        lens = self.track.lens(frame)

        def bent(at: F64) -> F64:
            flat = (at / self.scale - np.array(lens.principal)) / lens.focal
            return lens.distort(flat) * lens.focal + np.array(lens.principal) - 0.5

        at = coarsely(bent, self.size, COARSE)
        return np.ascontiguousarray(at[..., 0]), np.ascontiguousarray(at[..., 1])

    def grey(self, frame: int) -> F32:
        """(h, w) codes."""
        if frame not in self._grey:
            self._grey[frame] = np.asarray(cv2.cvtColor(self.colour(frame), cv2.COLOR_RGB2GRAY), np.float32)
            while len(self._grey) > KEPT:
                self._grey.popitem(last=False)
        self._grey.move_to_end(frame)
        return self._grey[frame]

    def poses(self, frame: int) -> tuple[F64, F64]:
        """World to camera for each row: (h, 3, 3) and (h, 3), x right, y down, z forward, at the moment it is read."""
        track, h = self.track, self.size[1]
        turn, eye = FLIP @ track.rotation[frame].T, track.position[frame]
        if not track.readout:
            return np.repeat(turn[None], h, axis=0), np.repeat((-turn @ eye)[None], h, axis=0)
        late = track.readout * ((np.arange(h) + 0.5) / h - 0.5)
        before, after = max(frame - 1, 0), min(frame + 1, track.frames - 1)
        steps = max(after - before, 1)
        speed = (track.position[after] - track.position[before]) / steps
        spin = cv2.Rodrigues(track.rotation[before].T @ track.rotation[after])[0][:, 0] / steps
        turns = np.stack([FLIP @ (track.rotation[frame] @ cv2.Rodrigues(spin * t)[0]).T for t in late])
        eyes = eye + late[:, None] * speed
        return turns, -np.einsum("hij,hj->hi", turns, eyes)

    def lies(self, frame: int, other: int) -> Lies:
        """How a frame lies to another one."""
        r0, t0 = self.poses(frame)
        r1, t1 = self.poses(other)
        back = np.linalg.inv(self.inner(frame))
        turn = np.einsum("hij,hkj->hik", r1, r0)
        shift = t1 - np.einsum("hij,hj->hi", turn, t0)
        inner = self.inner(other)
        return Lies(np.asarray(inner @ turn @ back, np.float32), np.asarray(shift @ inner.T, np.float32))
