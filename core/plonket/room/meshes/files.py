"""Models from files: GLB, glTF in one file, OBJ, PLY, STL."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.colour import linear_from_codes
from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import FormatError

MODELS = (".glb", ".gltf", ".obj", ".ply", ".stl")
MOST_FACES = 2_000_000
MOST_TEXTURE_PIXELS = 8192 * 8192
CREASE_DEG = 38.0
MANY_CORNERS = 64
"""Where more corners than this meet, they are compared by groups of like directions, not one by one."""
CELLS = 12
"""Groups along an edge of the cube that directions are sorted into: in the middle of a side, where they are
widest, each is 9.5 degrees wide."""
PLAIN = np.array([0.55, 0.55, 0.55], np.float32)
"""Linear colour of what says nothing of its own."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Part:
    """A mesh with one material.

    Attributes
    ----------
    vertices : (n, 3), faces : (m, 3), uv : (n, 2) with v up from the texture's bottom, normals : (n, 3).
    colour : linear RGB (3,) or texture (h, w, 3). metal, rough : in [0, 1]. glow : linear RGB light of its own.
    """

    vertices: F64
    faces: NDArray[np.int64]
    uv: F64
    normals: F64
    colour: F32
    metal: float
    rough: float
    glow: tuple[float, float, float]


@dataclass(frozen=True, slots=True, kw_only=True)
class Mesh:
    """A model that stands on its origin: its bottom's middle is at nought, y is up.

    Attributes
    ----------
    parts : its meshes. size : (3,) extent along x, y, z in the file's own unit.
    """

    parts: tuple[Part, ...]
    size: F64


def read_model(path: Path) -> Mesh:
    """Read a model, its pivot moved to the middle of its bottom. Raises `FormatError` in plain words."""
    import trimesh

    try:
        # From an open file and not by its path: then whatever the file names beside itself is not looked for.
        with path.open("rb") as file:
            scene = trimesh.load_scene(file, file_type=path.suffix[1:].lower())
        for mesh in scene.geometry.values():
            _check_textures(getattr(getattr(mesh, "visual", None), "material", None))
        meshes = [m for m in scene.dump() if isinstance(m, trimesh.Trimesh) and len(m.faces)]
    except (FormatError, MemoryError):
        raise
    except Exception as error:  # trimesh raises whatever its parsers do
        raise FormatError("model.unreadable", f"{path.name} could not be read as a 3D model.") from error
    if not meshes:
        raise FormatError("model.empty", f"{path.name} has no surfaces to show.")
    if sum(len(m.faces) for m in meshes) > MOST_FACES:
        raise FormatError("model.large", f"{path.name} has more than two million faces. Reduce it first.")
    low = np.min([m.bounds[0] for m in meshes], axis=0)
    high = np.max([m.bounds[1] for m in meshes], axis=0)
    if not np.isfinite([low, high]).all() or not (high - low).max() > 0:
        raise FormatError("model.extent", f"{path.name} has no extent that can be shown.")
    foot = np.array([(low[0] + high[0]) / 2, low[1], (low[2] + high[2]) / 2])
    return Mesh(parts=tuple(_part(m, foot) for m in meshes), size=high - low)


def extent_of(path: Path) -> tuple[float, float, float]:
    """A model's width, height and depth in its own unit; raises as `read_model` does."""
    width, height, depth = (float(v) for v in read_model(path).size)
    return width, height, depth


def _part(mesh: Any, foot: F64) -> Part:
    n = len(mesh.vertices)
    visual = mesh.visual
    material: Any = getattr(mesh.visual, "material", None)
    uv = getattr(visual, "uv", None)
    colour, metal, rough = PLAIN, 0.0, 0.6
    glow = (0.0, 0.0, 0.0)
    texture: U8 | None = None
    kind = type(material).__name__
    if kind == "PBRMaterial":
        factor = material.baseColorFactor
        colour = _linear(factor if factor is not None else [255, 255, 255])
        texture = _pixels(material.baseColorTexture)
        metal = 1.0 if material.metallicFactor is None else float(material.metallicFactor)
        rough = 1.0 if material.roughnessFactor is None else float(material.roughnessFactor)
        if material.emissiveFactor is not None:
            red, green, blue = (float(v) for v in material.emissiveFactor[:3])
            glow = (red, green, blue)
    elif kind == "SimpleMaterial":
        colour, texture = _linear(material.diffuse), _pixels(material.image)
    elif getattr(visual, "kind", None) in ("vertex", "face"):
        colour = _linear(np.asarray(visual.main_color))
    if texture is not None and uv is not None and len(uv) == n:
        tint = colour if kind == "PBRMaterial" else np.ones(3, np.float32)
        colour = linear_from_codes(np.ascontiguousarray(texture)) * tint
    corners = np.asarray(mesh.faces, np.int64).ravel()
    vertices = np.asarray(mesh.vertices, np.float64)
    own = uv is not None and len(uv) == n
    return Part(
        vertices=vertices[corners] - foot, faces=np.arange(len(corners)).reshape(-1, 3),
        uv=np.asarray(uv, np.float64)[corners] if own else np.zeros((len(corners), 2)),
        normals=creased(vertices, np.asarray(mesh.faces, np.int64)), colour=colour, metal=float(np.clip(metal, 0, 1)),
        rough=float(np.clip(rough, 0.05, 1)), glow=glow,
    )  # fmt: skip


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


def _linear(colour: Any) -> F32:
    """sRGB 0..255, or 0..1 as files have it, to linear RGB (3,)."""
    values = np.asarray(colour, np.float64)[:3]
    if values.max(initial=0) <= 1.0 and np.asarray(colour).dtype.kind == "f":
        values = values * 255
    return linear_from_codes(np.clip(np.round(values), 0, 255).astype(np.uint8)[None, None])[0, 0]


def _check_textures(material: Any) -> None:
    """Their sizes, before anything is decoded. Raises `FormatError`."""
    for image in (getattr(material, "image", None), getattr(material, "baseColorTexture", None)):
        width, height = (0, 0) if image is None else image.size
        if width * height > MOST_TEXTURE_PIXELS:
            raise FormatError("model.texture", f"A texture of this model has {width} x {height} pixels. Make it smaller first.")


def _pixels(image: Any) -> U8 | None:
    return None if image is None else np.array(image.convert("RGB"), np.uint8)
