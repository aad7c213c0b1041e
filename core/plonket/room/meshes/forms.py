"""Simple forms: a box, a cylinder, a plane. All stand on the middle of their bottom, y up, and are of unit size."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64
from plonket.base.errors import BadInput
from plonket.base.lru_cache import Budget, LruCache
from plonket.room.meshes.files import read_model

FormKind = Literal["box", "cylinder", "plane", "model"]
SIDES = 48
"""Flat faces round a cylinder."""
PREFIX = "form:"


@dataclass(frozen=True, slots=True, kw_only=True)
class Surface:
    """Triangles: vertices (n, 3), faces (m, 3), seen from where they run anticlockwise."""

    vertices: F64
    faces: NDArray[np.int64]

    def scaled(self, size: tuple[float, float, float] | F64) -> Surface:
        """The same, so many times as wide, tall and deep."""
        return Surface(vertices=self.vertices * np.asarray(size, np.float64), faces=self.faces)

    def corners(self) -> F64:
        """(m, 3, 3) the corners of every triangle."""
        return self.vertices[self.faces]


@cache
def unit_form(kind: str) -> Surface:
    """A form one wide, one tall, one deep. A plane lies on the ground, face up.

    Raises
    ------
    BadInput
        For a name that is no form.
    """
    if kind == "box":
        v = np.array([[x, y, z] for y in (0.0, 1.0) for z in (-0.5, 0.5) for x in (-0.5, 0.5)])
        quads = [(0, 1, 3, 2), (4, 6, 7, 5), (2, 3, 7, 6), (1, 0, 4, 5), (3, 1, 5, 7), (0, 2, 6, 4)]
    elif kind == "plane":
        v = np.array([[-0.5, 0, -0.5], [0.5, 0, -0.5], [-0.5, 0, 0.5], [0.5, 0, 0.5]])
        quads = [(0, 2, 3, 1)]
    elif kind == "cylinder":
        angle = np.arange(SIDES) * 2 * np.pi / SIDES
        ring = 0.5 * np.stack([np.cos(angle), np.sin(angle)], axis=1)
        low = np.column_stack([ring[:, 0], np.zeros(SIDES), ring[:, 1]])
        v = np.concatenate([low, low + [0, 1, 0], [[0, 0, 0], [0, 1, 0]]])
        faces = []
        for k in range(SIDES):
            j = (k + 1) % SIDES
            faces += [(k, SIDES + k, SIDES + j), (k, SIDES + j, j), (2 * SIDES, k, j), (2 * SIDES + 1, SIDES + j, SIDES + k)]
        return Surface(vertices=v, faces=np.array(faces, np.int64))
    else:
        raise BadInput("form.kind", f"There is no form {kind!r}. Use a box, a cylinder or a plane.")
    faces = [t for a, b, c, d in quads for t in ((a, b, c), (a, c, d))]
    return Surface(vertices=v, faces=np.array(faces, np.int64))


def model_form(path: str) -> Surface:
    """An imported model as a form of unit size. Raises `FormatError`."""
    return _MODELS.get(path)


def _form_of(path: str) -> Surface:
    model = read_model(Path(path))
    parts, count = [], 0
    faces = []
    for part in model.parts:
        parts.append(part.vertices)
        faces.append(part.faces + count)
        count += len(part.vertices)
    size = np.maximum(model.size, 1e-9 * float(model.size.max()))
    return Surface(vertices=np.concatenate(parts) / size, faces=np.concatenate(faces))


_MODELS: LruCache[str, Surface] = LruCache(_form_of, 64, budget=Budget(256 << 20))


def edges_of(surface: Surface, crease_deg: float = 30.0) -> tuple[NDArray[np.int64], F64]:
    """Sharp edges, where faces meet at more than `crease_deg` or only one ends there.

    Returns
    -------
    (k, 2) vertices they join, and (k, 2, 3) the unit normals of the faces on both sides; alike where there is one only.
    """
    scale = float(np.ptp(surface.vertices, axis=0).max()) or 1.0
    _, first, same = np.unique(np.round(surface.vertices / scale * 1e6).astype(np.int64), axis=0,
                               return_index=True, return_inverse=True)  # fmt: skip
    faces = same.reshape(-1)[surface.faces]
    corners = surface.corners()
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12)
    pairs = np.sort(np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]]), axis=1)
    owner = np.tile(np.arange(len(faces)), 3)
    order = np.lexsort((pairs[:, 1], pairs[:, 0]))
    pairs, owner = pairs[order], owner[order]
    new = np.ones(len(pairs), bool)
    new[1:] = (pairs[1:] != pairs[:-1]).any(axis=1)
    starts = np.flatnonzero(new)
    counts = np.diff(np.append(starts, len(pairs)))
    second = np.where(counts >= 2, np.minimum(starts + 1, len(pairs) - 1), starts)
    sides = np.stack([normal[owner[starts]], normal[owner[second]]], axis=1)
    sharp = (counts != 2) | ((sides[:, 0] * sides[:, 1]).sum(axis=1) < np.cos(np.radians(crease_deg)))
    return np.asarray(first[pairs[starts[sharp]]], np.int64), np.asarray(sides[sharp])
