"""What is asked of the renderer for a model, with all that stands in the same room."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Literal

import numpy as np

from plonket.base.colour import linear_of
from plonket.base.conventions import F64
from plonket.base.fields import value_at
from plonket.depth.frame_depth import FrameDepth
from plonket.document.kinds import LAYERS
from plonket.document.spot import Spot
from plonket.layers.copied import copy_places
from plonket.layers.falling import SAME_LEVEL, Bodies, FallenLayer, falls, hull_of, path_of, rigid
from plonket.layers.filmed import FilmedLayer
from plonket.layers.form import FormLayer, form_thing
from plonket.layers.light import DomeLayer, LampLayer, dome_of, lamp_of
from plonket.layers.model_looks import coats_of, seconds_at
from plonket.layers.model_settings import MeshLayer
from plonket.layers.raytraced import RectilinearWindow, box_corners, cast, instants, rectilinear_window, stood, view_at
from plonket.layers.receiver import lowest, receiver_of
from plonket.layers.sources import Sources
from plonket.layers.standing import StandingLayer, axes_of, matrix_of
from plonket.physics.fall import Driven, Loose
from plonket.raytrace.request import Instance, Lights, RenderRequest
from plonket.room.camera import RoomCamera
from plonket.room.meshes.forms import model_form
from plonket.room.meshes.mesh import Mesh
from plonket.room.meshes.raster import touched

MOST_INSTANTS = 5
SAMPLES = {"quick": 4, "good": 16, "best": 36}
WOOD = 600.0
"""Kilograms of a cubic metre."""
FULL_SUN, FULL_SKY = 0.75, 0.22
"""What a white surface shows by the sun that it faces, and under the open sky, at 100 %."""


Filmed = list[tuple[Instance, list[F64]]]
"""What the renderer is told of, each with (m, 3) places round it in the room at every view."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Set:
    """What an order is made of besides the layer: others in the room with where they sit, and paths of files.

    Attributes
    ----------
    things : (layer, its spot), all models and forms but the layer itself. lamps : (layer, its spot).
    dome : (layer, path of its light map), or None. path : of the layer's own model. paths : of the others, by asset.
    fps : frames a second, for what moves by itself. depth : of the frame, for shadows on what was filmed; None: they fall on
    the ground and forms alone.
    shadows : whether the layer's picture carries the room's shadows. daylight : what has the sun and sky that light it; None:
        its own do.
    fallen : where those are that fall, by their ids. given : of layers that are no models, what the renderer is told of them at
    moments, as what is shown or not. opened : metres at which a floor is another than was filmed.
    """

    path: str = ""
    things: Sequence[tuple[StandingLayer, Spot]] = ()
    lamps: Sequence[tuple[LampLayer, Spot]] = ()
    dome: tuple[DomeLayer, str] | None = None
    paths: dict[str, str] | None = None
    shadows: bool = True
    fps: float = 25.0
    depth: FrameDepth | None = None
    daylight: FilmedLayer | None = None
    fallen: Mapping[str, FallenLayer] = field(default_factory=dict)
    given: Mapping[str, Callable[[Sequence[float], bool], Filmed]] = field(default_factory=dict)
    opened: Sequence[float] = ()


def order_for(layer: FilmedLayer, sources: Sources, frame: int, view: F64) -> tuple[RenderRequest, RectilinearWindow] | None:
    """What is asked of the renderer for a picture, with all that stands in the same room; None: nothing is to be seen."""
    seat = sources.seat(layer.follow.target)
    if seat is None:
        return None
    scale = min(1.0, float(np.sqrt(abs(np.linalg.det(view[:2, :2])))))
    return order_of(layer, *seat, frame, set_of(layer, sources, frame), scale)


