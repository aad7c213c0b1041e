"""3D models standing in a solved room, with their shadow on the ground."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Literal

import cv2
import numpy as np
from pydantic import Field, model_validator

from plonket.base.colour import linear_of
from plonket.base.conventions import F32, F64
from plonket.base.fields import AssetDigest, Identifier, Number, choice, colour, number, plain, reference, switch, value_at
from plonket.depth.frame_depth import FrameDepth
from plonket.document.kinds import LAYERS, LayerEntry
from plonket.document.spot import Spot
from plonket.image.picture import CLEAR, Picture
from plonket.layers.common import faded
from plonket.layers.form import FormLayer, form_thing
from plonket.layers.hidden import Hiding, hiding
from plonket.layers.light import DomeLayer, LampLayer, dome_of, lamp_of
from plonket.layers.model_looks import MOST_PARTS, SURFACE_NAMES, PartLook, Surface, coats_of, seconds_at
from plonket.layers.raytraced import (
    RectilinearWindow,
    box_corners,
    cast,
    instants,
    on_picture,
    rectilinear_window,
    stood,
    view_at,
)  # fmt: skip
from plonket.layers.receiver import lowest, off_the_ground, receiver_of
from plonket.layers.sources import Sources
from plonket.layers.standing import StandingLayer, axes_of, matrix_of
from plonket.layers.surfaces import ground_nearness, shadow_nearness
from plonket.raytrace.request import Instance, Lights, RenderRequest
from plonket.room.camera import RoomCamera
from plonket.room.meshes.mesh import Mesh
from plonket.room.meshes.raster import touched

MOST_INSTANTS = 5
MOST_COPIES = 64
SAMPLES = {"quick": 4, "good": 16, "best": 36}
LIGHT = ("sun", "sun_heading", "sun_height", "sun_soft", "sun_warm", "sun_colour", "sky", "sky_colour", "lit_like")
"""What a model takes over from the one that it was lit like."""
SHADOW_AHEAD = 0.03
"""Share of its distance by which what hides a shadow is nearer: the ground is flat in the room, not quite so in the footage."""
ON_IT, STOOD_ON, SHADED = 0.2, 0.03, 0.015
"""Shares of a model's height, and of its distance, within which a surface is what it stands on; and takes its shadow."""
SOFT_PX = 1.0
"""How softly the shadow on the ground goes over into that on what was filmed, in pixels of the clip."""
FULL_SUN, FULL_SKY = 0.75, 0.22
"""What a white surface shows by the sun that it faces, and under the open sky, at 100 %."""


