"""A 3D model standing in a solved room, with its shadow on the ground."""

from __future__ import annotations

from typing import Literal

import cv2
import numpy as np
from pydantic import Field

from plonket.colour import linear_from_8bit
from plonket.comp.picture import CLEAR, Picture
from plonket.comp.sources import Sources
from plonket.conventions import F32, F64
from plonket.fields import Digest, Number, choice, number, plain, switch, value_at
from plonket.layers.common import LayerModel, faded
from plonket.motion.camera.spot import Spot
from plonket.motion.camera.view import RoomCamera
from plonket.motion.following import Follow
from plonket.scene.request import Lights, Order, View

PAD_PX = 28
"""Round what a model and its shadow cover, of the rendered picture: a shadow's soft end must not be cut."""
MOST_INSTANTS = 5
SAMPLES = {"quick": 4, "good": 16, "best": 36}


class ModelLayer(LayerModel):
    """A model on a perch that is a spot in a room: the perch says where it stands, the layer how it looks.

    `extent` is the model's width, height and depth in its file's unit.
    """

    kind: Literal["model"] = "model"
    asset: Digest
    extent: tuple[float, float, float]
    follow: Follow = Follow()
    tall: Number = number(0.2, label="Height", low=0.0001, high=10000, step=0.001, unit="m", group="Model", soft=(0.01, 3),
                          help="How tall it stands in the room.")  # fmt: skip
    heading: Number = number(0.0, label="Heading", low=-3600, high=3600, step=0.5, unit="°", group="Model", soft=(-180, 180))
    tilt: Number = number(0.0, label="Tilt", low=-3600, high=3600, step=0.5, unit="°", group="Model", soft=(-90, 90))
    roll: Number = number(0.0, label="Roll", low=-3600, high=3600, step=0.5, unit="°", group="Model", soft=(-90, 90))
    lift: Number = number(0.0, label="Lift", low=-1000, high=1000, step=0.001, unit="m", group="Model", soft=(-1, 1),
                          help="How far its foot is above the spot.")  # fmt: skip
    surface: Literal["own", "matte", "glossy", "metal"] = choice(
        "own", label="Surface", group="Model",
        names={"own": "As in its file", "matte": "Matte", "glossy": "Glossy", "metal": "Metal"})  # fmt: skip
    quality: Literal["quick", "good", "best"] = choice(
        "good", label="Quality", group="Model", names={"quick": "Quick", "good": "Good", "best": "Best"},
        help="Light paths a pixel. Views at half size are always quick.")  # fmt: skip
    shutter: float = plain(0, label="Motion blur", low=0, high=360, step=5, unit="°", group="Model",
                           help="Shutter angle: 180° is half a frame long. 0 is off.")  # fmt: skip
    sun: Number = number(100.0, label="Sun", low=0, high=2000, step=1, unit="%", group="Light", soft=(0, 300))
    sun_heading: Number = number(-40.0, label="From", low=-3600, high=3600, step=1, unit="°", group="Light",
                                 soft=(-180, 180),
                                 help="Where the light comes from, about the upright: nought is the room's z.")  # fmt: skip
    sun_height: Number = number(45.0, label="Above", low=1, high=90, step=1, unit="°", group="Light")
    sun_soft: float = plain(4, label="Softness", low=0.2, high=40, step=0.2, unit="°", group="Light",
                            help="How wide the light is: the sun is half a degree, a window twenty.")  # fmt: skip
    sun_warm: Number = number(10.0, label="Warm", low=-100, high=100, step=1, unit="%", group="Light")
    sky: Number = number(100.0, label="From all sides", low=0, high=2000, step=1, unit="%", group="Light", soft=(0, 300))
    shadow: bool = switch(True, label="Shadow", group="Shadow ground",
                          help="A surface that nobody sees takes its shadow.")  # fmt: skip
    shadow_strength: Number = number(85.0, label="Strength", low=0, high=100, step=1, unit="%", group="Shadow ground")
    ground_colour: str = Field(default="#7a6a58", pattern=r"^#[0-9a-fA-F]{6}$",
                               description="Colour that the ground throws back on to the model")  # fmt: skip


