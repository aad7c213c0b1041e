"""A flare: a bright light's glow, star, streak and ghosts, as a lens makes them."""

from __future__ import annotations

from typing import Literal

import numba
import numpy as np

from plonket.base.conventions import F32, F64, FAST
from plonket.base.fields import Number, colour, number, plain, switch, value_at
from plonket.document.kinds import GENERATORS, GeneratorEntry
from plonket.generators.common import HIDES, GeneratorContext, GeneratorModel, clear, light_of

_N = np.arange(61) + 0.5
DISC = np.stack([np.cos(2.39996 * _N), np.sin(2.39996 * _N)], axis=1) * np.sqrt(_N / 61)[:, None]
"""(61, 2) places spread evenly over a disc of radius 1."""


class Flare(GeneratorModel):
    """Its light stands where it is placed; ghosts lie on the line through the picture's middle."""

    kind: Literal["flare"] = "flare"
    bright: Number = number(100.0, label="Brightness", low=0, high=5000, step=1, unit="%", group="Flare", soft=(0, 400))
    colour: str = colour("#ffe2b0", label="Colour", group="Flare")
    glow: Number = number(46.0, label="Glow", low=0, high=2000, step=1, unit="px", group="Flare", soft=(0, 200))
    halo: Number = number(30.0, label="Halo", low=0, high=1000, step=1, unit="%", group="Flare", soft=(0, 200))
    halo_radius: Number = number(150.0, label="Its radius", low=1, high=4000, step=1, unit="px", group="Flare", soft=(10, 600))
    star: Number = number(50.0, label="Star", low=0, high=1000, step=1, unit="%", group="Flare", soft=(0, 200))
    points: int = plain(6, label="Its points", low=2, high=24, step=1, group="Flare", whole=True)
    star_length: Number = number(130.0, label="Its length", low=1, high=4000, step=1, unit="px", group="Flare", soft=(10, 600))
    streak: Number = number(45.0, label="Streak", low=0, high=1000, step=1, unit="%", group="Flare", soft=(0, 200))
    streak_length: Number = number(420.0, label="Its length", low=1, high=8000, step=1, unit="px", group="Flare",
                                   soft=(50, 1500))  # fmt: skip
    ghosts: Number = number(40.0, label="Ghosts", low=0, high=1000, step=1, unit="%", group="Flare", soft=(0, 200))
    goes_out: bool = switch(True, label="Goes out behind things", group="Flare",
                            help="On a spot of a solved room: all of it, as far as its light is hidden.")  # fmt: skip
    lamp: Number = number(12.0, label="Its light's size", low=0, high=2000, step=1, unit="px", group="Flare", soft=(0, 100),
                          when={"goes_out": (True,)}, help="How wide what shines is: it goes out as softly.")  # fmt: skip
    count: int = plain(7, label="How many", low=0, high=40, step=1, group="Flare", whole=True)

    @property
    def in_room(self) -> bool:
        return self.goes_out


def run(settings: Flare, context: GeneratorContext) -> F32:
    """Light of the flare in a frame. It fades as its light leaves the picture."""
    f = context.frame
    out = clear(context.size)
    matrix = context.place(f)
    at = matrix[:2, 2] / matrix[2, 2]
    zoom = context.zoom(matrix)
    w, h = context.size
    beyond = max(0.0, -at[0], at[0] - w, -at[1], at[1] - h) / (0.12 * w)
    strength = value_at(settings.bright, f) / 100 * max(0.0, 1 - beyond) ** 2 * _open(settings, context)
    if strength <= 0:
        return out
    turn = float(np.arctan2(matrix[1, 0], matrix[0, 0]))
    parts = np.array([
        max(value_at(settings.glow, f) * zoom, 0.5), value_at(settings.halo, f) / 100, value_at(settings.halo_radius, f) * zoom,
        value_at(settings.star, f) / 100, float(settings.points), value_at(settings.star_length, f) * zoom,
        value_at(settings.streak, f) / 100, value_at(settings.streak_length, f) * zoom, turn,
    ])  # fmt: skip
    _light(out, at, parts, light_of(settings.colour, strength))
    share = value_at(settings.ghosts, f) / 100 * strength
    if share > 0 and settings.count:
        _ghosts(out, *_ghosts_of(settings, at, np.array([w / 2, h / 2]), zoom * context.clip[0] / 1280, share))
    return out


