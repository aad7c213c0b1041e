"""A model as the renderer wants it: meshes with one material each, and how they move."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from plonket.base.colour import linear_from_codes
from plonket.base.conventions import F32, F64, U8

PLAIN = np.array([0.55, 0.55, 0.55], np.float32)
"""Linear colour of what says nothing of its own."""


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Texture:
    """A picture laid on a surface: (h, w, c) 8-bit, sRGB codes of a colour or plain numbers. `at` (3, 3) leads from the mesh's
    uv to the picture's, v up from its bottom; `wrap` says what lies beyond."""

    pixels: U8
    at: F64 = field(default_factory=lambda: np.eye(3))
    wrap: str = "repeat"


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Material:
    """What a surface is made of.

    Attributes
    ----------
    colour : linear RGB (3,), times `picture`. opacity : 0 to 1, times `cover` (h, w, 1). metal, rough : in [0, 1], times
    `surface` (h, w, 2), whose first channel is rough. bumps : (h, w, 3) normals in the surface's own axes, `bump` times as
    strong. glow : linear RGB light of its own, times `glow_picture`. clear : share of the light that goes through as through
    glass; paper : scattered, as through paper.
    """

    name: str = ""
    colour: F32 = field(default_factory=lambda: PLAIN)
    picture: Texture | None = None
    opacity: float = 1.0
    cover: Texture | None = None
    metal: float = 0.0
    rough: float = 0.6
    surface: Texture | None = None
    bumps: Texture | None = None
    bump: float = 1.0
    glow: tuple[float, float, float] = (0.0, 0.0, 0.0)
    glow_picture: Texture | None = None
    clear: float = 0.0
    paper: float = 0.0


def mean_colour(material: Material) -> F32:
    """(3,) the linear colour of a material on the mean."""
    if material.picture is None:
        return material.colour
    return np.asarray(linear_from_codes(material.picture.pixels).mean(axis=(0, 1)) * material.colour, np.float32)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Part:
    """A mesh with one material.

    Attributes
    ----------
    vertices : (n, 3), faces : (m, 3), uv : (n, 2) with v up from the texture's bottom, normals : (n, 3). tints : (n, 3) linear
    RGB that its colour is multiplied with, or None.
    """

    vertices: F64
    faces: NDArray[np.int64]
    uv: F64
    normals: F64
    material: Material
    tints: F32 | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Clip:
    """A movement that a model's file describes: its name, and how many seconds it takes."""

    name: str
    seconds: float


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class FileLight:
    """A lamp that a model's file describes, in the model's own space.

    Attributes
    ----------
    cone, edge : half angles of a spot, all of it and what of it is lit evenly, radians; None: it shines to all sides.
    colour : (3,) linear, its largest 1. strength : radiant intensity; only how those of a file stand to each other is known.
    place : (3,). way : (3,) unit, the way it shines.
    """

    name: str
    colour: F64
    strength: float
    place: F64
    way: F64
    cone: float | None = None
    edge: float = 0.0


Pose = Callable[[int, float], list[tuple[F64, F64]]]
"""Vertices (n, 3) and normals (n, 3) of every part at so many seconds of a clip."""


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Mesh:
    """A model that stands on its origin: its bottom's middle is at nought, y is up.

    Attributes
    ----------
    parts : its meshes. size : (3,) extent along x, y, z in the file's own unit. lights : lamps. clips : how it can move.
    posed : the parts as they are at a moment of a clip; None: it cannot move.
    """

    parts: tuple[Part, ...]
    size: F64
    lights: tuple[FileLight, ...] = ()
    clips: tuple[Clip, ...] = ()
    posed: Pose | None = None
