"""What is asked of the renderer: plain data that goes to another process."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, fields, is_dataclass
from typing import Any, Literal

import numpy as np

from plonket.base.conventions import F32, F64

Role = Literal["shown", "other", "real"]
"""`shown` is what is filmed. `other` is filmed by an order of its own: here it hides, shades and is mirrored. `real` is in
the footage already: it hides, and takes shadows."""
FILMED = 7
"""Channels of a filmed picture: light, coverage, shadow, distance, shadow on the receiver; what else is asked for follows."""
VERSION = 4
"""Goes up whenever the same order would give another picture."""


@dataclass(frozen=True, slots=True, kw_only=True)
class CameraView:
    """A pinhole at one instant: eye (3,) and turn (3, 3), local-to-world, looking along -z."""

    eye: F64
    turn: F64


@dataclass(frozen=True, slots=True, kw_only=True)
class Coat:
    """What takes the place of a material's own looks; None: as in the file.

    Attributes
    ----------
    colour : linear RGB in place of its colours and pictures. metal, rough, clear, paper : in place of its own; see `Material`.
    glow : it is light and nothing else, so many times as bright as its colour. shown : whether there is anything of it at all.
    """

    colour: tuple[float, float, float] | None = None
    metal: float | None = None
    rough: float | None = None
    clear: float | None = None
    paper: float | None = None
    glow: float | None = None
    shown: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class Instance:
    """Something in the set.

    Attributes
    ----------
    model : path of its file, or `form:box`, `form:cylinder`, `form:plane` of unit size.
    stands : (4, 4) world from model for every view. poses : which of its clips it goes through and at how many seconds, for
    every view; none: at rest. coats : by the names of its materials, "" for all; later ones lie over earlier ones.
    """

    model: str
    stands: tuple[F64, ...]
    role: Role = "shown"
    poses: tuple[tuple[int, float], ...] = ()
    coats: tuple[tuple[str, Coat], ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Lamp:
    """A light that stands in a set and is not seen itself.

    Attributes
    ----------
    place : (4, 4) world from lamp; it shines along its +z. light : linear RGB. shape : `soft`, a rectangle from (-1, -1) to
    (1, 1), whose radiance `light` is; `point`, to all sides; `spot`, a cone: their radiant intensity it is. cone, edge : half
    angle of a spot, and how much of that from its middle is lit evenly, in radians.
    """

    place: F64
    light: tuple[float, float, float]
    shape: Literal["soft", "point", "spot"] = "soft"
    cone: float = 0.0
    edge: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Dome:
    """Light from all round by a picture twice as wide as tall: path of a file with radiance, whose middle lies along -z; turn
    about the upright in radians, anticlockwise from above; strength."""

    picture: str
    turn: float
    strength: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Lights:
    """What lights a set.

    Attributes
    ----------
    sun : unit direction (3,) from the model to the sun. sun_light, sky_light : linear RGB; a white surface that faces the
        sun squarely shines with `sun_light`, one under the open sky with `sky_light`.
    soft : half angle of the sun in radians. lamps : soft rectangles. dome : takes the place of an even sky.
    """

    sun: tuple[float, float, float]
    sun_light: tuple[float, float, float]
    sky_light: tuple[float, float, float]
    soft: float
    lamps: tuple[Lamp, ...] = ()
    dome: Dome | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Receiver:
    """What was filmed, as the window shows it: it takes shadows, and neither hides nor throws any. Places (h, w, 3) in the set,
    and unit normals (h, w, 3) towards the camera, nought where nothing is known."""

    points: F32
    normals: F32


@dataclass(frozen=True, slots=True, kw_only=True)
class Mirror:
    """Ground that mirrors what is shown: share that it throws back of light that falls on it `squarely`, and at the flattest
    look, `flat`; and how far, in shares of the way to what it mirrors, it scatters, `rough`."""

    squarely: float
    flat: float
    rough: float


@dataclass(frozen=True, slots=True, kw_only=True)
class RenderRequest:
    """One picture of what is shown of a set.

    Attributes
    ----------
    things : what stands in the set. views : instants of the exposure, alike in weight.
    focal, principal : pixels of the picture that is filmed. window : x, y, width, height of it that is wanted.
    ground : height in metres of the ground, or None. ground_colour : linear RGB that it throws back.
    shadows : whether the shadow that all things cast on the ground and on what is real is wanted.
    samples : light paths a pixel over the whole exposure, a square number. receiver : what else takes that shadow.
    normals : whether those of what is shown are wanted too. mirror : how the ground mirrors what is shown; None: not at all.
    """

    things: tuple[Instance, ...]
    views: tuple[CameraView, ...]
    focal: float
    principal: tuple[float, float]
    window: tuple[int, int, int, int]
    lights: Lights
    ground: float | None
    ground_colour: tuple[float, float, float]
    shadows: bool
    samples: int
    receiver: Receiver | None = None
    normals: bool = False
    mirror: Mirror | None = None


def request_digest(order: RenderRequest) -> str:
    """Equal orders have equal hashes, in any process."""
    sha = hashlib.sha256(f"{VERSION}".encode())
    _add(sha, order)
    return sha.hexdigest()


def _add(sha: Any, value: Any) -> None:
    if is_dataclass(value):
        for field in fields(value):
            sha.update(field.name.encode())
            _add(sha, getattr(value, field.name))
    elif isinstance(value, np.ndarray):
        sha.update(np.ascontiguousarray(value, np.float32 if value.dtype == np.float32 else np.float64).tobytes())
    elif isinstance(value, tuple):
        sha.update(f"({len(value)}".encode())
        for one in value:
            _add(sha, one)
    else:
        sha.update(repr(value).encode() + b";")
