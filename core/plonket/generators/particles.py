"""Particles: born in every frame from its own random numbers, moved in closed form, so any frame stands by itself.

A particle born at b with speed v, drag d and a pull g is at age a at p + v (1 - e^(-da)) / d + g (a - (1 - e^(-da)) / d) / d,
plus a drift in a shared flow that grows with its age. Nothing is carried from frame to frame: rendering may begin anywhere.
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64
from plonket.base.fields import Identifier, Number, choice, colour, number, plain, reference, switch, thing, value_at
from plonket.base.noise import noise_at
from plonket.generators.among import Flock
from plonket.generators.come_off import come_off
from plonket.generators.common import GeneratorContext, GeneratorModel, Space, clear, light_of
from plonket.generators.flight import flight
from plonket.generators.soft_marks import LEAST_RADIUS, draw_streaks

MOST = 40000
"""Particles drawn at once, at the most."""

ROOMY = {"roomy": (True,)}
LANDS = {"lands": ("bounces", "lies"), **ROOMY}

Shape = Literal["ring", "spot", "line", "area", "surface", "edges"]
SHAPES = {"ring": "A ring", "spot": "A spot", "line": "A line", "area": "An area", "surface": "A thing's surface",
          "edges": "A thing's edges"}  # fmt: skip
WIDE, TALL = {"shape": ("ring", "line", "area")}, {"shape": ("ring", "area")}
DEEP = {**ROOMY, "shape": ("ring", "spot", "line", "area")}
OFF_THINGS = ("surface", "edges")
"""Shapes that are those of things in the room; where there is none, particles come from a spot."""


class ParticleModel(GeneratorModel):
    """Where particles come from, how they go, how they look."""

    shape: Shape = choice("spot", label="Come from", group="Source", names=SHAPES)
    thing: Annotated[Identifier | None, reference("layer", says="comes off something", checked=False)] = thing(
        label="Which", group="Source", every="All in the room", when={"shape": OFF_THINGS},
        help="A model or form of the room in which they fly.")  # fmt: skip
    width: Number = number(100.0, label="Width", low=0, high=10000, step=1, unit="px", group="Source", soft=(0, 800),
                           when=WIDE)  # fmt: skip
    height: Number = number(100.0, label="Height", low=0, high=10000, step=1, unit="px", group="Source", soft=(0, 800),
                            when=TALL)  # fmt: skip
    rate: Number = number(12.0, label="How many", low=0, high=2000, step=0.5, unit="/fr", group="Source", soft=(0, 120),
                          help="Born in each frame. Key it to start and stop.")  # fmt: skip
    begins: int = plain(-500, label="Begins at", low=-100000, high=100000, step=1, unit="fr", group="Source", whole=True,
                        help="Before the shot: it is already going when the shot begins.")  # fmt: skip
    ends: int = plain(100000, label="Ends at", low=-100000, high=100000, step=1, unit="fr", group="Source", whole=True)
    life: Number = number(30.0, label="Live for", low=1, high=600, step=1, unit="fr", group="Source", soft=(1, 150))
    life_spread: Number = number(40.0, label="Unevenly", low=0, high=100, step=1, unit="%", group="Source")
    speed: Number = number(4.0, label="Speed", low=-400, high=400, step=0.1, unit="px/fr", group="Way", soft=(-20, 20),
                           help="Outwards from a ring or spot, along the direction from a line or area.")  # fmt: skip
    speed_spread: Number = number(50.0, label="Unevenly", low=0, high=200, step=1, unit="%", group="Way")
    direction: Number = number(-90.0, label="Direction", low=-720, high=720, step=1, unit="°", group="Way", soft=(-180, 180))
    spread: Number = number(30.0, label="Spread", low=0, high=360, step=1, unit="°", group="Way")
    spin: Number = number(0.0, label="Spin", low=-400, high=400, step=0.1, unit="px/fr", group="Way", soft=(-20, 20),
                          help="Speed round the ring, or across the direction.")  # fmt: skip
    pull: Number = number(0.0, label="Falls", low=-20, high=20, step=0.01, unit="px/fr²", group="Way", soft=(-1, 1),
                          help="Below nought it rises, as warm air does.")  # fmt: skip
    drag: Number = number(4.0, label="Slowed", low=0, high=100, step=0.5, unit="%/fr", group="Way", soft=(0, 30))
    turbulence: Number = number(10.0, label="Turbulence", low=0, high=1000, step=0.5, unit="px", group="Way", soft=(0, 80))
    lump: Number = number(120.0, label="Its size", low=4, high=4000, step=1, unit="px", group="Way", soft=(10, 500))
    radius: Number = number(1.6, label="Size", low=0.1, high=400, step=0.1, unit="px", group="Look", soft=(0.2, 12))
    radius_end: Number = number(40.0, label="Size at its end", low=0, high=4000, step=1, unit="%", group="Look", soft=(0, 400))
    first: str = colour("#fff3c4", label="When born", group="Look")
    middle: str = colour("#ff9a3c", label="Half-way", group="Look")
    last: str = colour("#8c1f0a", label="At its end", group="Look")
    bright: Number = number(300.0, label="Brightness", low=0, high=10000, step=5, unit="%", group="Look", soft=(0, 1000))
    twinkle: Number = number(40.0, label="Twinkle", low=0, high=100, step=1, unit="%", group="Look")
    streak: Number = number(180.0, label="Streaks", low=0, high=1440, step=5, unit="°", group="Look", soft=(0, 720),
                            help="Shutter angle along which each one is drawn out; 180° is half a frame.")  # fmt: skip
    behind: bool = switch(True, label="Left behind", group="Way",
                          help="Stay where they were born when their source moves on.")  # fmt: skip
    roomy: bool = switch(False, label="In the room", group="Room",
                         help="On a spot of a solved room: they fly in 3D, and behind what is nearer.")  # fmt: skip
    thick: Number = number(60.0, label="Source's depth", low=0, high=10000, step=1, unit="px", group="Room", soft=(0, 800),
                           when=DEEP, help="How far it reaches towards the camera and away.")  # fmt: skip
    lands: Literal["no", "bounces", "lies"] = choice(
        "no", label="On the ground", group="Room", when=ROOMY,
        names={"no": "Go through it", "bounces": "Bounce", "lies": "Lie there"})  # fmt: skip
    meets: bool = switch(False, label="On things too", group="Room", when=LANDS,
                         help="They bounce off the room's models and forms, or lie on them and go along.")  # fmt: skip
    sharp_at: Number = number(1.0, label="Sharp at", low=0.01, high=10000, step=0.01, unit="m", group="Room", soft=(0.1, 10),
                              when=ROOMY, help="How far from the camera they are in focus.")  # fmt: skip
    unsharp: Number = number(0.0, label="Out of focus", low=0, high=500, step=0.5, unit="px", group="Room", soft=(0, 60),
                             when=ROOMY, help="How large a point is that lies endlessly far away.")  # fmt: skip

    @property
    def in_room(self) -> bool:
        return self.roomy or self.shape in OFF_THINGS


@dataclass(slots=True, kw_only=True)
class Particles:
    """Those alive at a moment.

    Attributes
    ----------
    at, before : (n, 2) in the picture's pixels, now and when the shutter opened. part : (n,) of life gone. radius : (n,) in
        the picture's pixels. share : (n,) how bright each is of what all are. away, round : (n,) how far before the camera
        they are, and how large, in metres; None: they are flat. hidden : (h, w) one over the distance of what hides them.
    """

    at: F64
    before: F64
    part: F64
    radius: F64
    share: F64
    away: F64 | None = None
    round: F64 | None = None
    hidden: F32 | None = None


def alive(settings: ParticleModel, context: GeneratorContext) -> Particles:
    """The particles alive in a frame, the oldest first."""
    now = context.frame
    longest = int(np.ceil(max(value_at(settings.life, now), 1) * 1.5)) + 1
    groups = []
    for b in range(max(now - longest, settings.begins), min(now, settings.ends) + 1):
        one = _born(settings, b, now)
        if one is not None:
            groups.append(one)
    if not groups:
        empty = np.zeros((0, 2))
        return Particles(at=empty, before=empty, part=np.zeros(0), radius=np.zeros(0), share=np.zeros(0))
    # The newest are kept where there are too many.
    while len(groups) > 1 and sum(len(g.age) for g in groups) > MOST:
        groups.pop(0)
    all_ = _Born.joined(groups)
    open_for = max(value_at(settings.streak, now), 0) / 360
    if settings.in_room and context.space is not None:
        return in_space(settings, context.space, all_, now, open_for)
    places = _moved(settings, all_, all_.age), _moved(settings, all_, np.maximum(all_.age - open_for, 0))
    at, before = np.empty_like(places[0]), np.empty_like(places[0])
    zoom = np.empty(len(all_.age))
    first = 0
    for group in groups:
        part = slice(first, first + len(group.age))
        first = part.stop
        matrix = context.spread(group.born[0], now) if settings.behind else context.place(now)
        at[part], before[part] = through(places[0][part], matrix), through(places[1][part], matrix)
        zoom[part] = context.zoom(matrix)
    u = all_.age / all_.life
    grown = 1 + (value_at(settings.radius_end, now) / 100 - 1) * u
    radius = grown * value_at(settings.radius, now) * all_.big * zoom
    ok = np.isfinite(at).all(axis=1) & np.isfinite(before).all(axis=1)
    return Particles(at=at[ok], before=before[ok], part=u[ok], radius=radius[ok], share=all_.share[ok])


@dataclass(slots=True, kw_only=True)
class _Born:
    """Those born in a frame that are still alive: places (n, 2), speeds (n, 2); ages, lives, sizes, shares, and the frame of
    birth with what acts on them, all (n,). For what comes off things: how fast (n,), by what angles aside (n,), and what was
    drawn for where (n, 3)."""

    place: F64
    speed: F64
    age: F64
    life: F64
    big: F64
    share: F64
    born: F64
    drag: F64
    pull: F64
    rough: F64
    lump: F64
    ahead: F64
    ahead_speed: F64
    pace: F64
    turned: F64
    leaves: F64
    dice: F64

    @staticmethod
    def joined(groups: list[_Born]) -> _Born:
        names = [one.name for one in fields(_Born)]
        return _Born(**{name: np.concatenate([getattr(g, name) for g in groups]) for name in names})


def _born(settings: ParticleModel, b: int, now: int) -> _Born | None:
    rng = np.random.default_rng([settings.seed, b + 1_000_000])
    rate = max(value_at(settings.rate, b), 0.0)
    count = min(int(rate + rng.uniform()), MOST)
    if count < 1:
        return None
    # Drawn in a fixed order for each frame, so that one setting does not shuffle what another decides.
    u, deep = rng.uniform(-1, 1, (9, count)), rng.uniform(-1, 1, (2, count))
    life = value_at(settings.life, b) * (1 + value_at(settings.life_spread, b) / 100 * 0.5 * u[0])
    age = now - b + (u[1] + 1) / 2 - 0.5
    alive = (age >= 0) & (age < life)
    if not alive.any():
        return None
    u, deep, life, age = u[:, alive], deep[:, alive], life[alive], age[alive]
    w, h = value_at(settings.width, b) / 2, value_at(settings.height, b) / 2
    facing = np.radians(value_at(settings.direction, b))
    turned = np.radians(value_at(settings.spread, b)) / 2 * u[2]
    if settings.shape == "ring":
        round_ = np.pi * u[3]
        place = np.stack([np.cos(round_) * w, np.sin(round_) * h], axis=1)
        angle = round_ + turned
    else:
        place = np.zeros((len(age), 2))
        if settings.shape in ("line", "area"):
            place[:, 0] = w * u[3]
        if settings.shape == "area":
            place[:, 1] = h * u[4]
        angle = facing + turned
    way = np.stack([np.cos(angle), np.sin(angle)], axis=1)
    across = np.stack([-way[:, 1], way[:, 0]], axis=1)
    uneven = 1 + value_at(settings.speed_spread, b) / 100 * u[5]
    pace = value_at(settings.speed, b) * uneven
    speed = pace[:, None] * way + (value_at(settings.spin, b) * uneven)[:, None] * across
    # In a room they spread towards the camera and away as much as to the sides.
    leaves = np.radians(value_at(settings.spread, b)) / 2 * deep[1]
    # How bright it is this very moment: its own phase, so that no new random numbers are needed.
    flash = 0.5 + 0.5 * np.sin(now * (2.3 + 1.7 * u[8]) + 40 * u[8])
    shines = 1 - value_at(settings.twinkle, now) / 100 * flash

    def same(value: float) -> F64:
        return np.full(len(age), value)

    return _Born(
        place=place, speed=speed, age=age, life=life, big=1 + 0.45 * u[6], share=(1 + 0.4 * u[7]) * shines, born=same(b),
        drag=same(max(value_at(settings.drag, b) / 100, 1e-4)), pull=same(value_at(settings.pull, b)),
        rough=same(value_at(settings.turbulence, b)), lump=same(max(value_at(settings.lump, b), 1.0)),
        ahead=value_at(settings.thick, b) / 2 * deep[0], ahead_speed=pace * np.sin(leaves),
        pace=pace, turned=turned, leaves=leaves,
        dice=np.stack([u[3], u[4], deep[0]], axis=1),
    )  # fmt: skip


def _moved(settings: ParticleModel, all_: _Born, age: F64) -> F64:
    """Where they are at an age (n,), in the element's own pixels."""
    slowed = (1 - np.exp(-all_.drag * age)) / all_.drag
    at = all_.place + all_.speed * slowed[:, None]
    at[:, 1] += all_.pull * (age - slowed) / all_.drag
    if (all_.rough > 0).any():
        # The flow stands in space and changes slowly, so neighbours drift alike.
        time = (all_.born + age) / 40
        grows = all_.rough * 2.2 * np.minimum(age / 18, 1.6)
        where = at / all_.lump[:, None]
        at[:, 0] += grows * noise_at(where, time, 2, settings.seed * 7 + 1)
        at[:, 1] += grows * noise_at(where + 57.3, time, 2, settings.seed * 7 + 3)
    return at


