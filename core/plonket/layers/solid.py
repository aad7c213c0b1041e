"""What is in a room, as surfaces: where a look into the picture ends, and how far away that is."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import numpy as np

from plonket.base.conventions import F32, F64
from plonket.document.spot import Spot
from plonket.layers.falling import FallenLayer
from plonket.layers.form import FormLayer, form_matrix
from plonket.layers.hidden import measured_nearness
from plonket.layers.model import MeshLayer, copies
from plonket.layers.sources import Sources
from plonket.layers.standing import StandingLayer
from plonket.layers.surfaces import nearness_of
from plonket.room.camera import RoomCamera
from plonket.room.meshes.raster import touched
from plonket.room.meshes.thing import Thing, form_body, model_body

HORIZON = 0.02
"""How steeply a look must go down to meet the ground: nearer to the horizon a pixel is a mile."""
AROUND_PX, AROUND_OF = 28, 1280
"""Pixels round a pixel, in a picture so wide, whose measured distances tell its own, and which way its surface faces."""
ALIKE = 0.03
"""Share of a distance by which those may differ from the middle one: what lies elsewhere is another surface."""
FLAT, LEAST, ROUNDS = 0.008, 20, 3
"""Share of a distance by which half of them at the least may differ from a flat surface for its way to be known; how many there
must be; and how often it is laid through those that do not."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Landing:
    """Where a look ends.

    Attributes
    ----------
    place : (3,) metres in the room. on : the layer that it meets; None: the ground, or the surface that was asked for.
    normal : (3,) unit way that the footage's surface there faces, by its measured depth; None: it is not known.
    """

    place: F64
    on: str | None = None
    normal: F64 | None = None


def landing(
    sources: Sources, motion: str, frame: int, pixel: tuple[float, float], surface: Spot | None = None,
    without: str | None = None,
) -> Landing | None:  # fmt: skip
    """What a pixel (x, y) of the clip's frame shows of a solved room: the nearest of its forms, its models and what was
    measured there of the footage; where nothing was, the ground.

    With a `surface` it is that spot's endless flat wall, wherever the look meets it. `without` is a layer that is looked
    through: what is moved does not land on itself. None: the room is not solved, or nothing is met.
    """
    seat = sources.seat(motion)
    if seat is None:
        return None
    camera, _ = seat
    eye, way = camera.ray(frame, np.array(pixel))
    if surface is not None:
        met = _on_surface(camera, frame, surface, eye, way)
        if met is not None:
            return Landing(place=met)
    ahead = -camera.turn(frame)[:, 2]
    x, y, z = camera.lens(frame).rays(np.array(pixel, np.float64))
    best: Landing | None = None
    far = np.inf
    measured = _measured(sources, motion, camera, frame, pixel)
    if measured is not None:
        far, faces = measured
        place = camera.turn(frame) @ (np.array([x / z, -y / z, -1.0]) * far) + eye
        best = Landing(place=place, normal=None if faces is None else camera.turn(frame) @ (faces * [1.0, -1.0, -1.0]))
    elif abs(way[1]) > HORIZON and eye[1] / way[1] < 0:
        place = eye - way * (eye[1] / way[1])
        best, far = Landing(place=place), float((place - eye) @ ahead)
    for layer, corners in solids(sources, motion, frame):
        if layer.id == without:
            continue
        local = touched(camera.local(frame, corners), (float(x / z), float(y / z)))
        if local is not None and local[2] < far:
            far = float(local[2])
            best = Landing(place=camera.turn(frame) @ (local * [1.0, -1.0, -1.0]) + eye, on=layer.id)
    return best


