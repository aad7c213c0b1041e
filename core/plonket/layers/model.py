"""3D models standing in a solved room, with their shadow on the ground."""

from __future__ import annotations

from dataclasses import replace

import cv2
import numpy as np

from plonket.base.colour import linear_of
from plonket.base.conventions import F32, F64
from plonket.base.fields import value_at
from plonket.document.kinds import LAYERS, LayerEntry
from plonket.image.picture import CLEAR, Picture, windowed
from plonket.layers.common import faded
from plonket.layers.filmed import FilmedLayer
from plonket.layers.hidden import Hiding, hiding
from plonket.layers.model_order import FULL_SKY, FULL_SUN, Set, bodies_of, copies, order_for, order_of, pivot_at, set_of, stands
from plonket.layers.model_settings import MeshLayer
from plonket.layers.raytraced import RectilinearWindow, on_picture
from plonket.layers.receiver import off_the_ground
from plonket.layers.sources import Sources
from plonket.layers.surfaces import ground_nearness, shadow_nearness
from plonket.raytrace.request import FILMED, RenderRequest
from plonket.room.camera import RoomCamera

SHADOW_AHEAD = 0.03
"""Share of its distance by which what hides a shadow is nearer: the ground is flat in the room, not quite so in the footage."""
ON_IT, STOOD_ON, SHADED = 0.2, 0.03, 0.015
"""Shares of a model's height, and of its distance, within which a surface is what it stands on; and takes its shadow."""
SOFT_PX = 1.0
"""How softly the shadow on the ground goes over into that on what was filmed, in pixels of the clip."""


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
    depth = float((order.things[0].stands[len(order.views) // 2][:3, 3] - order.views[0].eye) @ -order.views[0].turn[:, 2])
    stood, under = (min(ON_IT * value_at(layer.tall, frame), share * max(depth, 0)) for share in (STOOD_ON, SHADED))
    shadow = strength * _behind_all(filmed, order, seat[0], frame, straight, under)
    rgba = np.dstack([hazed(filmed, layer, frame), np.clip(filmed[..., 3] + shadow, 0, 1)])
    mirrored = filmed[..., FILMED : FILMED + 4] if order.mirror is not None else None

    def laid(straight_rgba: F32) -> Picture:
        return on_picture(straight_rgba, seat[0], frame, straight, depth, view, size)

    picture = laid(rgba)
    thrown_back = None if mirrored is None else laid(mirrored).rgba
    found = hiding(sources, layer.follow.target, frame, size, view) if layer.follow.hidden and picture.rgba.size else None
    if found is not None:
        near = filmed_nearness(filmed, straight)
        told = laid(np.dstack([near * filmed[..., 3], filmed[..., 3], shadow, strength * filmed[..., 6]])).rgba
        level = value_at(seat[1].y, frame)
        on_ground = shadow.any() or mirrored is not None
        ground = shadow_nearness(sources, layer.follow.target, frame, size, view, level) if on_ground else None
        picture = _hidden(picture, told, found.above(level, stood), found.above(level, under), ground)
        if thrown_back is not None and ground is not None:
            thrown_back = _ground_seen(thrown_back, found.above(level, under), ground, picture)
    if thrown_back is not None:
        picture.rgba[..., 3] += thrown_back[..., 3] * (1 - picture.rgba[..., 3])
        picture.rgba[..., :3] += thrown_back[..., :3]
    return faded(picture, layer, frame)


def surface_at(
    layer: MeshLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64
) -> tuple[F32, F32] | None:
    """How far before the camera each pixel of the model lies, (h, w) in metres, 0 where it is not; and its normals (h, w, 3),
    x right, y up, z to the camera."""
    made, seat = order_for(layer, sources, frame, view), sources.seat(layer.follow.target)
    if made is None or seat is None:
        return None
    order, straight = made
    filmed = sources.film(replace(order, normals=True))
    away = float((order.things[0].stands[len(order.views) // 2][:3, 3] - order.views[0].eye) @ -order.views[0].turn[:, 2])
    cover = filmed[..., 3]
    ways = filmed[..., -3:] @ order.views[len(order.views) // 2].turn.astype(np.float32)
    # A picture holds no less than nothing: normals are lifted above it on their way.
    parts = (np.dstack([filmed_nearness(filmed, straight) * cover, cover, cover, cover]),
             np.dstack([(ways + cover[..., None]) / 2, cover]))  # fmt: skip
    told = [windowed(on_picture(part.astype(np.float32), seat[0], frame, straight, away, view, size, "smooth"), 0, 0, size)
            for part in parts]  # fmt: skip
    there = told[0][..., 1] > 1 / 64
    near = np.where(there, told[0][..., 0] / np.maximum(told[0][..., 1], 1 / 64), 0)
    depth = np.where(near > 1e-9, 1 / np.maximum(near, 1e-9), 0).astype(np.float32)
    normals = np.where(there[..., None], told[1][..., :3] / np.maximum(told[1][..., 3:], 1 / 64) * 2 - 1, 0)
    normals /= np.maximum(np.linalg.norm(normals, axis=2, keepdims=True), 1e-6)
    return depth, normals.astype(np.float32)


def filmed_nearness(filmed: F32, straight: RectilinearWindow) -> F32:
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


def _ground_seen(mirrored: F32, by: Hiding, ground: F32, picture: Picture) -> F32:
    """What the ground mirrors (h, w, 4), less what hides the ground; `ground` (H, W) is its nearness."""
    h, w = mirrored.shape[:2]
    lies = ground[picture.y : picture.y + h, picture.x : picture.x + w]
    share, _ = by.seen(lies, np.where(lies > 0, mirrored[..., 3], 0), picture.x, picture.y, SHADOW_AHEAD)
    return np.asarray(mirrored * share[..., None], np.float32)


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


def hazed(filmed: F32, layer: FilmedLayer, frame: int) -> F32:
    """The model's light, lost in the air with distance and replaced by the air's own."""
    share = float(np.clip(value_at(layer.haze, frame) / 100, 0, 0.999))
    if share <= 0:
        return np.asarray(filmed[..., :3])
    cover = filmed[..., 3:4]
    far = filmed[..., 5:6] / np.maximum(cover, 1e-4)
    kept = np.float32(1 - share) ** (far / np.float32(max(value_at(layer.haze_at, frame), 1e-3)))
    return np.asarray(filmed[..., :3] * kept + linear_of(layer.haze_colour).astype(np.float32) * cover * (1 - kept), np.float32)


def _mirrorless(layer: MeshLayer) -> MeshLayer | None:
    return None if layer.mirror == 0 else layer.model_copy(update={"mirror": 0.0})


LAYERS.add(LayerEntry(
    kind="model", order=50, label="Model", settings=MeshLayer, run=draw,
    help="A 3D model standing in a solved room, with its shadow.",
    traits=frozenset({"standing", "follows", "matched", "filmed"}), handles="standing",
    shadowless=lambda layer: layer.model_copy(update={"shadow_strength": 0.0}), mirrorless=_mirrorless, surface=surface_at,
    bodies=bodies_of,
    groups=("Model", ("Movement", {"moving": (True,)}), "Stands", ("Falls", {"falls": (True,)}), "Filmed",
            "Light", "Shadow ground", "Copies", "Haze", "Mix"),
    card={"": "Model"},
    says={"": "3D model in the room: drag it over the ground, with Shift up and down, with Ctrl on to what is there"},
))  # fmt: skip


__all__ = [
    "FULL_SKY", "FULL_SUN", "MeshLayer", "Set", "copies", "draw", "order_for", "order_of", "pivot_at", "set_of", "stands",
]  # fmt: skip
