"""What every generated element has, and what it is told."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from plonket.base.colour import linear_of
from plonket.base.conventions import F32, F64
from plonket.base.fields import Settings, plain
from plonket.base.homography import jacobian
from plonket.room.meshes.thing import Thing

HIDES = 0.99
"""What hides must be nearer by so much: what lies on a surface is seen."""


class GeneratorModel(Settings):
    """Settings of a generated element."""

    seed: int = plain(1, label="Seed", low=0, high=9999, step=1, group="Seed", whole=True,
                      help="Another number, another one of its kind.")  # fmt: skip

    @property
    def in_room(self) -> bool:
        """Whether it sees to it by itself what of it is hidden in a solved room."""
        return False


@dataclass(frozen=True, slots=True, kw_only=True)
class AirLight:
    """Light at a place in a room.

    Attributes
    ----------
    ways : (k, 3) unit ways to what shines there. lights : (k, 3) linear RGB that a white surface shows which faces it.
    sky : (3,) the same of what comes from all sides.
    """

    ways: F64
    lights: F64
    sky: F64


@dataclass(frozen=True, slots=True, kw_only=True)
class Space:
    """The solved room in which an element stands, for what goes its own way there.

    Attributes
    ----------
    axes : moment -> (4, 4) room from the element's own pixels, x right, y down, z towards its front, as it stands then.
    project : (moment, places (n, 3) in metres) -> the picture's pixels (n, 2), nan behind the camera, and how far before the
        camera (n,) they are, in metres.
    focal : how many of the picture's pixels a metre is, a metre before the camera.
    things : id or None -> the models and forms of the room, or that one of them.
    light : place (3,) in metres -> the light there; None: nothing in the room tells of any.
    hides : -> one over the distance, (h, w) in 1/m, of what hides things in the picture; 0 where nothing does. None: nothing.
    """

    axes: Callable[[float], F64]
    project: Callable[[float, F64], tuple[F64, F64]]
    focal: float
    things: Callable[[str | None], list[Thing]]
    light: Callable[[F64], AirLight | None]
    hides: Callable[[], F32 | None]


@dataclass(frozen=True, slots=True, kw_only=True)
class GeneratorContext:
    """Where and when an element is drawn.

    Attributes
    ----------
    frame : of the clip. size : of the picture (width, height). clip : of the whole clip in its own pixels.
    place : moment in frames -> (3, 3) from the element's own pixels, about its place, to the picture's.
    spread : (moment of birth, moment now) -> (3, 3) from the element's own pixels at birth to the picture's now, for what
        stays behind when the element moves on.
    space : the room that it stands in; None: it stands in none.
    """

    frame: int
    size: tuple[int, int]
    clip: tuple[int, int]
    place: Callable[[float], F64]
    spread: Callable[[float, float], F64]
    space: Space | None = None

    def zoom(self, matrix: F64) -> float:
        """Pixels of the picture for one of the element's own, at its place."""
        return float(np.sqrt(abs(np.linalg.det(jacobian(matrix, np.zeros(2))))))


def light_of(code: str, strength: float = 1.0) -> F32:
    """(3,) linear light of ``#rrggbb``, so many times as bright."""
    return np.asarray(linear_of(code) * strength, np.float32)


def clear(size: tuple[int, int]) -> F32:
    """An empty picture (h, w, 4)."""
    return np.zeros((size[1], size[0], 4), np.float32)
