"""What every generated element has, and what it is told."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from plonket.base.colour import linear_of
from plonket.base.conventions import F32, F64
from plonket.base.fields import Settings, plain
from plonket.base.homography import jacobian


class GeneratorModel(Settings):
    """Settings of a generated element."""

    seed: int = plain(1, label="Seed", low=0, high=9999, step=1, group="Seed", whole=True,
                      help="Another number, another one of its kind.")  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class GeneratorContext:
    """Where and when an element is drawn.

    Attributes
    ----------
    frame : of the clip. size : of the picture (width, height). clip : of the whole clip in its own pixels.
    place : moment in frames -> (3, 3) from the element's own pixels, about its place, to the picture's.
    spread : (moment of birth, moment now) -> (3, 3) from the element's own pixels at birth to the picture's now, for what
        stays behind when the element moves on.
    """

    frame: int
    size: tuple[int, int]
    clip: tuple[int, int]
    place: Callable[[float], F64]
    spread: Callable[[float, float], F64]

    def zoom(self, matrix: F64) -> float:
        """Pixels of the picture for one of the element's own, at its place."""
        return float(np.sqrt(abs(np.linalg.det(jacobian(matrix, np.zeros(2))))))


def light_of(code: str, strength: float = 1.0) -> F32:
    """(3,) linear light of ``#rrggbb``, so many times as bright."""
    return np.asarray(linear_of(code) * strength, np.float32)


def clear(size: tuple[int, int]) -> F32:
    """An empty picture (h, w, 4)."""
    return np.zeros((size[1], size[0], 4), np.float32)
