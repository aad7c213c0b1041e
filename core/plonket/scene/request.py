"""What is asked of the renderer: plain data that goes to another process."""

from __future__ import annotations

from dataclasses import dataclass

from plonket.conventions import F64


@dataclass(frozen=True, slots=True, kw_only=True)
class View:
    """A pinhole at one instant: eye (3,), turn (3, 3) local-to-world looking along -z, and where the model stands then
    (4, 4) world from model."""

    eye: F64
    turn: F64
    model: F64


@dataclass(frozen=True, slots=True, kw_only=True)
class Lights:
    """What lights a model.

    Attributes
    ----------
    sun : unit direction (3,) from the model to the sun. sun_light, sky_light : linear RGB; a white surface that faces the
        sun squarely shines with `sun_light`, one under the open sky with `sky_light`.
    soft : half angle of the sun in radians.
    """

    sun: tuple[float, float, float]
    sun_light: tuple[float, float, float]
    sky_light: tuple[float, float, float]
    soft: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Order:
    """One picture of one model.

    Attributes
    ----------
    model : path of its file. views : instants of the exposure, alike in weight.
    focal, principal : pixels of the picture that is filmed. window : x, y, width, height of it that is wanted.
    ground : height in metres of what takes the shadow, or None. ground_colour : linear RGB that it throws back.
    samples : light paths a pixel over the whole exposure, a square number.
    """

    model: str
    views: tuple[View, ...]
    focal: float
    principal: tuple[float, float]
    window: tuple[int, int, int, int]
    lights: Lights
    ground: float | None
    ground_colour: tuple[float, float, float]
    samples: int
    metal: float | None = None
    rough: float | None = None
