"""Homographies (3, 3) from pixels to pixels: made, and taken at a spot."""

from __future__ import annotations

import numpy as np

from plonket.base.conventions import F64


def transform_point(m: F64, at: F64) -> F64:
    """A pixel (2,) through a (3, 3) matrix."""
    out = m @ np.array([at[0], at[1], 1.0])
    return np.asarray(out[:2] / out[2])


def jacobian(m: F64, at: F64) -> F64:
    """(2, 2) derivative of a homography at a spot."""
    x, y, w = m @ np.array([at[0], at[1], 1.0])
    return np.asarray((m[:2, :2] - np.outer([x / w, y / w], m[2, :2])) / w)


def translation(dx: float, dy: float) -> F64:
    """A shift as a (3, 3) matrix."""
    return np.array([[1.0, 0, dx], [0, 1.0, dy], [0, 0, 1.0]])


def rotation_scale(turn_deg: float, size: float) -> F64:
    """A turn and a size about the origin as a (3, 3) matrix."""
    a = np.radians(turn_deg)
    c, s = np.cos(a) * size, np.sin(a) * size
    return np.array([[c, -s, 0.0], [s, c, 0.0], [0, 0, 1.0]])