def draw(layer: ModelLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """The model's picture at a frame; `view` leads from the clip's pixels to the picture's."""
    seat = sources.seat(layer.follow.target)
    if seat is None:
        return CLEAR
    camera, spot = seat
    scale = min(1.0, float(np.sqrt(abs(np.linalg.det(view[:2, :2])))))
    order, offset = order_of(layer, camera, spot, frame, sources.model(layer.asset), scale)
    if order is None:
        return CLEAR
    filmed = sources.film(order)
    strength = np.float32(np.clip(value_at(layer.shadow_strength, frame) / 100, 0, 1))
    rgba = np.dstack([filmed[..., :3], np.clip(filmed[..., 3] + strength * filmed[..., 4], 0, 1)])
    return faded(_on_picture(rgba, camera, frame, order, offset, view, size), layer, frame)


def order_of(
    layer: ModelLayer, camera: RoomCamera, spot: Spot, frame: int, model: str, scale: float
) -> tuple[Order | None, tuple[int, int]]:
    """What is asked of the renderer for a frame, in a picture without distortion at `scale` of the clip; and the
    window's first pixel. None where nothing of it is in the picture."""
    lens = camera.lens(frame)
    width, height = camera.track.size
    w, h = max(1, round(width * scale)), max(1, round(height * scale))
    focal = lens.focal * w / width
    opened = layer.shutter / 360
    count = 1 if opened <= 0 else MOST_INSTANTS
    whens = [frame + ((k + 0.5) / count - 0.5) * opened for k in range(count)]
    views = tuple(_view(layer, camera, spot, when) for when in whens)
    lights = _lights(layer, frame)
    ground = value_at(spot.y, frame) if layer.shadow else None
    corners = _corners(layer, views, lights, ground)
    flat = _projected(views[len(views) // 2], corners, focal, (w / 2, h / 2))
    if flat is None:
        return None, (0, 0)
    # With a bent lens the straight picture reaches further out than the clip's.
    beyond = 0 if lens.straight else int(0.25 * max(w, h))
    low = np.maximum(np.floor(flat.min(axis=0)) - PAD_PX, -beyond - PAD_PX).astype(int)
    high = np.minimum(np.ceil(flat.max(axis=0)) + PAD_PX, [w + beyond + PAD_PX, h + beyond + PAD_PX]).astype(int)
    if (high <= np.maximum(low, [-beyond, -beyond])).any() or high[0] <= 0 or high[1] <= 0 or low[0] >= w or low[1] >= h:
        return None, (0, 0)
    metal, rough = {"own": (None, None), "matte": (0.0, 0.9), "glossy": (0.0, 0.15), "metal": (1.0, 0.25)}[layer.surface]
    samples = SAMPLES["quick" if scale < 0.75 else layer.quality]
    red, green, blue = (int(layer.ground_colour[k : k + 2], 16) for k in (1, 3, 5))
    colour = linear_from_8bit(np.array([[[red, green, blue]]], np.uint8))[0, 0]
    return Order(
        model=model, views=views, focal=focal, principal=(w / 2, h / 2),
        window=(int(low[0]), int(low[1]), int(high[0] - low[0]), int(high[1] - low[1])), lights=lights, ground=ground,
        ground_colour=(float(colour[0]), float(colour[1]), float(colour[2])), samples=samples, metal=metal, rough=rough,
    ), (int(low[0]), int(low[1]))  # fmt: skip


def _view(layer: ModelLayer, camera: RoomCamera, spot: Spot, when: float) -> View:
    at = int(np.clip(round(when), 0, camera.track.frames - 1))
    other = int(np.clip(at + (1 if when > at else -1), 0, camera.track.frames - 1))
    part = min(abs(when - at), 1.0) if other != at else 0.0
    eye = camera.eye(at) * (1 - part) + camera.eye(other) * part
    turn = camera.turn(at) * (1 - part) + camera.turn(other) * part
    u, _, vt = np.linalg.svd(turn)
    return View(eye=eye, turn=u @ vt, model=stands(layer, camera, spot, when))


def stands(layer: ModelLayer, camera: RoomCamera, spot: Spot, when: float) -> F64:
    """(4, 4) from the model's own unit to the room's metres."""
    frame = int(np.clip(round(when), 0, camera.track.frames - 1))
    right, up = spot.axes(when, camera.eye(frame), camera.turn(frame))
    base = np.stack([right, up, np.cross(right, up)], axis=1)
    heading, tilt, roll = (np.radians(value_at(v, when)) for v in (layer.heading, layer.tilt, layer.roll))
    turned = base @ _about("y", heading) @ _about("x", tilt) @ _about("z", roll)
    size = value_at(layer.tall, when) / max(layer.extent[1], 1e-9)
    out = np.eye(4)
    out[:3, :3] = turned * size
    out[:3, 3] = [value_at(v, when) for v in (spot.x, spot.y, spot.z)]
    out[:3, 3] += up * value_at(layer.lift, when)
    return out


def _about(axis: str, angle: float) -> F64:
    c, s = np.cos(angle), np.sin(angle)
    i, j = {"x": (1, 2), "y": (2, 0), "z": (0, 1)}[axis]
    out = np.eye(3)
    out[i, i] = out[j, j] = c
    out[i, j], out[j, i] = -s, s
    return out


def _lights(layer: ModelLayer, frame: int) -> Lights:
    heading, height = np.radians(value_at(layer.sun_heading, frame)), np.radians(value_at(layer.sun_height, frame))
    warm = value_at(layer.sun_warm, frame) / 100
    tint = np.array([1 + 0.35 * warm, 1.0, 1 - 0.45 * warm])
    sun = 0.75 * value_at(layer.sun, frame) / 100 * tint
    sky = 0.22 * value_at(layer.sky, frame) / 100 * np.array([1 - 0.06 * warm, 1.0, 1 + 0.1 * warm])
    way = (np.cos(height) * np.sin(heading), np.sin(height), np.cos(height) * np.cos(heading))
    return Lights(
        sun=(float(way[0]), float(way[1]), float(way[2])), sun_light=(float(sun[0]), float(sun[1]), float(sun[2])),
        sky_light=(float(sky[0]), float(sky[1]), float(sky[2])), soft=float(np.radians(layer.sun_soft)),
    )  # fmt: skip


def _corners(layer: ModelLayer, views: tuple[View, ...], lights: Lights, ground: float | None) -> F64:
    """World points round all that the model and its shadow may cover."""
    x, y, z = layer.extent
    box = np.array([[sx * x / 2, sy * y, sz * z / 2] for sx in (-1, 1) for sy in (0, 1) for sz in (-1, 1)])
    out = []
    for view in views:
        corners = box @ view.model[:3, :3].T + view.model[:3, 3]
        out.append(corners)
        if ground is not None:
            tall = np.maximum(corners[:, 1] - ground, 0)
            sun = np.array(lights.sun)
            along = np.minimum(tall / max(sun[1], 0.05), 8 * max(float(tall.max()), 1e-6))
            cast = corners - along[:, None] * sun
            foot = corners * [1, 0, 1] + [0, ground, 0]
            middle = foot.mean(axis=0)
            # The sky's own shadow is soft and lies all round the foot.
            out += [np.column_stack([cast[:, 0], np.full(8, ground), cast[:, 2]]), middle + (foot - middle) * 1.6]
    return np.concatenate(out)


def _projected(view: View, world: F64, focal: float, principal: tuple[float, float]) -> F64 | None:
    local = (world - view.eye) @ view.turn * [1, -1, -1]
    ahead = local[:, 2] > 1e-3 * max(float(np.abs(local[:, 2]).max()), 1e-9)
    if not ahead.any():
        return None
    safe = local[ahead]
    return np.asarray(safe[:, :2] / safe[:, 2:] * focal + np.array(principal))


def _on_picture(
    rgba: F32, camera: RoomCamera, frame: int, order: Order, offset: tuple[int, int], view: F64, size: tuple[int, int]
) -> Picture:
    """What was filmed without distortion, laid on the picture: bent as the lens bends, late as its rows are read."""
    width = camera.track.size[0]
    zoom = 2 * order.principal[0] / width
    plain = np.diag([zoom, zoom, 1.0])
    track = camera.track
    if track.lens(frame).straight and not track.readout and np.allclose(view / view[2, 2], plain, atol=1e-3):
        # Filmed a little beyond the picture's edge, so that denoising and the shadow's end do not show there.
        x, y = max(offset[0], 0), max(offset[1], 0)
        inside = rgba[y - offset[1] : size[1] - offset[1], x - offset[0] : size[0] - offset[0]]
        return Picture(rgba=np.ascontiguousarray(inside), x=x, y=y) if inside.size else CLEAR
    w, h = size
    # For every fourth pixel of the picture: which pixel of the clip, and which of the straight picture.
    gx, gy = np.meshgrid(np.arange(0, w + 4, 4) + 0.5, np.arange(0, h + 4, 4) + 0.5)
    back = np.linalg.inv(view)
    clip = np.stack([gx, gy, np.ones_like(gx)], axis=-1) @ back.T
    at = clip[..., :2] / clip[..., 2:]
    straight = _straight(camera, frame, order, at) * zoom - np.array(offset)
    coarse = straight.astype(np.float32)
    grid = cv2.resize(coarse, (4 * coarse.shape[1], 4 * coarse.shape[0]), interpolation=cv2.INTER_LINEAR)
    # A grid of every fourth pixel's centre, grown by four, lies one and a half pixels off.
    shift = np.array([[1, 0, -1.5], [0, 1, -1.5]], np.float32)
    fine = cv2.warpAffine(grid, shift, (w, h), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    out = cv2.remap(rgba, fine[..., 0] - 0.5, fine[..., 1] - 0.5, cv2.INTER_CUBIC, borderMode=cv2.BORDER_CONSTANT)
    return Picture(rgba=np.maximum(out, 0))


def _straight(camera: RoomCamera, frame: int, order: Order, at: F64) -> F64:
    """Clip pixels (..., 2) to the pixels, at the clip's size, of a picture without distortion and read-out.

    The read-out is undone for things as far away as the model.
    """
    lens, track = camera.lens(frame), camera.track
    straight = lens.straightened(at)
    if not track.readout:
        return np.asarray(straight)
    middle = order.views[len(order.views) // 2]
    depth = max(float((middle.model[:3, 3] - middle.eye) @ -middle.turn[:, 2]), 1e-6)
    n = track.frames
    before, after = max(frame - 1, 0), min(frame + 1, n - 1)
    rays = np.concatenate([(straight - np.array(lens.principal)) / lens.focal, np.ones((*at.shape[:-1], 1))], axis=-1)
    world = camera.eye(frame) + (rays * depth * [1, -1, -1]) @ camera.turn(frame).T
    speed = (camera.local(after, world) - camera.local(before, world)) / max(after - before, 1)
    late = track.readout * (at[..., 1:] / track.size[1] - 0.5) * speed
    local = camera.local(frame, world) - late
    return np.asarray(local[..., :2] / np.maximum(local[..., 2:], 1e-6) * lens.focal + np.array(lens.principal))
