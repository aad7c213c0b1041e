"""What is drawn on a USD stage as corners of triangles: meshes, and the simple forms that the format has names for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64
from plonket.room.meshes.creased import creased

if TYPE_CHECKING:
    from pxr import Usd, UsdGeom


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Surface:
    """A surface as triangles that share nothing.

    Attributes
    ----------
    vertex : (3 m,) vertex of each corner, corner : (3 m,) its number among the corners of the file's faces, face : (m,) the
    file's face that a triangle is of. places : (n, 3). ways : (3 m, 3) normals; None: they follow the shape.
    """

    vertex: NDArray[np.int64]
    corner: NDArray[np.int64]
    face: NDArray[np.int64]
    places: F64
    ways: F64 | None

    def spread(self, values: np.ndarray, interpolation: str) -> np.ndarray | None:
        """Values of a primvar for each corner; None where there are too few of them."""
        per = {"uniform": np.repeat(self.face, 3), "vertex": self.vertex, "varying": self.vertex, "faceVarying": self.corner}
        if interpolation == "constant":
            return np.repeat(values[:1], len(self.vertex), axis=0) if len(values) else None
        at = per.get(interpolation)
        if at is None or not len(at) or at.max() >= len(values):
            return None
        return values[at]

    def normals(self, places: F64) -> F64:
        """(3 m, 3) as the shape has them with its vertices at `places`."""
        return creased(places, self.vertex.reshape(-1, 3))


def triangles_of(counts: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """(m, 3) corner numbers of the triangles that faces of so many corners come to, fans from their first, and (m,) the face of
    each."""
    start = np.cumsum(counts) - counts
    fans = np.maximum(counts - 2, 0)
    face = np.repeat(np.arange(len(counts)), fans)
    step = np.arange(len(face)) - np.repeat(np.cumsum(fans) - fans, fans)
    first = start[face]
    return np.stack([first, first + step + 1, first + step + 2], axis=1), face


def surface_of(prim: Usd.Prim, time: Usd.TimeCode) -> Surface | None:
    """What a prim draws at rest; None where that is nothing, or it is damaged."""
    from pxr import UsdGeom

    if prim.IsA(UsdGeom.Mesh):
        return _mesh(UsdGeom.Mesh(prim), time)
    return _form(prim, time)


def places_of(prim: Usd.Prim, time: Usd.TimeCode) -> F64:
    """(n, 3) where a mesh's vertices are."""
    from pxr import UsdGeom

    found = UsdGeom.Mesh(prim).GetPointsAttr().Get(time)
    return np.asarray([] if found is None else found, np.float64).reshape(-1, 3)


def _mesh(mesh: UsdGeom.Mesh, time: Usd.TimeCode) -> Surface | None:
    from pxr import UsdGeom

    counts = _whole(mesh.GetFaceVertexCountsAttr().Get(time))
    indices = _whole(mesh.GetFaceVertexIndicesAttr().Get(time))
    places = places_of(mesh.GetPrim(), time)
    sound = len(counts) and len(indices) and counts.min() >= 0 and counts.sum() == len(indices)
    if not sound or indices.min() < 0 or indices.max() >= len(places) or not np.isfinite(places).all():
        return None
    triangles, face = triangles_of(counts)
    if len(holes := _whole(mesh.GetHoleIndicesAttr().Get(time))):
        shown = ~np.isin(face, holes)
        triangles, face = triangles[shown], face[shown]
    if mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded:
        triangles = triangles[:, ::-1]
    if not len(triangles):
        return None
    corner = triangles.ravel()
    out = Surface(vertex=indices[corner], corner=corner, face=face, places=places, ways=None)
    ways = _normals(mesh, out, time)
    return Surface(vertex=out.vertex, corner=corner, face=face, places=places, ways=ways)


