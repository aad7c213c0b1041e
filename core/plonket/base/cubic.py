"""Catmull-Rom weights for compiled sampling."""

from __future__ import annotations

from typing import Any

import numba

from plonket.base.conventions import FAST


@numba.njit(cache=True, fastmath=FAST, inline="always", error_model="numpy")  # type: ignore[misc]
def cubic_weights(u: float, w: Any) -> None:
    """Weights of the four neighbours for the fraction `u` in [0, 1), into `w` (4,) of either precision.

    Source: E. Catmull and R. Rom, 1974, doi:10.1016/B978-0-12-079050-0.50020-5, with tension 1/2.
    """
    w[0] = u * (-0.5 + u * (1.0 - 0.5 * u))
    w[1] = 1.0 + u * u * (-2.5 + 1.5 * u)
    w[2] = u * (0.5 + u * (2.0 - 1.5 * u))
    w[3] = u * u * (-0.5 + 0.5 * u)