def _measured(
    sources: Sources, motion: str, camera: RoomCamera, frame: int, pixel: tuple[float, float]
) -> tuple[float, F64 | None] | None:
    """How far away, in metres before the camera, what a pixel shows was measured to be, and which way (3,) it faces there, as
    `RoomCamera.local`, if it is flat."""
    told = sources.depth(motion, frame)
    if told is None:
        return None
    depth = told.depth
    reach = max(2, round(AROUND_PX * depth.shape[1] / AROUND_OF))
    x0, y0 = max(int(pixel[0]) - reach, 0), max(int(pixel[1]) - reach, 0)
    part = depth[y0 : int(pixel[1]) + reach + 1, x0 : int(pixel[0]) + reach + 1].astype(np.float64)
    if not (part > 0).any():
        return None
    middle = float(np.median(part[part > 0]))
    ys, xs = np.nonzero(np.abs(part - middle) < ALIKE * middle)
    if len(ys) < LEAST:
        return middle, None
    rays = camera.lens(frame).rays(np.stack([xs + x0, ys + y0], axis=1) + 0.5)
    flat = rays / rays[:, 2:]
    near = 1 / part[ys, xs]
    # On a flat surface one over the distance changes evenly, as its normal does say.
    normal: F64 = np.zeros(3)
    on_it = np.ones(len(near), np.bool_)
    for _ in range(ROUNDS):
        normal = np.asarray(np.linalg.lstsq(flat[on_it], near[on_it], rcond=None)[0], np.float64)
        on_it = np.abs(flat @ normal - near) < FLAT / middle
        if on_it.sum() < max(LEAST, len(near) // 2):
            return middle, None
    own = camera.lens(frame).rays(np.array(pixel, np.float64))
    return 1 / float(own / own[2] @ normal), np.asarray(-normal / np.linalg.norm(normal))


def _on_surface(camera: RoomCamera, frame: int, spot: Spot, eye: F64, way: F64) -> F64 | None:
    right, up = spot.axes(frame, eye, camera.turn(frame))
    normal = np.cross(right, up)
    slant = float(normal @ way)
    far = float(normal @ (spot.place(frame) - eye)) / slant if abs(slant) > HORIZON else -1.0
    return eye + way * far if far > 0 else None


def solids(sources: Sources, motion: str, frame: int) -> list[tuple[StandingLayer, F64]]:
    """The models and forms of a room with their triangles (m, 3, 3) in the room's metres."""
    return [(layer, thing.body.corners @ m[:3, :3].T + m[:3, 3]) for layer, thing in things(sources, motion, frame)
            for m in thing.stands(frame)]  # fmt: skip


def things(sources: Sources, motion: str, frame: int) -> list[tuple[StandingLayer, Thing]]:
    """The models and forms of a room that are there at a frame, each with all its copies."""
    out: list[tuple[StandingLayer, Thing]] = []
    for layer in sources.neighbours(motion):
        seat = sources.seat(layer.follow.target) if isinstance(layer, StandingLayer) else None
        if seat is None or not layer.is_there(frame):
            continue
        if isinstance(layer, MeshLayer):
            fallen = sources.fallen(layer.id)
            wide, tall, deep = layer.extent
            body = model_body(sources.model(layer.asset), (wide, tall, deep))
            out.append((layer, Thing(body=body, stands=partial(_copies, layer, seat, fallen))))
        elif isinstance(layer, FormLayer):
            out.append((layer, Thing(body=form_body(layer.shape), stands=partial(_form, layer, seat))))
    return out


def _copies(layer: MeshLayer, seat: tuple[RoomCamera, Spot], fallen: FallenLayer | None, when: float) -> list[F64]:
    return copies(layer, *seat, when, fallen)


def _form(layer: FormLayer, seat: tuple[RoomCamera, Spot], when: float) -> list[F64]:
    return [form_matrix(layer, *seat, when)]


def inverse_depth_of(sources: Sources, motion: str, frame: int, size: tuple[int, int], view: F64) -> F32 | None:
    """One over the distance before the camera (h, w), in 1/m, of what each pixel shows of a room: what was measured of the
    footage, else its ground and forms, and its models.

    Nought is the sky, or all that lies beyond the ground. `view` leads from the clip's pixels to the picture's of `size`.
    None: the room is not solved.
    """
    seat = sources.seat(motion)
    if seat is None:
        return None
    corners = [c for _, c in solids(sources, motion, frame)]
    measured = measured_nearness(sources, motion, frame, size, view)
    if measured is None:
        return nearness_of(seat[0], frame, size, view, 0.0, corners)
    ground = nearness_of(seat[0], frame, size, view, 0.0, [])
    real = np.where(measured > 0, measured, ground)
    return np.maximum(real, nearness_of(seat[0], frame, size, view, None, corners)) if corners else real


def spot_inverse_depth(sources: Sources, target: str | None, frame: int) -> float | None:
    """One over the distance, in 1/m, of a spot in a room; None: it is none, or behind the camera."""
    seat = sources.seat(target)
    if seat is None:
        return None
    camera, spot = seat
    ahead = float(camera.local(frame, spot.middle(frame, camera.eye(frame), camera.turn(frame)))[2])
    return 1 / ahead if ahead > 1e-6 else None
