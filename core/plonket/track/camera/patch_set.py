"""The patches of many details that are followed together."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64
from plonket.track.camera.patches import AREA, UNKNOWNS, cut, match

LARGEST_STRETCH = 1.8


class Patches:
    """A row for each detail; see `patches.cut` for what the arrays hold."""

    def __init__(self) -> None:
        self.templates = np.zeros((0, AREA))
        self.slopes = np.zeros((0, AREA, UNKNOWNS))
        self.inverse = np.zeros((0, UNKNOWNS, UNKNOWNS))
        self.shape = np.zeros((0, 2, 2))

    def _cut(self, soft: F32, xy: F64) -> tuple[F64, F64, F64, NDArray[np.bool_]]:
        n = len(xy)
        templates, slopes = np.zeros((n, AREA)), np.zeros((n, AREA, UNKNOWNS))
        inverse, sound = np.zeros((n, UNKNOWNS, UNKNOWNS)), np.zeros(n, bool)
        cut(soft, xy, templates, slopes, inverse, sound)
        return templates, slopes, inverse, sound

    def add(self, soft: F32, xy: F64) -> NDArray[np.bool_]:
        templates, slopes, inverse, sound = self._cut(soft, xy)
        self.templates = np.concatenate([self.templates, templates[sound]])
        self.slopes = np.concatenate([self.slopes, slopes[sound]])
        self.inverse = np.concatenate([self.inverse, inverse[sound]])
        self.shape = np.concatenate([self.shape, np.tile(np.eye(2), (int(sound.sum()), 1, 1))])
        return sound

    def copy(self) -> Patches:
        """The same patches, which may then be moved by themselves."""
        out = Patches()
        out.templates, out.slopes = self.templates.copy(), self.slopes.copy()
        out.inverse, out.shape = self.inverse.copy(), self.shape.copy()
        return out

    def join(self, others: Patches) -> None:
        """Take others in, after one's own."""
        self.templates = np.concatenate([self.templates, others.templates])
        self.slopes = np.concatenate([self.slopes, others.slopes])
        self.inverse = np.concatenate([self.inverse, others.inverse])
        self.shape = np.concatenate([self.shape, others.shape])

    def renew(self, soft: F32, xy: F64, which: NDArray[np.bool_]) -> None:
        rows = np.flatnonzero(which)
        templates, slopes, inverse, sound = self._cut(soft, xy[rows])
        rows = rows[sound]
        self.templates[rows], self.slopes[rows], self.inverse[rows] = templates[sound], slopes[sound], inverse[sound]
        self.shape[rows] = np.eye(2)

    def only(self, keep: NDArray[np.bool_]) -> None:
        self.templates, self.slopes = self.templates[keep], self.slopes[keep]
        self.inverse, self.shape = self.inverse[keep], self.shape[keep]

    def match(self, soft: F32, xy: F64) -> F64:
        """Move `xy` (n, 2) to where the patches fit; the likeness (n,)."""
        likeness = np.empty(len(xy))
        match(soft, self.templates, self.slopes, self.inverse, xy, self.shape, likeness)
        return likeness

    def _sizes(self) -> tuple[F64, F64]:
        a, b = self.shape[:, 0], self.shape[:, 1]
        area = np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])
        longest = np.sqrt((self.shape**2).sum(axis=(1, 2)))
        return area, longest

    def plausible(self) -> NDArray[np.bool_]:
        area, longest = self._sizes()
        return np.asarray((area > 0.3) & (longest < 3.0))

    def stretched(self) -> NDArray[np.bool_]:
        area, longest = self._sizes()
        return np.asarray((longest / np.sqrt(2) > LARGEST_STRETCH**0.5) | (area < 1 / LARGEST_STRETCH))