def set_of(layer: FilmedLayer, sources: Sources, frame: int) -> Set:
    """Everything else in the layer's room."""
    things: list[tuple[StandingLayer, Spot]] = []
    lamps: list[tuple[LampLayer, Spot]] = []
    dome: tuple[DomeLayer, str] | None = None
    last = layer.id
    paths: dict[str, str] = {}
    fallen: dict[str, FallenLayer] = {}
    given: dict[str, Callable[[Sequence[float], bool], Filmed]] = {}
    opened: list[float] = []
    near = list(sources.neighbours(layer.follow.target))
    if all(one.id != layer.id for one in near):
        # Looked at though it is switched off.
        near.append(layer)
    for other in near:
        if not other.is_there(frame):
            continue
        if isinstance(other, FilmedLayer) and other.brings_shadows(frame):
            last = other.id
        if isinstance(other, FilmedLayer) and (tells := LAYERS.of(other).things) is not None:
            given[other.id] = partial(tells, other, sources)
        if falls(other) and (fell := sources.fallen(other.id)) is not None:
            fallen[other.id] = fell
        if isinstance(other, DomeLayer):
            dome = dome or (other, sources.model(other.asset))
        if other.id == layer.id or not isinstance(other, StandingLayer):
            continue
        found = sources.seat(other.follow.target)
        if found is None or other.presence(frame) <= 0:
            continue
        if isinstance(other, FilmedLayer) and other.opens(frame):
            opened.append(value_at(found[1].y, frame) + value_at(other.lift, frame))
        if isinstance(other, LampLayer):
            lamps.append((other, found[1]))
        elif isinstance(other, MeshLayer):
            things.append((other, found[1]))
            paths[other.asset] = sources.model(other.asset)
        elif other.id in given or isinstance(other, FormLayer) and other.use == "holdout":
            things.append((other, found[1]))
    # The shadows of all lie behind all: the last model in the run sheet brings them.
    shadows = layer.shadow and (last == layer.id or not layer.brings_shadows(frame))
    by_depth = shadows and layer.grounded and not opened and layer.shadow_on and layer.follow.hidden
    path = sources.model(layer.asset) if isinstance(layer, MeshLayer) else ""
    return Set(path=path, things=things, lamps=lamps, dome=dome, paths=paths, shadows=shadows,
               fps=sources.fps, fallen=fallen, given=given, opened=opened,
               depth=sources.depth(layer.follow.target, frame, hides=True) if by_depth else None,
               daylight=_daylight(layer, sources))  # fmt: skip


def lights_in(sources: Sources, target: str | None, frame: int) -> Lights | None:
    """What lights a room, as its first model is lit; None: none stands there."""
    seat = sources.seat(target)
    first = next((one for one in sources.neighbours(target) if isinstance(one, FilmedLayer) and one.is_there(frame)), None)
    if seat is None or first is None:
        return None
    room = set_of(first, sources, frame)
    return _lights(room.daylight or first, seat[0], room, frame)


def _daylight(layer: FilmedLayer, sources: Sources) -> FilmedLayer | None:
    """The model whose light a model has, by way of others if need be; None where that one is gone, and its own holds."""
    if layer.lit_like is None:
        return None
    near = sources.neighbours(layer.follow.target, hidden=True)
    models = {one.id: one for one in near if isinstance(one, FilmedLayer)}
    one, passed = layer, {layer.id}
    while one.lit_like in models and one.lit_like not in passed:
        one = models[one.lit_like]
        passed.add(one.id)
    return None if one is layer else one


def order_of(
    layer: FilmedLayer, camera: RoomCamera, spot: Spot, frame: int, room: Set, scale: float
) -> tuple[RenderRequest, RectilinearWindow] | None:
    """What is asked of the renderer for a frame, in a picture without distortion at `scale` of the clip's size; None where
    nothing of it is in the picture."""
    whens = instants(frame, layer.shutter, MOST_INSTANTS)
    views = tuple(view_at(camera, when) for when in whens)
    lights = _lights(room.daylight or layer, camera, room, frame)
    every = _filmed(layer, camera, spot, whens, room, room.path, "shown")
    if not every:
        return None
    for other, seat in room.things:
        every += _filmed(other, camera, seat, whens, room, (room.paths or {}).get(getattr(other, "asset", ""), ""), "other")
    things = [thing for thing, _ in every]
    level = value_at(spot.y, frame)
    # Where the floor breaks or rises, what is left of it takes the shadows.
    opened = any(abs(level - one) < SAME_LEVEL for one in room.opened)
    floor = layer.floor(level)
    mirror = None if opened else layer.mirrors(frame)
    takes = layer.shadow or room.shadows or not layer.grounded or mirror is not None
    ground = floor if not opened and takes else None
    floors = [level if floor is None else floor] if layer.shadow or room.shadows else []
    if room.depth is not None and ground is not None and (low := lowest(room.depth, camera, frame)) < ground:
        floors.append(low)
    corners = []
    for k in range(len(views)):
        boxes = [(thing.role, round_it[k]) for thing, round_it in every]
        part = [box for role, box in boxes if role == "shown"]
        if mirror is not None and ground is not None:
            part += [box * [1, -1, 1] + [0, 2 * ground, 0] for box in part]
        if room.shadows:
            part += [cast(box, lights, floor) for floor in floors for role, box in boxes if role != "real"]
        corners.append(np.concatenate(part))
    straight = rectilinear_window(camera, frame, scale, views, corners)
    if straight is None:
        return None
    receiver = None if room.depth is None else receiver_of(room.depth, camera, frame, straight, ground)
    order = RenderRequest(
        things=tuple(things), views=views, focal=straight.focal, principal=straight.principal, window=straight.window,
        lights=lights, ground=ground, ground_colour=ground_of(layer), shadows=room.shadows,
        samples=SAMPLES["quick" if scale < 0.75 else layer.quality], receiver=receiver, mirror=mirror,
    )  # fmt: skip
    return order, straight


