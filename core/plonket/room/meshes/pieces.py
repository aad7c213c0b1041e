"""A rectangle cut into pieces: where its cracks run, and the pieces as solid plates."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from scipy.spatial import Voronoi

from plonket.base.conventions import F64

CALM_ROUNDS = 2
"""Shards begin at random and are evened out so many times."""
UNEVEN = 0.35
"""Share of its length by which a plank's end may lie elsewhere."""


def shards(wide: float, deep: float, count: int, seed: int) -> list[F64]:
    """Some `count` shards as of glass or plaster, smaller towards the middle: convex, (k, 2) corners anticlockwise each."""
    rng = np.random.default_rng([seed, 11])
    half = np.array([wide, deep]) / 2
    u = rng.uniform(-1, 1, (max(count, 2), 2))
    points = u * np.abs(u).max(axis=1, keepdims=True) ** 0.6 * half * 0.98
    cells = _cells(points, half)
    for _ in range(CALM_ROUNDS):
        points = points * 0.5 + 0.5 * np.array([cell.mean(axis=0) for cell in cells])
        cells = _cells(points, half)
    return cells


def _cells(points: F64, half: F64) -> list[F64]:
    """(k, 2) what of the rectangle lies nearest to each point."""
    # Mirrored in all four sides: the cells end there.
    mirrored = [points]
    for axis in range(2):
        for side in (-1, 1):
            other = points.copy()
            other[:, axis] = 2 * side * half[axis] - other[:, axis]
            mirrored.append(other)
    found = Voronoi(np.concatenate(mirrored))
    out = []
    for k in range(len(points)):
        corners = found.vertices[found.regions[found.point_region[k]]]
        middle = corners.mean(axis=0)
        around = np.argsort(np.arctan2(*(corners - middle).T[::-1]))
        out.append(np.clip(corners[around], -half, half))
    return out


def planks(wide: float, deep: float, count: int, seed: int, rows: int = 6) -> list[F64]:
    """Some `count` planks along the rectangle's depth in rows, their ends at different places: outlines (k, 2), metres."""
    rng = np.random.default_rng([seed, 12])
    long = max(1, round(count / rows))
    edges = np.linspace(-wide / 2, wide / 2, rows + 1)
    out = []
    for left, right in zip(edges[:-1], edges[1:], strict=True):
        cuts = (np.arange(1, long) + rng.uniform(-UNEVEN, UNEVEN, long - 1)) / long if long > 1 else np.zeros(0)
        ends = deep * (np.concatenate([[0.0], np.sort(cuts), [1.0]]) - 0.5)
        out += [np.array([[left, a], [right, a], [right, b], [left, b]]) for a, b in zip(ends[:-1], ends[1:], strict=True)]
    return out


def tiles(wide: float, deep: float, count: int, seed: int) -> list[F64]:
    """Some `count` equal tiles, about as wide as deep: outlines (4, 2), metres."""
    across = max(1, round(np.sqrt(count * wide / deep)))
    down = max(1, round(count / across))
    xs, ys = np.linspace(-wide / 2, wide / 2, across + 1), np.linspace(-deep / 2, deep / 2, down + 1)
    return [np.array([[xs[i], ys[j]], [xs[i + 1], ys[j]], [xs[i + 1], ys[j + 1]], [xs[i], ys[j + 1]]])
            for j in range(down) for i in range(across)]  # fmt: skip


def cut_up(pattern: str, wide: float, deep: float, count: int, seed: int, rows: int) -> list[F64]:
    """A rectangle in pieces of a pattern of `PATTERNS`; rows : of planks."""
    return planks(wide, deep, count, seed, rows) if pattern == "planks" else PATTERNS[pattern](wide, deep, count, seed)


PATTERNS: dict[str, Callable[[float, float, int, int], list[F64]]] = {"shards": shards, "planks": planks, "tiles": tiles}


def area_of(polygon: F64) -> float:
    """Of a polygon (k, 2) whose corners run anticlockwise."""
    x, y = polygon.T
    return float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum() / 2)


def centre_of(polygon: F64) -> F64:
    """(2,) the middle of what a polygon (k, 2) covers."""
    x, y = polygon.T
    cross = x * np.roll(y, -1) - np.roll(x, -1) * y
    whole = cross.sum()
    if abs(whole) < 1e-12:
        return np.asarray(polygon.mean(axis=0))
    return np.array([((v + np.roll(v, -1)) * cross).sum() for v in (x, y)]) / (3 * whole)


def plate_of(polygon: F64, thick: float) -> tuple[F64, F64]:
    """A piece as a solid plate whose face lies in y = 0, and which reaches down from there.

    Parameters
    ----------
    polygon : (k, 2) x and z of its corners, convex.

    Returns
    -------
    Triangles (m, 3, 3) of its face, and of its sides and back (n, 3, 3), all seen from where they run anticlockwise.
    """
    if area_of(polygon) > 0:
        # From above, with z towards the viewer, what runs anticlockwise in x and z runs clockwise.
        polygon = polygon[::-1]
    top = np.column_stack([polygon[:, 0], np.zeros(len(polygon)), polygon[:, 1]])
    low = top - [0, thick, 0]
    fan = np.arange(1, len(top) - 1)
    face = np.stack([np.repeat(top[:1], len(fan), axis=0), top[fan], top[fan + 1]], axis=1)
    back = np.stack([np.repeat(low[:1], len(fan), axis=0), low[fan + 1], low[fan]], axis=1)
    after, under = np.roll(top, -1, axis=0), np.roll(low, -1, axis=0)
    sides = np.concatenate([np.stack([top, low, after], axis=1), np.stack([after, low, under], axis=1)])
    return face, np.concatenate([sides, back])


def normals_of(triangles: F64) -> F64:
    """(m, 3, 3) each triangle's own normal at its corners."""
    n = np.cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0])
    n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-15)
    return np.repeat(n[:, None], 3, axis=1)


def _quads(quads: Sequence[Sequence[tuple[float, float, float]]]) -> F64:
    return np.array([[q[a], q[b], q[c]] for q in quads for a, b, c in ((0, 1, 2), (0, 2, 3))], np.float64)


def ring_of(wide: float, deep: float, far: float) -> F64:
    """(m, 3, 3) the surface round a rectangle, so far out."""
    x, z = wide / 2, deep / 2
    return _quads([
        [(-far, 0, far), (-x, 0, far), (-x, 0, -far), (-far, 0, -far)],
        [(x, 0, far), (far, 0, far), (far, 0, -far), (x, 0, -far)],
        [(-x, 0, -z), (x, 0, -z), (x, 0, -far), (-x, 0, -far)], [(-x, 0, far), (x, 0, far), (x, 0, z), (-x, 0, z)],
    ])  # fmt: skip


def hollow_of(wide: float, deep: float, down: float) -> F64:
    """(m, 3, 3) the sides and the bottom behind a surface, seen from within."""
    x, z, y = wide / 2, deep / 2, -down
    return _quads([
        [(-x, y, z), (x, y, z), (x, y, -z), (-x, y, -z)], [(-x, y, -z), (x, y, -z), (x, 0, -z), (-x, 0, -z)],
        [(x, y, z), (-x, y, z), (-x, 0, z), (x, 0, z)], [(-x, y, z), (-x, y, -z), (-x, 0, -z), (-x, 0, z)],
        [(x, y, -z), (x, y, z), (x, 0, z), (x, 0, -z)],
    ])  # fmt: skip