class MeshLayer(StandingLayer):
    """A model on a perch that is a spot in a room: the perch says where it stands, the layer how it looks.

    `extent` is the model's width, height and depth in its file's unit; `pivot` the place on it, from its bottom's middle and in
    that unit, that stands on the spot and about which it turns and grows. `lit_like` is a model whose sun and sky it has.
    """

    kind: Literal["model"] = "model"
    asset: AssetDigest
    extent: tuple[float, float, float]
    pivot: tuple[float, float, float] = (0.0, 0.0, 0.0)
    tall: Number = number(0.2, label="Height", low=0.0001, high=10000, step=0.001, unit="m", group="Model", soft=(0.01, 3),
                          help="How tall it stands in the room.")  # fmt: skip
    surface: Surface = choice("own", label="Surface", group="Model", names=SURFACE_NAMES)
    parts: list[PartLook] = Field(default_factory=list, max_length=MOST_PARTS,
                                  description="Materials that look otherwise than in its file")  # fmt: skip
    moving: bool = Field(default=False, description="Whether it goes through a movement of its file")
    clip: int = Field(default=0, ge=0, le=999, description="Which of its movements")
    clip_seconds: float = Field(default=0.0, ge=0, le=86400, description="How long that takes in its file")
    begins: int = plain(0, label="Begins", low=-100000, high=1000000, step=1, unit="frame", group="Movement", whole=True)
    pace: float = plain(100, label="Speed", low=-1000, high=1000, step=1, unit="%", group="Movement", soft=(0, 200),
                        help="Of the speed in its file; less than nought runs backwards.")  # fmt: skip
    goes: Literal["once", "round", "to_and_fro"] = choice(
        "round", label="Goes", group="Movement",
        names={"once": "Once", "round": "Again and again", "to_and_fro": "To and fro"})  # fmt: skip
    quality: Literal["quick", "good", "best"] = choice(
        "good", label="Quality", group="Model", names={"quick": "Quick", "good": "Good", "best": "Best"},
        help="Light paths a pixel. Views at half size are always quick.")  # fmt: skip
    shutter: float = plain(0, label="Motion blur", low=0, high=360, step=5, unit="°", group="Model",
                           help="Shutter angle: 180° is half a frame long. 0 is off.")  # fmt: skip
    lit_like: Annotated[Identifier | None, reference("layer", checked=False, takes=LIGHT)] = Field(
        default=None, description="A model in the room whose sun and sky it has"
    )
    sun: Number = number(100.0, label="Sun", low=0, high=2000, step=1, unit="%", group="Light", soft=(0, 300))
    sun_heading: Number = number(-40.0, label="From", low=-3600, high=3600, step=1, unit="°", group="Light",
                                 soft=(-180, 180),
                                 help="Where the light comes from, about the upright: nought is the room's z.")  # fmt: skip
    sun_height: Number = number(45.0, label="Above", low=1, high=90, step=1, unit="°", group="Light")
    sun_soft: float = plain(4, label="Softness", low=0.2, high=40, step=0.2, unit="°", group="Light",
                            help="How wide the light is: the sun is half a degree, a window twenty.")  # fmt: skip
    sun_warm: Number = number(10.0, label="Warm", low=-100, high=100, step=1, unit="%", group="Light")
    sun_colour: str = colour("#ffffff", label="Sun's colour", group="Light", help="On top of how warm it is.")
    sky: Number = number(100.0, label="From all sides", low=0, high=2000, step=1, unit="%", group="Light", soft=(0, 300))
    sky_colour: str = colour("#ffffff", label="Its colour", group="Light", help="Of what comes from all sides.")
    shadow: bool = switch(True, label="Shadow", group="Shadow ground",
                          help="A surface that nobody sees takes the shadows of all models in the room.")  # fmt: skip
    shadow_on: bool = switch(True, label="On what was filmed", group="Shadow ground",
                             help="By the depth that was measured, shadows climb steps and walls too.")  # fmt: skip
    shadow_strength: Number = number(85.0, label="Strength", low=0, high=100, step=1, unit="%", group="Shadow ground")
    ground_colour: str = colour("#7a6a58", label="Throws back", group="Shadow ground",
                                help="The ground's colour, which shines back on to what stands on it.")  # fmt: skip
    across: int = plain(1, label="Side by side", low=1, high=16, step=1, group="Copies", whole=True)
    deep: int = plain(1, label="Behind each other", low=1, high=16, step=1, group="Copies", whole=True)
    across_gap: float = plain(0.3, label="Apart sideways", low=-100, high=100, step=0.01, unit="m", group="Copies",
                        soft=(0.02, 2))
    deep_gap: float = plain(0.3, label="Apart in depth", low=-100, high=100, step=0.01, unit="m", group="Copies",
                        soft=(0.02, 2))
    haze: Number = number(0.0, label="Haze", low=0, high=100, step=1, unit="%", group="Haze",
                          help="How much of it is lost in the air at the distance below.")  # fmt: skip
    haze_at: Number = number(5.0, label="At", low=0.01, high=100000, step=0.1, unit="m", group="Haze", soft=(0.5, 50))
    haze_colour: str = colour("#aeb8c0", label="Colour", group="Haze")

    @model_validator(mode="after")
    def _few_copies(self) -> MeshLayer:
        if self.across * self.deep > MOST_COPIES:
            raise ValueError(f"{self.name}: at most {MOST_COPIES} copies can be filmed at once")
        return self


@dataclass(frozen=True, slots=True, kw_only=True)
class Set:
    """What an order is made of besides the layer: others in the room with where they sit, and paths of files.

    Attributes
    ----------
    things : (layer, its spot), all models and forms but the layer itself. lamps : (layer, its spot).
    dome : (layer, path of its light map), or None. path : of the layer's own model. paths : of the others, by asset.
    fps : frames a second, for what moves by itself. depth : of the frame, for shadows on what was filmed; None: they fall on
    the ground and forms alone.
    shadows : whether the layer's picture carries the room's shadows. daylight : the model whose sun and sky light it; None: its
        own do.
    """

    path: str
    things: Sequence[tuple[StandingLayer, Spot]] = ()
    lamps: Sequence[tuple[LampLayer, Spot]] = ()
    dome: tuple[DomeLayer, str] | None = None
    paths: dict[str, str] | None = None
    shadows: bool = True
    fps: float = 25.0
    depth: FrameDepth | None = None
    daylight: MeshLayer | None = None