def in_space(settings: ParticleModel, space: Space, all_: _Born, now: int, open_for: float) -> Particles:
    """The particles in their room, as its camera sees them."""
    births, of = np.unique(all_.born, return_inverse=True)
    moments = np.array([max(float(b), 0.0) if settings.behind else now for b in births])
    stood = np.stack([space.axes(moment) for moment in moments])
    metre = np.linalg.norm(stood[:, :3, 0], axis=1)[of]
    m = stood[of]

    def turned(own: F64) -> F64:
        return np.asarray(np.einsum("nij,nj->ni", m[:, :3, :3], own))

    begins = turned(np.column_stack([all_.place, all_.ahead])) + m[:, :3, 3]
    speed = turned(np.column_stack([all_.speed, all_.ahead_speed]))
    if settings.shape in OFF_THINGS:
        begun = come_off(space.things(settings.thing), settings.shape, all_.dice, all_.turned, all_.leaves, moments, of, now)
        if begun is not None:
            begins, speed = begun[0], begun[1] * (all_.pace * metre)[:, None]
    fall = all_.pull * metre
    rough = (all_.rough > 0).any()

    def drifted(which: NDArray[np.int64], at: F64, age: F64) -> F64:
        time = (all_.born[which] + age) / 40
        grows = all_.rough[which] * 2.2 * np.minimum(age / 18, 1.6) * metre[which]
        where = (at - stood[0, :3, 3]) / (all_.lump * metre)[which, None]
        flow = [noise_at(where[:, :2] + 57.3 * k, time + where[:, 2], 2, settings.seed * 7 + 1 + 2 * k) for k in range(3)]
        return np.asarray(grows[:, None] * np.stack(flow, axis=1))

    every = np.arange(len(all_.age))

    def places(age: F64) -> F64:
        at = flight(begins, speed, fall, all_.drag, age, settings.lands)
        if rough:
            at = at + drifted(every, at, age)
            if settings.lands != "no":
                at[:, 1] = np.maximum(at[:, 1], np.minimum(begins[:, 1], 0))
        return at

    if settings.lands != "no" and settings.meets:
        flock = Flock(begins, speed, fall, all_.drag, all_.age, settings.lands, space.things(None), now,
                      drifted if rough else None)  # fmt: skip
        here, earlier = flock.at(), flock.at(open_for)
    else:
        here, earlier = places(all_.age), places(np.maximum(all_.age - open_for, 0))
    at, away = space.project(now, here)
    before, _ = space.project(now - open_for, earlier)
    u = all_.age / all_.life
    grown = 1 + (value_at(settings.radius_end, now) / 100 - 1) * u
    size = grown * value_at(settings.radius, now) * all_.big * metre
    sharp = size * space.focal / np.maximum(away, 1e-9)
    off = value_at(settings.unsharp, now) / 2 * np.abs(1 - value_at(settings.sharp_at, now) / np.maximum(away, 1e-9))
    radius = np.hypot(sharp, off)
    # The same light on a larger disc.
    share = all_.share * (np.maximum(sharp, LEAST_RADIUS) / np.maximum(radius, LEAST_RADIUS)) ** 2
    ok = np.isfinite(at).all(axis=1) & np.isfinite(before).all(axis=1) & (away > 1e-3)
    return Particles(at=at[ok], before=before[ok], part=u[ok], radius=radius[ok], share=share[ok], away=away[ok],
                     round=size[ok], hidden=space.hides())  # fmt: skip


