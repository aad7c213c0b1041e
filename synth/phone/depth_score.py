"""How well depth is told, against the depth that is known."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64

OFF = 0.05
"""Share of a depth from which on it is bad."""
JUMP = 0.1
"""Share by which it changes from pixel to pixel at an edge."""
NEAR_PX = 4.0
"""Pixels within which an edge counts as found."""


@dataclass(frozen=True, slots=True)
class DepthScore:
    """Shares: `median` error, how much is `bad`, how much of what is there is `answered`, how many `edges` are found, and how
    many `false` ones there are for each true one."""

    median: float
    bad: float
    answered: float
    edges: float
    false: float

    def __str__(self) -> str:
        return (
            f"median {100 * self.median:.2f} %, {100 * self.bad:.1f} % off by more than 5, {100 * self.answered:.0f} % answered"
            f", edges {100 * self.edges:.0f} % found, {100 * self.false:.0f} % false"
        )


def depth_score(depth: F32, true: F64) -> DepthScore:
    """Of z-depths (h, w), 0 unknown, against true ones, inf where nothing is."""
    there = np.isfinite(true)
    known = (depth > 0) & there
    off = np.abs(depth[known] - true[known]) / true[known]
    real, told = _jumps(true), _jumps(depth.astype(np.float64))
    from_real, from_told = (cv2.distanceTransform((~one).astype(np.uint8), cv2.DIST_L2, 5) for one in (real, told))
    edges = float((from_told[real] <= NEAR_PX).mean()) if real.any() else 1.0
    false = float((from_real[told] > NEAR_PX).sum()) / max(int(real.sum()), 1)
    return DepthScore(float(np.median(off)), float((off > OFF).mean()), float(known.sum() / there.sum()), edges, false)


def _jumps(depth: F64) -> NDArray[np.bool_]:
    """(h, w) on both sides of each edge."""
    z = np.where((depth > 0) & np.isfinite(depth), depth, np.nan)
    out = np.zeros(z.shape, bool)
    with np.errstate(all="ignore"):
        across = np.abs(np.diff(z, axis=1)) / np.minimum(z[:, 1:], z[:, :-1]) > JUMP
        down = np.abs(np.diff(z, axis=0)) / np.minimum(z[1:], z[:-1]) > JUMP
    for part, one in ((np.s_[:, 1:], across), (np.s_[:, :-1], across), (np.s_[1:], down), (np.s_[:-1], down)):
        out[part] |= one
    return out