def _normals(mesh: UsdGeom.Mesh, surface: Surface, time: Usd.TimeCode) -> F64 | None:
    from pxr import UsdGeom

    own = UsdGeom.PrimvarsAPI(mesh).GetPrimvar("normals")
    if own and own.HasValue():
        found, interpolation = own.ComputeFlattened(time), own.GetInterpolation()
    else:
        found, interpolation = mesh.GetNormalsAttr().Get(time), mesh.GetNormalsInterpolation()
    values = np.asarray([] if found is None else found, np.float64).reshape(-1, 3)
    ways = surface.spread(values, str(interpolation))
    if ways is None or not np.isfinite(ways).all():
        return None
    length = np.linalg.norm(ways, axis=1, keepdims=True)
    return None if (length < 1e-9).any() else np.asarray(ways / length)


def _form(prim: Usd.Prim, time: Usd.TimeCode) -> Surface | None:
    """A cube, sphere, cylinder, cone or capsule."""
    made = _form_mesh(prim, time)
    if made is None:
        return None
    places, faces = made
    number = faces.ravel()
    return Surface(vertex=number, corner=np.arange(len(number)), face=np.arange(len(faces)), places=places, ways=None)


def _form_mesh(prim: Usd.Prim, time: Usd.TimeCode) -> tuple[F64, NDArray[np.int64]] | None:
    kind = prim.GetTypeName()

    def told(name: str, otherwise: float) -> float:
        attribute = prim.GetAttribute(name)
        value = attribute.Get(time) if attribute else None
        return otherwise if value is None or not np.isfinite(value) else float(value)

    import trimesh

    if kind == "Cube":
        made: Any = trimesh.creation.box(extents=[told("size", 2.0)] * 3)
    elif kind == "Sphere":
        made = trimesh.creation.icosphere(subdivisions=4, radius=told("radius", 1.0))
    elif kind == "Cylinder":
        made = trimesh.creation.cylinder(radius=told("radius", 1.0), height=told("height", 2.0), sections=64)
    elif kind == "Cone":
        made = trimesh.creation.cone(radius=told("radius", 1.0), height=told("height", 2.0), sections=64)
    elif kind == "Capsule":
        made = trimesh.creation.capsule(radius=told("radius", 0.5), height=told("height", 1.0), count=(32, 48))
    else:
        return None
    places = np.asarray(made.vertices, np.float64)
    middle = (places.min(axis=0) + places.max(axis=0)) / 2
    axis = prim.GetAttribute("axis")
    order = {"X": [2, 0, 1], "Y": [1, 2, 0]}.get(str(axis.Get()) if axis else "Z", [0, 1, 2])
    return (places - middle)[:, order], np.asarray(made.faces, np.int64)


def coordinates_of(prim: Usd.Prim, surface: Surface, name: str, time: Usd.TimeCode) -> F64:
    """(3 m, 2) uv of each corner by the name of their primvar; nought where there are none."""
    values = _primvar(prim, surface, name or "st", time, 2)
    return np.zeros((len(surface.vertex), 2)) if values is None else np.asarray(values[:, :2], np.float64)


def tints_of(prim: Usd.Prim, surface: Surface, time: Usd.TimeCode) -> F32 | None:
    """(3 m, 3) linear colours of the corners; None where the surface says none."""
    values = _primvar(prim, surface, "displayColor", time, 3)
    return None if values is None else np.clip(values[:, :3], 0, 1).astype(np.float32)


def _primvar(prim: Usd.Prim, surface: Surface, name: str, time: Usd.TimeCode, columns: int) -> np.ndarray | None:
    from pxr import UsdGeom

    found = UsdGeom.PrimvarsAPI(prim).FindPrimvarWithInheritance(name)
    if not found or not found.HasValue():
        return None
    given = found.ComputeFlattened(time)
    values = np.asarray([] if given is None else given, np.float64)
    if values.ndim != 2 or values.shape[1] < columns or not np.isfinite(values).all():
        return None
    return surface.spread(values, str(found.GetInterpolation()))


def _whole(values: Any) -> NDArray[np.int64]:
    return np.asarray([] if values is None else values, np.int64)