def through(at: F64, matrix: F64) -> F64:
    """Places (n, 2) through a (3, 3) matrix; not a number behind the eye."""
    p = np.column_stack([at, np.ones(len(at))]) @ matrix.T
    return np.asarray(np.where(p[:, 2:] > 1e-9, p[:, :2] / np.where(p[:, 2:] > 1e-9, p[:, 2:], 1), np.nan))


def colours_of(settings: ParticleModel, part: F64, frame: int) -> F32:
    """(n, 3) linear light over life: bright while young, out at the end."""
    stops = np.stack([light_of(settings.first), light_of(settings.middle), light_of(settings.last)])
    t = np.clip(part, 0, 1) * 2
    k = np.minimum(t.astype(int), 1)
    u = (t - k)[:, None]
    mixed = stops[k] * (1 - u) + stops[k + 1] * u
    fades = np.clip(part * 12, 0, 1) * (1 - np.clip(part, 0, 1)) ** 0.8
    return np.asarray(mixed * fades[:, None] * (value_at(settings.bright, frame) / 100), np.float32)


def shining(settings: ParticleModel, context: GeneratorContext) -> F32:
    """Particles as light, which hides nothing: (h, w, 4) premultiplied, without coverage."""
    out = clear(context.size)
    p = alive(settings, context)
    if len(p.at):
        light = colours_of(settings, p.part, context.frame) * p.share[:, None].astype(np.float32)
        draw_streaks(out, p.before, p.at, np.maximum(p.radius, 1e-3), light, p.away, p.hidden)
    return out