def draw(layer: MeshLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """The model's picture at a frame; `view` leads from the clip's pixels to the picture's."""
    made = order_for(layer, sources, frame, view)
    if made is None:
        return CLEAR
    order, straight = made
    seat = sources.seat(layer.follow.target)
    assert seat is not None
    filmed = sources.film(order)
    strength = np.float32(np.clip(value_at(layer.shadow_strength, frame) / 100, 0, 1))
    depth = float((stands(layer, *seat, frame)[:3, 3] - order.views[0].eye) @ -order.views[0].turn[:, 2])
    stood, under = (min(ON_IT * value_at(layer.tall, frame), share * max(depth, 0)) for share in (STOOD_ON, SHADED))
    shadow = strength * _behind_all(filmed, order, seat[0], frame, straight, under)
    rgba = np.dstack([_hazed(filmed, layer, frame), np.clip(filmed[..., 3] + shadow, 0, 1)])

    def laid(straight_rgba: F32) -> Picture:
        return on_picture(straight_rgba, seat[0], frame, straight, depth, view, size)

    picture = laid(rgba)
    found = hiding(sources, layer.follow.target, frame, size, view) if layer.follow.hidden and picture.rgba.size else None
    if found is not None:
        near = _nearness(filmed, straight)
        told = laid(np.dstack([near * filmed[..., 3], filmed[..., 3], shadow, strength * filmed[..., 6]])).rgba
        level = value_at(seat[1].y, frame)
        ground = shadow_nearness(sources, layer.follow.target, frame, size, view, level) if shadow.any() else None
        picture = _hidden(picture, told, found.above(level, stood), found.above(level, under), ground)
    return faded(picture, layer, frame)


def _nearness(filmed: F32, straight: RectilinearWindow) -> F32:
    """(h, w) one over the distance before the camera of what was filmed, in 1/m; 0 where nothing was."""
    x0, y0, w, h = straight.window
    across = (np.arange(w) + 0.5 + x0 - straight.principal[0]) / straight.focal
    down = (np.arange(h) + 0.5 + y0 - straight.principal[1]) / straight.focal
    aslant = np.sqrt(1 + across[None, :] ** 2 + down[:, None] ** 2).astype(np.float32)
    there = filmed[..., 5] > 1e-6
    return np.where(there, filmed[..., 3] * aslant / np.where(there, filmed[..., 5], 1), 0).astype(np.float32)


def _hidden(picture: Picture, told: F32, by: Hiding, shadow_by: Hiding, ground: F32 | None) -> Picture:
    """The picture of a model and its shadow, less what is hidden of each.

    told : (h, w, 4) nearness times coverage, coverage, shadow, and that on what was filmed. ground : (H, W) nearness of what
        takes the first.
    """
    x, y = picture.x, picture.y
    h, w = picture.rgba.shape[:2]
    cover, shadow = np.clip(told[..., 1], 0, 1), np.clip(told[..., 2], 0, 1)
    own = np.where(cover > 1 / 64, told[..., 0] / np.maximum(cover, 1 / 64), 0).astype(np.float32)
    share, more = by.seen(own, np.where(own > 0, cover, 0), x, y)
    rgba = picture.rgba * share[..., None]
    rgba[..., :3] += more * cover[..., None]
    rgba[..., 3] = cover * share
    if ground is not None:
        lies = ground[y : y + h, x : x + w]
        open_, _ = shadow_by.seen(lies, np.where(lies > 0, shadow, 0), x, y, SHADOW_AHEAD)
        on_it = np.clip(told[..., 3], 0, 1) * (1 - rgba[..., 3])
        rgba[..., 3] = np.clip(rgba[..., 3] + shadow * open_ + on_it * (1 - open_), 0, 1)
    return Picture(rgba=rgba, x=x, y=y)


def _behind_all(
    filmed: F32, order: RenderRequest, camera: RoomCamera, frame: int, straight: RectilinearWindow, low: float
) -> F32:
    """(h, w) the shadow on what lies behind all models: the ground and forms, and what was filmed where that lies deeper, or
    rises from the ground up to `low` metres."""
    if order.receiver is None or order.ground is None:
        return np.asarray(filmed[..., 4])
    near = ground_nearness(camera, frame, straight, order.ground)
    found = off_the_ground(order.receiver, camera, frame, near, order.ground, low)
    found = cv2.GaussianBlur(found, (0, 0), SOFT_PX * straight.scale)
    return np.asarray(filmed[..., 4] + found * (filmed[..., 6] * (1 - filmed[..., 3]) - filmed[..., 4]), np.float32)


def _hazed(filmed: F32, layer: MeshLayer, frame: int) -> F32:
    """The model's light, lost in the air with distance and replaced by the air's own."""
    share = float(np.clip(value_at(layer.haze, frame) / 100, 0, 0.999))
    if share <= 0:
        return np.asarray(filmed[..., :3])
    cover = filmed[..., 3:4]
    far = filmed[..., 5:6] / np.maximum(cover, 1e-4)
    kept = np.float32(1 - share) ** (far / np.float32(max(value_at(layer.haze_at, frame), 1e-3)))
    return np.asarray(filmed[..., :3] * kept + linear_of(layer.haze_colour).astype(np.float32) * cover * (1 - kept), np.float32)


def order_for(layer: MeshLayer, sources: Sources, frame: int, view: F64) -> tuple[RenderRequest, RectilinearWindow] | None:
    """What is asked of the renderer for a picture, with all that stands in the same room; None: nothing is to be seen."""
    seat = sources.seat(layer.follow.target)
    if seat is None:
        return None
    scale = min(1.0, float(np.sqrt(abs(np.linalg.det(view[:2, :2])))))
    return order_of(layer, *seat, frame, set_of(layer, sources, frame), scale)


def set_of(layer: MeshLayer, sources: Sources, frame: int) -> Set:
    """Everything else in the layer's room."""
    things: list[tuple[StandingLayer, Spot]] = []
    lamps: list[tuple[LampLayer, Spot]] = []
    dome: tuple[DomeLayer, str] | None = None
    last = layer.id
    paths: dict[str, str] = {}
    for other in sources.neighbours(layer.follow.target):
        if not other.is_there(frame):
            continue
        if isinstance(other, MeshLayer) and other.shadow:
            last = other.id
        if isinstance(other, DomeLayer):
            dome = dome or (other, sources.model(other.asset))
        if other.id == layer.id or not isinstance(other, StandingLayer):
            continue
        found = sources.seat(other.follow.target)
        if found is None or other.presence(frame) <= 0:
            continue
        if isinstance(other, LampLayer):
            lamps.append((other, found[1]))
        elif isinstance(other, MeshLayer):
            things.append((other, found[1]))
            paths[other.asset] = sources.model(other.asset)
        elif isinstance(other, FormLayer) and other.use == "holdout":
            things.append((other, found[1]))
    # The shadows of all lie behind all: the last model in the run sheet brings them.
    shadows = layer.shadow and last == layer.id
    by_depth = shadows and layer.shadow_on and layer.follow.hidden
    return Set(path=sources.model(layer.asset), things=things, lamps=lamps, dome=dome, paths=paths, shadows=shadows,
               fps=sources.fps,
               depth=sources.depth(layer.follow.target, frame, hides=True) if by_depth else None,
               daylight=_daylight(layer, sources))  # fmt: skip


def _daylight(layer: MeshLayer, sources: Sources) -> MeshLayer | None:
    """The model whose light a model has, by way of others if need be; None where that one is gone, and its own holds."""
    if layer.lit_like is None:
        return None
    near = sources.neighbours(layer.follow.target, hidden=True)
    models = {one.id: one for one in near if isinstance(one, MeshLayer)}
    one, passed = layer, {layer.id}
    while one.lit_like in models and one.lit_like not in passed:
        one = models[one.lit_like]
        passed.add(one.id)
    return None if one is layer else one


def order_of(
    layer: MeshLayer, camera: RoomCamera, spot: Spot, frame: int, room: Set, scale: float
) -> tuple[RenderRequest, RectilinearWindow] | None:
    """What is asked of the renderer for a frame, in a picture without distortion at `scale` of the clip's size; None where
    nothing of it is in the picture."""
    whens = instants(frame, layer.shutter, MOST_INSTANTS)
    views = tuple(view_at(camera, when) for when in whens)
    lights = _lights(room.daylight or layer, camera, room, frame)
    things = _things(layer, camera, spot, whens, room.path, "shown", room.fps)
    extents = [layer.extent] * len(things)
    for other, seat in room.things:
        if isinstance(other, MeshLayer):
            more = _things(other, camera, seat, whens, (room.paths or {})[other.asset], "other", room.fps)
            extents += [other.extent] * len(more)
        else:
            assert isinstance(other, FormLayer)
            more = [form_thing(other, camera, seat, whens)]
            extents.append((1.0, 1.0, 1.0))
        things += more
    ground = value_at(spot.y, frame) if layer.shadow or room.shadows else None
    floors = [] if ground is None else [ground]
    if room.depth is not None and ground is not None and (low := lowest(room.depth, camera, frame)) < ground:
        floors.append(low)
    corners = []
    for k in range(len(views)):
        boxes = [(t.role, stood(box_corners(e), t, k)) for t, e in zip(things, extents, strict=True)]
        part = [box for role, box in boxes if role == "shown"]
        if room.shadows:
            part += [cast(box, lights, floor) for floor in floors for role, box in boxes if role != "real"]
        corners.append(np.concatenate(part))
    straight = rectilinear_window(camera, frame, scale, views, corners)
    if straight is None:
        return None
    red, green, blue = (float(v) for v in linear_of(layer.ground_colour))
    receiver = None if room.depth is None else receiver_of(room.depth, camera, frame, straight, ground)
    order = RenderRequest(
        things=tuple(things), views=views, focal=straight.focal, principal=straight.principal, window=straight.window,
        lights=lights, ground=ground, ground_colour=(red, green, blue), shadows=room.shadows,
        samples=SAMPLES["quick" if scale < 0.75 else layer.quality], receiver=receiver,
    )  # fmt: skip
    return order, straight


def _things(
    layer: MeshLayer, camera: RoomCamera, spot: Spot, whens: Sequence[float], path: str, role: Literal["shown", "other"],
    fps: float,
) -> list[Instance]:
    """A model and its copies."""
    coats = coats_of(layer.surface, layer.parts)
    every = [copies(layer, camera, spot, when) for when in whens]
    poses = tuple((layer.clip, seconds_at(when, fps, layer.begins, layer.pace / 100, layer.clip_seconds, layer.goes))
                  for when in whens) if layer.moving else ()  # fmt: skip
    return [Instance(model=path, stands=tuple(one[k] for one in every), role=role, coats=coats, poses=poses)
            for k in range(layer.across * layer.deep)]


def copies(layer: MeshLayer, camera: RoomCamera, spot: Spot, when: float) -> list[F64]:
    """(4, 4) room from model of a model and its copies: side by side about the spot, and behind each other."""
    out = []
    for j in range(layer.deep):
        for i in range(layer.across):
            m = stands(layer, camera, spot, when)
            axes = m[:3, :3] / np.linalg.norm(m[:3, 0])
            m[:3, 3] += axes[:, 0] * (i - (layer.across - 1) / 2) * layer.across_gap - axes[:, 2] * j * layer.deep_gap
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


def _lights(layer: MeshLayer, camera: RoomCamera, room: Set, frame: int) -> Lights:
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


LAYERS.add(LayerEntry(
    kind="model", order=50, label="Model", settings=MeshLayer, run=draw,
    help="A 3D model standing in a solved room, with its shadow.",
    traits=frozenset({"standing", "follows", "matched", "filmed"}), handles="standing",
    groups=("Model", ("Movement", {"moving": (True,)}), "Stands", "Light", "Shadow ground", "Copies", "Haze", "Mix"),
    card={"": "Model"},
    says={"": "3D model in the room: drag it over the ground, with Shift up and down, with Ctrl on to what is there"},
))  # fmt: skip


__all__ = ["FULL_SKY", "FULL_SUN", "MeshLayer", "Set", "draw", "order_for", "order_of", "pivot_at", "stands"]
