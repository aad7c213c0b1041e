"""How near the surfaces of a room are in a picture: its ground, and things given by their triangles."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np

from plonket.base.conventions import F32, F64
from plonket.layers.form import FormLayer, form_matrix
from plonket.layers.raytraced import RectilinearWindow, on_picture
from plonket.layers.sources import Sources
from plonket.room.camera import RoomCamera
from plonket.room.meshes.forms import unit_form
from plonket.room.meshes.raster import seen_by

FINE = 2
SAME = 0.01
"""Share of a distance within which a thing lies in a surface, not before it."""
BEYOND = 0.25
"""Shares of the picture that are made outside it, for what a bent or steadied picture fetches from there."""


def shadow_nearness(
    sources: Sources, target: str | None, frame: int, size: tuple[int, int], view: F64, height: float
) -> F32 | None:
    """One over the distance, (h, w) in 1/m, of what takes shadows in a room: the ground at a height, and what is really there
    as forms. None: the room is not solved."""
    seat = sources.seat(target)
    if seat is None:
        return None
    corners: list[F64] = []
    for layer in sources.neighbours(target):
        if isinstance(layer, FormLayer) and layer.use == "holdout" and layer.is_there(frame):
            found = sources.seat(layer.follow.target)
            if found is not None:
                m = form_matrix(layer, *found, frame)
                corners.append(np.asarray(unit_form(layer.shape).corners() @ m[:3, :3].T + m[:3, 3]))
    return nearness_of(seat[0], frame, size, view, height, corners)


def nearness_of(
    camera: RoomCamera, frame: int, size: tuple[int, int], view: F64, ground: float | None, corners: Sequence[F64]
) -> F32:
    """One over the distance, (h, w) in 1/m, of a ground at a height, or none, and of things' triangles (m, 3, 3) in the room; 0
    where there is nothing. `view` leads from the clip's pixels to the picture's of `size`."""
    straight = whole_window(camera, frame, view)
    if ground is None:
        near = np.zeros((straight.window[3], straight.window[2]), np.float32)
    else:
        near = ground_nearness(camera, frame, straight, ground)
    if corners:
        near = _before(near, camera.local(frame, np.concatenate(list(corners))), straight)
    # Only a read-out asks how far away things are, for the most part.
    middle = float(np.median(near[near > 0])) if camera.track.readout and (near > 0).any() else 1.0
    out = on_picture(near[..., None], camera, frame, straight, 1 / middle, view, size, "smooth")
    return np.asarray(out.rgba.reshape(out.rgba.shape[:2]), np.float32)


def whole_window(camera: RoomCamera, frame: int, view: F64) -> RectilinearWindow:
    """All of the picture to which `view` leads, and what lies round it if more than that is asked for, without distortion."""
    scale = min(1.0, float(np.sqrt(abs(np.linalg.det(view[:2, :2])))))
    lens = camera.lens(frame)
    w, h = (max(1, round(n * scale)) for n in camera.track.size)
    as_filmed = np.allclose(view / view[2, 2], np.diag([scale, scale, 1.0]), atol=1e-3)
    more = [0 if as_filmed and lens.straight and not camera.track.readout else round(BEYOND * n) for n in (w, h)]
    return RectilinearWindow(
        scale=w / camera.track.size[0], focal=lens.focal * w / camera.track.size[0], principal=(w / 2, h / 2),
        window=(-more[0], -more[1], w + 2 * more[0], h + 2 * more[1]),
    )  # fmt: skip


def share_before(
    camera: RoomCamera, frame: int, size: tuple[int, int], view: F64, corners: Sequence[F64], normal: F64, offset: float
) -> F32:
    """How much of each pixel (h, w) things' triangles (m, 3, 3) in the room cover that lie before a flat surface.

    normal, offset : of the surface before the camera: what lies on it has `normal` @ place = `offset`, as `RoomCamera.local`.
    """
    straight = whole_window(camera, frame, view)
    local = camera.local(frame, np.concatenate(list(corners)))
    if not (local @ normal / offset < 1 - SAME).any():
        return np.zeros(size[::-1], np.float32)
    x0, y0, w, h = straight.window
    cx, cy = (straight.principal[0] - x0) * FINE, (straight.principal[1] - y0) * FINE
    focal = straight.focal * FINE
    depth, _ = seen_by(local, focal, (cx, cy), (w * FINE, h * FINE))
    # One over the distance of the surface changes evenly over the picture.
    across = normal[0] * (np.arange(w * FINE) + 0.5 - cx) / focal
    down = normal[1] * (np.arange(h * FINE) + 0.5 - cy) / focal
    own = (across[None, :] + down[:, None] + normal[2]) / offset
    near = np.isfinite(depth) & (depth * own < 1 - SAME)
    share = cv2.resize(near.astype(np.float32), (w, h), interpolation=cv2.INTER_AREA)
    middle = float(np.median(depth[near])) if camera.track.readout and near.any() else 1.0
    out = on_picture(share[..., None], camera, frame, straight, middle, view, size, "smooth")
    return np.asarray(np.clip(out.rgba.reshape(out.rgba.shape[:2]), 0, 1), np.float32)


def ground_nearness(camera: RoomCamera, frame: int, straight: RectilinearWindow, level: float) -> F32:
    """(h, w) nearness of a level ground in the straight window."""
    x0, y0, w, h = straight.window
    across = (np.arange(w) + 0.5 + x0 - straight.principal[0]) / straight.focal
    down = (np.arange(h) + 0.5 + y0 - straight.principal[1]) / straight.focal
    turn, height = camera.turn(frame), float(camera.eye(frame)[1]) - level
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
