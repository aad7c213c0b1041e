"""Solids that the miniature sets are built of: triangle meshes with texture coordinates."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64

Material = Literal["matte", "satin", "gloss", "metal", "glass", "glow", "water"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Solid:
    """A textured triangle mesh.

    Attributes
    ----------
    vertices : (n, 3) metres, faces : (m, 3), uv : (n, 2) with v up from the texture's bottom.
    texture : linear RGB (3,) or (height, width, 3); for ``glow`` it is radiance.
    material : surface kind; rough : roughness of satin, gloss, metal and water in [0, 1].
    part : name of the moving part it belongs to; "" stands still.
    smooth : whether shading normals are interpolated.
    """

    name: str
    vertices: F64
    faces: NDArray[np.int64]
    uv: F64
    texture: F32
    material: Material = "matte"
    rough: float = 0.25
    part: str = ""
    smooth: bool = False

    def moved(self, matrix: F64) -> Solid:
        """The same solid under a (4, 4) transform."""
        return replace(self, vertices=self.vertices @ matrix[:3, :3].T + matrix[:3, 3])


Motion = Callable[[float], F64]


@dataclass(frozen=True, slots=True, kw_only=True)
class Patch:
    """A named flat surface of known truth: four world corners (4, 3), clockwise from top left."""

    corners: F64
    part: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Light:
    """A soft rectangular light: centre, facing target, size in metres, radiance RGB."""

    centre: tuple[float, float, float]
    target: tuple[float, float, float]
    size: tuple[float, float]
    radiance: tuple[float, float, float]


@dataclass(frozen=True, slots=True, kw_only=True)
class MiniatureSet:
    """Everything that stands before the simulated phone.

    Attributes
    ----------
    solids, lights : what is seen and what lights it; ambient : RGB light from all sides.
    motions : part name -> function of time giving its (4, 4) world transform.
    flicker : solid name -> function of time that scales a glowing solid's radiance.
    points : truth points, name -> (world (3,), part); patches : truth planes.
    extras : names of solids that a clean plate leaves out.
    """

    solids: list[Solid]
    lights: list[Light]
    ambient: tuple[float, float, float] = (0.03, 0.03, 0.035)
    motions: dict[str, Motion] = field(default_factory=dict)
    flicker: dict[str, Callable[[float], float]] = field(default_factory=dict)
    drift: dict[str, Callable[[float], F32]] = field(default_factory=dict)
    points: dict[str, tuple[F64, str]] = field(default_factory=dict)
    patches: dict[str, Patch] = field(default_factory=dict)
    mattes: dict[str, tuple[str, ...]] = field(default_factory=dict)
    extras: tuple[str, ...] = ()

    def part_at(self, part: str, t: float) -> F64:
        """World transform (4, 4) of a part at time `t`; identity for things that stand still."""
        return self.motions[part](t) if part in self.motions else np.eye(4)


def shift(x: float, y: float, z: float) -> F64:
    m = np.eye(4)
    m[:3, 3] = (x, y, z)
    return m


def turn(axis: Literal["x", "y", "z"], degrees: float) -> F64:
    a = np.radians(degrees)
    c, s = np.cos(a), np.sin(a)
    i, j = {"x": (1, 2), "y": (2, 0), "z": (0, 1)}[axis]
    m = np.eye(4)
    m[i, i] = m[j, j] = c
    m[i, j], m[j, i] = -s, s
    return m


def panel(name: str, width: float, height: float, texture: F32, **look: Any) -> Solid:
    """A flat rectangle in the x-y plane facing +z, centred on the origin."""
    w, h = width / 2, height / 2
    v = np.array([[-w, -h, 0], [w, -h, 0], [w, h, 0], [-w, h, 0]], dtype=np.float64)
    uv = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], dtype=np.float64)
    f = np.array([[0, 1, 2], [0, 2, 3]])
    return Solid(name=name, vertices=v, faces=f, uv=uv, texture=texture, **look)


def box(name: str, size: tuple[float, float, float], texture: F32, bevel: float = 0.0, **look: Any) -> Solid:
    """A box centred on the origin with bevelled edges; each side shows the whole texture."""
    half = np.array(size) / 2
    b = min(bevel, float(half.min()) * 0.45)
    verts: list[F64] = []
    faces: list[tuple[int, int, int]] = []
    uvs: list[tuple[float, float]] = []

    def quad(corners: list[F64], uv: list[tuple[float, float]], outward: F64) -> None:
        normal = np.cross(corners[1] - corners[0], corners[2] - corners[0])
        if normal @ outward < 0:
            corners, uv = corners[::-1], uv[::-1]
        k = len(verts)
        verts.extend(corners)
        uvs.extend(uv)
        faces.extend([(k, k + 1, k + 2), (k, k + 2, k + 3)] if len(corners) == 4 else [(k, k + 1, k + 2)])

    def at(axis: int, sign: float, other: dict[int, float]) -> F64:
        p = np.zeros(3)
        p[axis] = sign * half[axis]
        for k, s in other.items():
            p[k] = s * (half[k] - b)
        return p

    for axis in range(3):
        right, up = ((2, 1), (0, 2), (0, 1))[axis]
        for sign in (-1.0, 1.0):
            flat = [at(axis, sign, {right: r, up: u}) for r, u in ((-1, -1), (1, -1), (1, 1), (-1, 1))]
            out = np.zeros(3)
            out[axis] = sign
            quad(flat, [(0.0, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0)], out)
    if b > 0:
        for a1, a2 in ((0, 1), (0, 2), (1, 2)):
            third = 3 - a1 - a2
            for s1 in (-1.0, 1.0):
                for s2 in (-1.0, 1.0):
                    edge = [
                        at(a1, s1, {a2: s2, third: -1.0}),
                        at(a1, s1, {a2: s2, third: 1.0}),
                        at(a2, s2, {a1: s1, third: 1.0}),
                        at(a2, s2, {a1: s1, third: -1.0}),
                    ]
                    out = np.zeros(3)
                    out[a1], out[a2] = s1, s2
                    quad(edge, [(0.0, 0.01), (1.0, 0.01), (1.0, 0.03), (0.0, 0.03)], out)
        for sx in (-1.0, 1.0):
            for sy in (-1.0, 1.0):
                for sz in (-1.0, 1.0):
                    s = (sx, sy, sz)
                    tri = [at(k, s[k], {j: s[j] for j in range(3) if j != k}) for k in range(3)]
                    quad(tri, [(0.01, 0.01), (0.02, 0.01), (0.01, 0.02)], np.array(s))
    return Solid(
        name=name, vertices=np.array(verts), faces=np.array(faces), uv=np.array(uvs), texture=texture, **look
    )


def lathe(name: str, profile: list[tuple[float, float]], texture: F32, around: int = 48, **look: Any) -> Solid:
    """A surface of revolution about y from a profile of (radius, height), bottom to top."""
    p = np.array(profile, dtype=np.float64)
    length = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(p, axis=0).T))])
    angle = np.linspace(0, 2 * np.pi, around + 1)
    v = np.stack(
        [p[:, None, 0] * np.sin(angle), np.repeat(p[:, 1:2], around + 1, 1), p[:, None, 0] * np.cos(angle)], -1
    )
    uv = np.stack(np.broadcast_arrays(angle[None] / (2 * np.pi), (length / length[-1])[:, None]), -1)
    rows, cols = len(p), around + 1
    grid = np.arange(rows * cols).reshape(rows, cols)
    a, b, c, d = grid[:-1, :-1], grid[:-1, 1:], grid[1:, 1:], grid[1:, :-1]
    f = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])
    look.setdefault("smooth", True)
    return Solid(
        name=name, vertices=v.reshape(-1, 3), faces=f, uv=uv.reshape(-1, 2), texture=texture, **look
    )


def ball(name: str, radius: float, texture: F32, squash: float = 1.0, **look: Any) -> Solid:
    """A ball, or an ellipsoid squashed along y."""
    a = np.linspace(-np.pi / 2, np.pi / 2, 25)
    ring = [(max(1e-5, radius * float(np.cos(k))), radius * squash * float(np.sin(k))) for k in a]
    return lathe(name, ring, texture, **look)


def sheet(
    name: str, width: float, height: float, cells: tuple[int, int], lift: F32, texture: F32, **look: Any
) -> Solid:
    """A panel bent by `lift` (metres along +z), sampled on a grid of `cells`."""
    nx, ny = cells
    u, v = np.meshgrid(np.linspace(0, 1, nx + 1), np.linspace(0, 1, ny + 1))
    rows = ((1 - v) * (lift.shape[0] - 1)).astype(int)
    z = lift[rows, (u * (lift.shape[1] - 1)).astype(int)]
    vertices = np.stack([(u - 0.5) * width, (v - 0.5) * height, z], -1).reshape(-1, 3).astype(np.float64)
    grid = np.arange((nx + 1) * (ny + 1)).reshape(ny + 1, nx + 1)
    a, b, c, d = grid[:-1, :-1], grid[:-1, 1:], grid[1:, 1:], grid[1:, :-1]
    f = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])
    look.setdefault("smooth", True)
    return Solid(
        name=name, vertices=vertices, faces=f, uv=np.stack([u, v], -1).reshape(-1, 2), texture=texture, **look
    )
