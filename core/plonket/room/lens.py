"""A lens: focal length, principal point and distortion."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from plonket.base.conventions import F64

FULL_FRAME_MM = 36.0
"""Width of the picture that 35 mm equivalents refer to, measured along the longer side."""
UNDO_STEPS = 20


@dataclass(frozen=True, slots=True, kw_only=True)
class Lens:
    """A pinhole with Brown distortion; pixel coordinates as in `plonket.base.conventions`.

    Attributes
    ----------
    focal : pixels. principal : (x, y) pixels.
    k1, k2, k3 : radial, p1, p2 : tangential coefficients on coordinates over the focal length.

    Source: D. Brown, *Close-range camera calibration*, 1971.
    """

    focal: float
    principal: tuple[float, float]
    k1: float = 0.0
    k2: float = 0.0
    p1: float = 0.0
    p2: float = 0.0
    k3: float = 0.0

    @property
    def straight(self) -> bool:
        """Whether straight lines stay straight."""
        return self.k1 == self.k2 == self.k3 == self.p1 == self.p2 == 0.0

    def distort(self, flat: F64) -> F64:
        """Undistorted coordinates over the focal length (..., 2) to distorted ones."""
        x, y = flat[..., 0], flat[..., 1]
        r2 = x * x + y * y
        radial = 1 + r2 * (self.k1 + r2 * (self.k2 + r2 * self.k3))
        return np.stack(
            [
                x * radial + 2 * self.p1 * x * y + self.p2 * (r2 + 2 * x * x),
                y * radial + self.p1 * (r2 + 2 * y * y) + 2 * self.p2 * x * y,
            ],
            axis=-1,
        )

    def undistort(self, bent: F64) -> F64:
        """The opposite of `distort`, by fixed-point iteration; (..., 2)."""
        out = np.array(bent, np.float64)
        if not self.straight:
            for _ in range(UNDO_STEPS):
                out = out - (self.distort(out) - bent)
        return out

    def pixels(self, camera: F64) -> F64:
        """Points before the camera (..., 3), x right, y down, z forward, to pixels (..., 2)."""
        return self.distort(camera[..., :2] / camera[..., 2:]) * self.focal + np.array(self.principal)

    def rays(self, pixels: F64) -> F64:
        """Pixels (..., 2) to directions (..., 3) with z = 1."""
        flat = self.undistort((pixels - np.array(self.principal)) / self.focal)
        return np.concatenate([flat, np.ones((*flat.shape[:-1], 1))], axis=-1)

    def undistort_pixels(self, pixels: F64) -> F64:
        """Pixels (n, 2) as a lens without distortion would have them, (n, 2)."""
        return self.undistort((pixels - np.array(self.principal)) / self.focal) * self.focal + np.array(self.principal)


def focal_from_35mm(equivalent_mm: float, size: tuple[int, int]) -> float:
    """Focal length in pixels of a 35 mm equivalent: 36 mm lie along the longer side."""
    return equivalent_mm / FULL_FRAME_MM * max(size)


def focal_to_35mm(focal_px: float, size: tuple[int, int]) -> float:
    return focal_px / max(size) * FULL_FRAME_MM
