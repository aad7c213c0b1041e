"""The simulated phone's camera: lens, shutter and rolling read-out, exact projection."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from plonket.base.conventions import F64

Pose = Callable[[float], tuple[F64, F64]]


@dataclass(frozen=True, slots=True, kw_only=True)
class PhoneCamera:
    """A camera with a rolling shutter on a path.

    Attributes
    ----------
    size : (width, height) in pixels of the upright picture.
    focal_px : focal length in pixels; the principal point is the picture's centre.
    exposure_s : shutter time of one row in seconds.
    readout_s : time from the first row's read-out to the last row's (0: global shutter).
    k1, k2 : radial distortion on coordinates over the focal length (Brown); only the fast path films it.
    pose : t (seconds) -> position (3,), local-to-world rotation (3, 3).
    """

    size: tuple[int, int]
    focal_px: float
    pose: Pose
    exposure_s: float = 1 / 100
    readout_s: float = 0.0
    k1: float = 0.0
    k2: float = 0.0

    @property
    def principal(self) -> tuple[float, float]:
        return self.size[0] / 2, self.size[1] / 2

    def row_time(self, t: float, y: F64 | float) -> F64:
        """Middle of the exposure of the row at pixel coordinate `y`, for a frame taken at `t`."""
        return np.asarray(t + (np.asarray(y) / self.size[1] - 0.5) * self.readout_s)

    def project_at(self, when: float, world: F64) -> F64:
        """World points (n, 3) to pixels (n, 2) with the pose of time `when`, without read-out."""
        position, rotation = self.pose(when)
        local = (np.atleast_2d(world) - position) @ rotation
        depth = -local[:, 2]
        cx, cy = self.principal
        x, y = local[:, 0] / depth, local[:, 1] / depth
        r2 = x * x + y * y
        f = self.focal_px * (1 + r2 * (self.k1 + r2 * self.k2))
        return np.stack([cx + f * x, cy - f * y], axis=1)

    def project(self, t: float, world: Callable[[float], F64] | F64) -> F64:
        """Exact pixels (n, 2) of world points (n, 3) in the frame taken at `t`, read-out included.

        `world` may be a function of time for things that move. A point is seen by the row that is
        exposed when the point is on it, which is found by fixed-point iteration.
        """
        points = world if callable(world) else (lambda _w: world)
        out = self.project_at(t, np.atleast_2d(points(t)))
        if self.readout_s == 0.0:
            return out
        for k in range(len(out)):
            for _ in range(12):
                when = float(self.row_time(t, out[k, 1]))
                nxt = self.project_at(when, np.atleast_2d(points(when))[k : k + 1])[0]
                done = abs(nxt - out[k]).max() < 1e-9
                out[k] = nxt
                if done:
                    break
        return out
