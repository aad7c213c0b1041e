"""How differently two motions move: near and far things give themselves away by it, and so does what slips."""

from __future__ import annotations

import numpy as np

from plonket.base.conventions import F64
from plonket.base.homography import transform_point


def paths_of(first: F64, second: F64, spot: F64) -> F64:
    """(2, n, 2) pixels to which two movements take a spot.

    Parameters
    ----------
    first, second : (n, 3, 3) from the same frame to every frame. spot : (2,) pixels in that frame.
    """
    frames = min(len(first), len(second))
    return np.array([[transform_point(m, spot) for m in path[:frames]] for path in (first, second)])


def apart(paths: F64) -> F64:
    """(n,) pixels between the two `paths_of` a spot."""
    off = paths[0] - paths[1]
    return np.asarray(np.hypot(off[:, 0], off[:, 1]))