def _filmed(
    layer: StandingLayer, camera: RoomCamera, spot: Spot, whens: Sequence[float], room: Set, path: str,
    role: Literal["shown", "other"],
) -> Filmed:
    """What the renderer is told of a layer: of a model all of its copies."""
    if layer.id in room.given:
        return room.given[layer.id](whens, role == "shown")
    if isinstance(layer, FormLayer):
        return [_boxed(form_thing(layer, camera, spot, whens), (1.0, 1.0, 1.0))]
    assert isinstance(layer, MeshLayer)
    coats = coats_of(layer.surface, layer.parts)
    every = [copies(layer, camera, spot, when, room.fallen.get(layer.id)) for when in whens]
    poses = tuple((layer.clip, seconds_at(when, room.fps, layer.moves_from, layer.pace / 100, layer.clip_seconds, layer.goes))
                  for when in whens) if layer.moving else ()  # fmt: skip
    stood_there = [tuple(one[k] for one in every) for k in range(layer.across * layer.deep)]
    return [_boxed(Instance(model=path, stands=one, role=role, coats=coats, poses=poses), layer.extent) for one in stood_there]


def _boxed(thing: Instance, extent: tuple[float, float, float]) -> tuple[Instance, list[F64]]:
    return thing, [stood(box_corners(extent), thing, k) for k in range(len(thing.stands))]


def copies(
    layer: MeshLayer, camera: RoomCamera, spot: Spot, when: float, fallen: FallenLayer | None = None
) -> list[F64]:
    """(4, 4) room from model of a model and its copies: side by side about the spot, and behind each other, each as much
    otherwise as the layer says; where they fell, once they are let go."""
    if fallen is not None and (fell := fallen.at(when)) is not None:
        return fell
    first = stands(layer, camera, spot, when)
    if layer.across * layer.deep == 1:
        return [first]
    axes = first[:3, :3] / np.linalg.norm(first[:3, 0])
    out = []
    for place in copy_places(layer):
        m = first.copy()
        angle = np.radians(layer.copies_turned) * place.turn
        c, s = np.cos(angle), np.sin(angle)
        m[:3, :3] = place.size * (axes @ [[c, 0, s], [0, 1, 0], [-s, 0, c]] @ axes.T) @ first[:3, :3]
        # The pivot stays where it stands.
        stood = first[:3, :3] @ np.array(layer.pivot) + first[:3, 3]
        m[:3, 3] = stood - m[:3, :3] @ np.array(layer.pivot) + axes[:, 0] * place.x + axes[:, 2] * place.z
        out.append(m)
    return out


def stands(layer: MeshLayer, camera: RoomCamera, spot: Spot, when: float) -> F64:
    """(4, 4) from the model's own unit to the room's metres."""
    axes, place = axes_of(layer, camera, spot, when)
    unit = value_at(layer.tall, when) / max(layer.extent[1], 1e-9)
    return matrix_of(axes, place - axes @ np.array(layer.pivot) * unit, unit)


def pivot_at(
    layer: MeshLayer, camera: RoomCamera, spot: Spot, frame: int, pixel: tuple[float, float], model: Mesh
) -> tuple[F64, F64] | None:
    """The place on a model that a pixel shows, and how far it has to go there for the model to stay where it is.

    Returns
    -------
    Pivot (3,) in the model's unit and shift (3,) in the room's metres; None where the model is not seen there.
    """
    m = stands(layer, camera, spot, frame)
    every = np.concatenate([part.vertices[part.faces] for part in model.parts])
    x, y, z = camera.lens(frame).rays(np.array(pixel, np.float64))
    local = touched(camera.local(frame, every @ m[:3, :3].T + m[:3, 3]), (float(x / z), float(y / z)))
    if local is None:
        return None
    place = camera.turn(frame) @ (local * [1.0, -1.0, -1.0]) + camera.eye(frame)
    pivot = np.linalg.solve(m[:3, :3], place - m[:3, 3])
    return np.asarray(pivot), np.asarray(m[:3, :3] @ (pivot - np.array(layer.pivot)))