def _open(settings: Flare, context: GeneratorContext) -> float:
    """How much of its light nothing hides, 0 to 1."""
    if not settings.goes_out or context.space is None:
        return 1.0
    hidden = context.space.hides()
    axes = context.space.axes(context.frame)
    at, away = context.space.project(context.frame, axes[:3, 3][None])
    if hidden is None or not np.isfinite(at).all() or away[0] <= 0:
        return 1.0
    metres = value_at(settings.lamp, context.frame) / 2 * float(np.linalg.norm(axes[:3, 0]))
    radius = metres * context.space.focal / float(away[0])
    h, w = hidden.shape
    xs, ys = (np.round(at[0, k] - 0.5 + radius * DISC[:, k]).astype(int) for k in range(2))
    inside = (xs >= 0) & (xs < w) & (ys >= 0) & (ys < h)
    if not inside.any():
        return 1.0
    return float((hidden[ys[inside], xs[inside]] * HIDES <= 1 / away[0]).mean())


def _ghosts_of(settings: Flare, at: F64, middle: F64, zoom: float, share: float) -> tuple[F64, F64, F32]:
    """Places (n, 2), radii (n,) and light (n, 3) of the ghosts: the same lens for the same seed."""
    rng = np.random.default_rng([settings.seed, 97])
    u = rng.uniform(0, 1, (6, 40))[:, : settings.count]
    along = -0.4 + 2.6 * u[0]
    places = at + (middle - at) * along[:, None] * 1.0
    radius = (10 + 70 * u[1] ** 2) * zoom
    hue = np.stack([0.5 + u[2], 0.5 + u[3], 0.5 + u[4]], axis=1)
    light = light_of(settings.colour, 0.06 * share)[None] * hue * (0.3 + u[5])[:, None] / (0.5 + u[1])[:, None]
    return places, radius, np.asarray(light, np.float32)


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _light(out: F32, at: F64, parts: F64, light: F32) -> None:
    glow, halo, halo_radius, star, points, star_length, streak, streak_length, turn = (
        parts[0], parts[1], parts[2], parts[3], parts[4], parts[5], parts[6], parts[7], parts[8],
    )  # fmt: skip
    for j in numba.prange(out.shape[0]):
        for i in range(out.shape[1]):
            x, y = i + 0.5 - at[0], j + 0.5 - at[1]
            r = np.sqrt(x * x + y * y)
            q = r / glow
            total = 1.6 * np.exp(-q * q * 2.2) + 0.30 / (1 + q * q * q)
            # Far out it ends softly.
            total *= max(0.0, 1 - r / (12 * glow)) ** 2 if r < 12 * glow else 0.0
            if halo > 0:
                d = (r - halo_radius) / (0.10 * halo_radius)
                total += 0.12 * halo * np.exp(-d * d)
            if star > 0 and r < star_length * 3:
                angle = np.arctan2(y, x) - turn
                ray = abs(np.cos(angle * points / 2))
                sharp = ray ** (12 + 0.8 * r)
                total += 0.9 * star * sharp * np.exp(-r / star_length * 2.2)
            if streak > 0:
                c, s = np.cos(turn), np.sin(turn)
                u, v = x * c + y * s, -x * s + y * c
                thin = v / (0.05 * glow + 1.2)
                total += 0.8 * streak * np.exp(-thin * thin) * np.exp(-abs(u) / streak_length * 2.6)
            for c3 in range(3):
                # The outer light is redder, as scattering makes it.
                out[j, i, c3] += light[c3] * total


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _ghosts(out: F32, places: F64, radius: F64, light: F32) -> None:
    for j in numba.prange(out.shape[0]):
        for k in range(places.shape[0]):
            dy = j + 0.5 - places[k, 1]
            if abs(dy) > radius[k] + 1:
                continue
            left = max(int(places[k, 0] - radius[k] - 1), 0)
            right = min(int(places[k, 0] + radius[k] + 2), out.shape[1])
            for i in range(left, right):
                dx = i + 0.5 - places[k, 0]
                r = np.sqrt(dx * dx + dy * dy)
                cover = min(max(radius[k] + 0.5 - r, 0.0), 1.0)
                rim = 0.55 + 0.45 * (r / radius[k]) ** 3
                for c in range(3):
                    out[j, i, c] += light[k, c] * cover * rim


GENERATORS.add(GeneratorEntry(
    kind="flare", order=60, label="Flare", settings=Flare, run=run, preview=(230.0, 130.0),
    help="A bright light's glow, star, streak and ghosts.",
))  # fmt: skip
