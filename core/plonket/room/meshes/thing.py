"""A thing in a room, for what comes off it and for what flies against it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache, cached_property

import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64
from plonket.base.lru_cache import Budget, LruCache
from plonket.room.meshes.forms import Surface, edges_of, model_form, unit_form

SIDE, FACES_A_CELL = 40, 4
"""Cells along the longest side of a thing's box at the most, and triangles for which there is a cell."""
GRAZES = 1e-12


@dataclass(frozen=True)
class Body:
    """A thing's surface in its own units, and its triangles (m, 3, 3)."""

    surface: Surface
    corners: F64

    @classmethod
    def of(cls, surface: Surface) -> Body:
        return cls(surface, surface.corners())

    @cached_property
    def edges(self) -> tuple[F64, F64]:
        """(k, 2, 3) ends of its sharp edges and those of its rims, and (k, 3) which way out each of them is."""
        ends, sides = edges_of(self.surface)
        out = sides.sum(axis=1)
        return self.surface.vertices[ends], out / np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-12)

    @cached_property
    def box(self) -> F64:
        """(8, 3) corners of the box round it."""
        ends = np.stack([self.corners.min(axis=(0, 1)), self.corners.max(axis=(0, 1))])
        return np.array([[ends[i, 0], ends[j, 1], ends[k, 2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)])

    @cached_property
    def grid(self) -> tuple[F64, F64, NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
        """Lowest corner (3,) and size (3,) of a cell; cells each way (3,); where each cell's triangles begin, and they."""
        low, high = self.corners.min(axis=(0, 1)), self.corners.max(axis=(0, 1))
        room = np.maximum(high - low, 1e-6 * max(float((high - low).max()), 1e-9))
        low, room = low - 0.01 * room, 1.02 * room
        side = min(SIDE, max(1, round((len(self.corners) / FACES_A_CELL) ** 0.5)))
        cells = np.clip(np.ceil(side * room / room.max()), 1, SIDE).astype(np.int64)
        size = room / cells
        first, last = (np.clip(np.floor((at - low) / size), 0, cells - 1).astype(np.int64)
                       for at in (self.corners.min(axis=1), self.corners.max(axis=1)))  # fmt: skip
        starts, members = _filed(first, last, cells)
        return low, size, cells, starts, members

    def met(self, begins: F64, ends: F64) -> tuple[F64, NDArray[np.int64]]:
        """Where ways (n, 3) to (n, 3) first meet it from outside: shares of the way (n,), infinite where they do not; and the
        triangles."""
        share, which = np.full(len(begins), np.inf), np.full(len(begins), -1, np.int64)
        if len(begins):
            _meet(self.corners, *self.grid, np.ascontiguousarray(begins), np.ascontiguousarray(ends), share, which)
        return share, which


@dataclass(frozen=True, slots=True, kw_only=True)
class Thing:
    """A body where it stands: `stands` tells at a moment, in frames, (4, 4) from its own units to the room, of each copy."""

    body: Body
    stands: Callable[[float], list[F64]]


def model_body(path: str, extent: tuple[float, float, float]) -> Body:
    """An imported model, of that size in its own units. Raises `FormatError`."""
    return _BODIES.get((path, extent))


@cache
def form_body(kind: str) -> Body:
    """A simple form of unit size."""
    return Body.of(unit_form(kind))


_BODIES: LruCache[tuple[str, tuple[float, float, float]], Body] = LruCache(
    lambda key: Body.of(model_form(key[0]).scaled(key[1])), 32, budget=Budget(256 << 20)
)


def unit_normals(corners: F64) -> F64:
    """(m, 3) of triangles (m, 3, 3)."""
    n = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return np.asarray(n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-30))


@numba.njit(cache=True)  # type: ignore[misc]
def _filed(
    first: NDArray[np.int64], last: NDArray[np.int64], cells: NDArray[np.int64]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Which triangles reach into which cell."""
    count = np.zeros(cells[0] * cells[1] * cells[2] + 1, np.int64)
    for filling in range(2):
        if filling == 1:
            for c in range(len(count) - 1):
                count[c + 1] += count[c]
            members = np.empty(count[-1], np.int64)
            at = count[:-1].copy()
        for m in range(len(first)):
            for x in range(first[m, 0], last[m, 0] + 1):
                for y in range(first[m, 1], last[m, 1] + 1):
                    for z in range(first[m, 2], last[m, 2] + 1):
                        cell = (x * cells[1] + y) * cells[2] + z
                        if filling == 0:
                            count[cell + 1] += 1
                        else:
                            members[at[cell]] = m
                            at[cell] += 1
    return count, members


@numba.njit(cache=True, parallel=True)  # type: ignore[misc]
def _meet(
    corners: F64, low: F64, size: F64, cells: NDArray[np.int64], starts: NDArray[np.int64], members: NDArray[np.int64],
    begins: F64, ends: F64, share: F64, which: NDArray[np.int64],
) -> None:  # fmt: skip
    """The first triangle on each way that faces it. Source: T. Moeller, B. Trumbore, *Fast, minimum storage
    ray/triangle intersection*, 1997, doi:10.1080/10867651.1997.10487468."""
    for i in numba.prange(len(begins)):
        p, d = begins[i], ends[i] - begins[i]
        enters, leaves = 0.0, 1.0
        for k in range(3):
            a, b = low[k] - p[k], low[k] + size[k] * cells[k] - p[k]
            if abs(d[k]) < 1e-15:
                if a > 0 or b < 0:
                    leaves = -1.0
            else:
                a, b = a / d[k], b / d[k]
                enters, leaves = max(enters, min(a, b)), min(leaves, max(a, b))
        if enters > leaves:
            continue
        first, last = np.empty(3, np.int64), np.empty(3, np.int64)
        for k in range(3):
            a, b = (p[k] + enters * d[k] - low[k]) / size[k], (p[k] + leaves * d[k] - low[k]) / size[k]
            first[k] = min(max(int(min(a, b) - 1e-9), 0), cells[k] - 1)
            last[k] = min(max(int(max(a, b) + 1e-9), 0), cells[k] - 1)
        for x in range(first[0], last[0] + 1):
            for y in range(first[1], last[1] + 1):
                for z in range(first[2], last[2] + 1):
                    cell = (x * cells[1] + y) * cells[2] + z
                    for q in range(starts[cell], starts[cell + 1]):
                        m = members[q]
                        o = corners[m, 0]
                        e, f = corners[m, 1] - o, corners[m, 2] - o
                        hx, hy, hz = d[1] * f[2] - d[2] * f[1], d[2] * f[0] - d[0] * f[2], d[0] * f[1] - d[1] * f[0]
                        det = e[0] * hx + e[1] * hy + e[2] * hz
                        # From behind it is met by nothing: what begins inside goes out.
                        if det < GRAZES * (abs(hx) + abs(hy) + abs(hz)):
                            continue
                        s = p - o
                        u = (s[0] * hx + s[1] * hy + s[2] * hz) / det
                        if u < 0 or u > 1:
                            continue
                        qx, qy, qz = s[1] * e[2] - s[2] * e[1], s[2] * e[0] - s[0] * e[2], s[0] * e[1] - s[1] * e[0]
                        v = (d[0] * qx + d[1] * qy + d[2] * qz) / det
                        if v < 0 or u + v > 1:
                            continue
                        t = (f[0] * qx + f[1] * qy + f[2] * qz) / det
                        if 0 <= t <= 1 and t < share[i]:
                            share[i], which[i] = t, m