def ground_of(layer: FilmedLayer) -> tuple[float, float, float]:
    """Linear RGB that the ground under it throws back."""
    red, green, blue = (float(v) for v in linear_of(layer.ground_colour))
    return red, green, blue


def shadows_from(layer: FilmedLayer, sources: Sources, frame: int) -> bool:
    """Whether another layer brings the shadows of all that stands in its room at a frame."""
    return any(isinstance(one, FilmedLayer) and one.id != layer.id and one.is_there(frame) and one.brings_shadows(frame)
               for one in sources.neighbours(layer.follow.target))  # fmt: skip


def lights_of(layer: FilmedLayer, sources: Sources, frame: int) -> Lights:
    """What lights a layer of a solved room."""
    seat = sources.seat(layer.follow.target)
    assert seat is not None
    room = set_of(layer, sources, frame)
    return _lights(room.daylight or layer, seat[0], room, frame)


def _lights(layer: FilmedLayer, camera: RoomCamera, room: Set, frame: int) -> Lights:
    heading, height = np.radians(value_at(layer.sun_heading, frame)), np.radians(value_at(layer.sun_height, frame))
    warm = value_at(layer.sun_warm, frame) / 100
    tint = np.array([1 + 0.35 * warm, 1.0, 1 - 0.45 * warm])
    sun = FULL_SUN * value_at(layer.sun, frame) / 100 * tint * linear_of(layer.sun_colour)
    sky = FULL_SKY * value_at(layer.sky, frame) / 100 * np.array([1 - 0.06 * warm, 1.0, 1 + 0.1 * warm])
    sky = sky * linear_of(layer.sky_colour)
    way = camera.lit(frame) @ [np.cos(height) * np.sin(heading), np.sin(height), np.cos(height) * np.cos(heading)]
    lamps = [lamp_of(one, camera, spot, frame) for one, spot in room.lamps]
    return Lights(
        sun=(float(way[0]), float(way[1]), float(way[2])), sun_light=(float(sun[0]), float(sun[1]), float(sun[2])),
        sky_light=(float(sky[0]), float(sky[1]), float(sky[2])), soft=float(np.radians(layer.sun_soft)),
        lamps=tuple(lamp for lamp in lamps if lamp is not None),
        dome=dome_of(*room.dome, frame) if room.dome else None,
    )  # fmt: skip


def bodies_of(layer: MeshLayer, sources: Sources, first: int) -> Bodies:
    """A model among what falls: itself and its copies, each by its convex hull."""
    seat = sources.seat(layer.follow.target)
    if seat is None or not layer.shown:
        return Bodies()
    camera, spot = seat
    whole = model_form(sources.model(layer.asset)).vertices * np.array(layer.extent)
    hull = hull_of(whole)
    if not layer.falls:
        frames = range(first, max(camera.track.frames, first + 1))
        if len(path_of([stands(layer, camera, spot, f) for f in frames])) == 1:
            frames = range(first, first + 1)
        paths = [copies(layer, camera, spot, f) for f in frames]
        sizes = [rigid(one)[1] for one in paths[0]]
        return Bodies(driven=[Driven(hull=hull * size, path=path_of([every[k] for every in paths]))
                              for k, size in enumerate(sizes)])  # fmt: skip
    loose, sizes = [], []
    right, up, ahead = axes_of(layer, camera, spot, layer.falls_from)[0].T
    speed = layer.thrown_right * right + layer.thrown_up * up + layer.thrown_ahead * ahead
    spin = np.radians(layer.spins) * up + np.radians(layer.tumbles) * right
    for stand in copies(layer, camera, spot, layer.falls_from):
        start, size = rigid(stand)
        loose.append(Loose(
            hull=hull * size, start=start, lets_go=layer.falls_from, when_hit=layer.when_hit, velocity=_three(speed),
            spin=_three(spin), density=WOOD * layer.heavy / 100, friction=layer.grips / 100, bounce=layer.bounces / 100,
            group=0,
        ))  # fmt: skip
        sizes.append(size)
    level = value_at(spot.y, layer.falls_from) if layer.lands_on == "level" else None
    return Bodies(loose=loose, sizes=sizes, level=level)


def _three(values: F64) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in values)
    return x, y, z
