"""Normals that are round over gentle bends and sharp over edges."""

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64

CREASE_DEG = 38.0
MANY_CORNERS = 64
"""Where more corners than this meet, they are compared by groups of like directions, not one by one."""
CELLS = 12
"""Groups along an edge of the cube that directions are sorted into: in the middle of a side, where they are
widest, each is 9.5 degrees wide."""


def creased(vertices: F64, faces: NDArray[np.int64]) -> F64:
    """(3 m, 3) a normal for each corner of each face: round over gentle bends, sharp over edges steeper than `CREASE_DEG`.

    Corners count as one where they lie in the same place, whether the file shares them or not.
    """
    extent = float(np.ptp(vertices, axis=0).max()) or 1.0
    grid = np.round(vertices / extent * 1e6).astype(np.int64)
    _, place = np.unique(grid, axis=0, return_inverse=True)
    at = place.reshape(-1)[faces]
    a, b, c = (vertices[faces[:, k]] for k in range(3))
    area = np.cross(b - a, c - a)
    order = np.argsort(at.ravel(), kind="stable")
    starts = np.searchsorted(at.ravel()[order], np.arange(at.max() + 2))
    out = np.empty((faces.size, 3))
    _average(area, order, starts, float(np.cos(np.radians(CREASE_DEG))), out)
    return out


@numba.njit(cache=True, parallel=True)  # type: ignore[misc]
def _average(area: Any, order: Any, starts: Any, alike: float, out: Any) -> None:
    for place in numba.prange(starts.shape[0] - 1):
        first, last = starts[place], starts[place + 1]
        if last - first > MANY_CORNERS:
            _average_groups(area, order[first:last], alike, out)
            continue
        for i in range(first, last):
            own = area[order[i] // 3]
            size = np.sqrt((own**2).sum())
            x, y, z = own[0], own[1], own[2]
            for j in range(first, last):
                other = area[order[j] // 3]
                along = own[0] * other[0] + own[1] * other[1] + own[2] * other[2]
                if j != i and along > alike * size * np.sqrt((other**2).sum()):
                    x, y, z = x + other[0], y + other[1], z + other[2]
            length = max(np.sqrt(x * x + y * y + z * z), 1e-300)
            out[order[i], 0], out[order[i], 1], out[order[i], 2] = x / length, y / length, z / length


@numba.njit(cache=True)  # type: ignore[misc]
def _average_groups(area: Any, corners: Any, alike: float, out: Any) -> None:
    """As `_average` for the corners of one place, by the mean directions of groups: linear in the corners."""
    sums = np.zeros((6 * CELLS * CELLS, 3))
    for corner in corners:
        sums[_cell(area[corner // 3])] += area[corner // 3]
    lengths = np.sqrt((sums**2).sum(axis=1))
    used = np.flatnonzero(lengths > 0)
    total = np.zeros_like(sums)
    for i in used:
        for j in used:
            if i == j or (sums[i] * sums[j]).sum() > alike * lengths[i] * lengths[j]:
                total[i] += sums[j]
        total[i] /= max(np.sqrt((total[i] ** 2).sum()), 1e-300)
    for corner in corners:
        own = area[corner // 3]
        if (own**2).sum() > 0:
            out[corner] = total[_cell(own)]
        else:
            out[corner] = 0.0


@numba.njit(cache=True)  # type: ignore[misc]
def _cell(direction: Any) -> int:
    """The cell of a cube's surface that a direction goes through."""
    axis = int(np.argmax(np.abs(direction)))
    size = abs(direction[axis])
    if not size > 0:
        return 0
    u, v = direction[(axis + 1) % 3] / size, direction[(axis + 2) % 3] / size
    i = min(max(int((u + 1) / 2 * CELLS), 0), CELLS - 1)
    j = min(max(int((v + 1) / 2 * CELLS), 0), CELLS - 1)
    return ((2 * axis + (1 if direction[axis] > 0 else 0)) * CELLS + i) * CELLS + j
