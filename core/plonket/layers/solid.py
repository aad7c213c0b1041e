"""What is in a room, as surfaces: where a look into the picture ends, and how far away that is."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from plonket.base.conventions import F32, F64
from plonket.document.spot import Spot
from plonket.layers.form import FormLayer, form_matrix
from plonket.layers.model import MeshLayer, copies
from plonket.layers.raytraced import RectilinearWindow, on_picture
from plonket.layers.sources import Sources
from plonket.layers.standing import StandingLayer
from plonket.room.camera import RoomCamera
from plonket.room.meshes.forms import model_form, unit_form
from plonket.room.meshes.raster import seen_by, touched

HORIZON = 0.02
"""How steeply a look must go down to meet the ground: nearer to the horizon a pixel is a mile."""
FINE = 2
BEYOND = 0.25
"""Shares of the picture that are made outside it, for what a bent or steadied picture fetches from there."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Landing:
    """Where a look ends.

    Attributes
    ----------
    place : (3,) metres in the room. on : the layer that it meets; None: the ground, or the surface that was asked for.
    """

    place: F64
    on: str | None = None


def landing(
    sources: Sources, motion: str, frame: int, pixel: tuple[float, float], surface: Spot | None = None,
    without: str | None = None,
) -> Landing | None:  # fmt: skip
    """What a pixel (x, y) of the clip's frame shows of a solved room: the nearest of its forms, its models and the ground.

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
    if abs(way[1]) > HORIZON and eye[1] / way[1] < 0:
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


def _on_surface(camera: RoomCamera, frame: int, spot: Spot, eye: F64, way: F64) -> F64 | None:
    right, up = spot.axes(frame, eye, camera.turn(frame))
    normal = np.cross(right, up)
    slant = float(normal @ way)
    far = float(normal @ (spot.place(frame) - eye)) / slant if abs(slant) > HORIZON else -1.0
    return eye + way * far if far > 0 else None


def solids(sources: Sources, motion: str, frame: int) -> list[tuple[StandingLayer, F64]]:
    """The models and forms of a room with their triangles (m, 3, 3) in the room's metres."""
    out: list[tuple[StandingLayer, F64]] = []
    for layer in sources.neighbours(motion):
        seat = sources.seat(layer.follow.target) if isinstance(layer, StandingLayer) else None
        if seat is None or not layer.is_there(frame):
            continue
        if isinstance(layer, MeshLayer):
            corners = model_form(sources.model(layer.asset)).corners() * np.array(layer.extent)
            out += [(layer, corners @ m[:3, :3].T + m[:3, 3]) for m in copies(layer, *seat, frame)]
        elif isinstance(layer, FormLayer):
            m = form_matrix(layer, *seat, frame)
            out.append((layer, unit_form(layer.shape).corners() @ m[:3, :3].T + m[:3, 3]))
    return out


def inverse_depth_of(sources: Sources, motion: str, frame: int, size: tuple[int, int], view: F64) -> F32 | None:
    """One over the distance before the camera (h, w), in 1/m, of what each pixel shows of a room: its ground, forms, models.

    Nought is the sky, or all that lies beyond the ground. `view` leads from the clip's pixels to the picture's of `size`.
    None: the room is not solved.
    """
    seat = sources.seat(motion)
    if seat is None:
        return None
    camera, _ = seat
    scale = min(1.0, float(np.sqrt(abs(np.linalg.det(view[:2, :2])))))
    lens = camera.lens(frame)
    w, h = (max(1, round(n * scale)) for n in camera.track.size)
    as_filmed = np.allclose(view / view[2, 2], np.diag([scale, scale, 1.0]), atol=1e-3)
    more = [0 if as_filmed and lens.straight and not camera.track.readout else round(BEYOND * n) for n in (w, h)]
    straight = RectilinearWindow(
        scale=w / camera.track.size[0], focal=lens.focal * w / camera.track.size[0], principal=(w / 2, h / 2),
        window=(-more[0], -more[1], w + 2 * more[0], h + 2 * more[1]),
    )  # fmt: skip
    near = _ground(camera, frame, straight)
    corners = [c for _, c in solids(sources, motion, frame)]
    if corners:
        near = _before(near, camera.local(frame, np.concatenate(corners)), straight)
    # Only a read-out asks how far away things are, for the most part.
    middle = float(np.median(near[near > 0])) if camera.track.readout and (near > 0).any() else 1.0
    out = on_picture(near[..., None], camera, frame, straight, 1 / middle, view, size, "smooth")
    return np.asarray(out.rgba.reshape(out.rgba.shape[:2]), np.float32)


def _ground(camera: RoomCamera, frame: int, straight: RectilinearWindow) -> F32:
    """(h, w) nearness of the room's ground in the straight window."""
    x0, y0, w, h = straight.window
    across = (np.arange(w) + 0.5 + x0 - straight.principal[0]) / straight.focal
    down = (np.arange(h) + 0.5 + y0 - straight.principal[1]) / straight.focal
    turn, height = camera.turn(frame), float(camera.eye(frame)[1])
    # Rays reach one metre ahead; how much they fall on that way says how far the ground is.
    fall = turn[1, 0] * across[None, :] - turn[1, 1] * down[:, None] - turn[1, 2]
    return np.asarray(np.maximum(-fall / height, 0) if abs(height) > 1e-6 else np.zeros((h, w)), np.float32)


def _before(near: F32, local: F64, straight: RectilinearWindow) -> F32:
    """Nearness with things (m, 3, 3) before the camera in front, their edges smooth."""
    x0, y0, w, h = straight.window
    cx, cy = straight.principal[0] - x0, straight.principal[1] - y0
    depth, _ = seen_by(local, straight.focal * FINE, (cx * FINE, cy * FINE), (w * FINE, h * FINE))
    there = np.isfinite(depth)
    things = np.where(there, 1 / np.where(there, depth, 1), 0).astype(np.float32)
    # The ground goes through things that stand on it: what is nearer counts.
    behind = cv2.resize(near, (w * FINE, h * FINE), interpolation=cv2.INTER_LINEAR)
    fine = np.where(there & (things > behind * np.float32(1 - 1e-4)), things, behind)
    return np.asarray(cv2.resize(fine, (w, h), interpolation=cv2.INTER_AREA), np.float32)


def spot_inverse_depth(sources: Sources, target: str | None, frame: int) -> float | None:
    """One over the distance, in 1/m, of a spot in a room; None: it is none, or behind the camera."""
    seat = sources.seat(target)
    if seat is None:
        return None
    camera, spot = seat
    ahead = float(camera.local(frame, spot.place(frame))[2])
    return 1 / ahead if ahead > 1e-6 else None
