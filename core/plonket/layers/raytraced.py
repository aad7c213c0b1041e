"""From a room's layers to what the renderer is asked for, and from what it films to the picture."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import cv2
import numpy as np

from plonket.base.coarse import coarsely
from plonket.base.conventions import F32, F64
from plonket.image.picture import CLEAR, Picture
from plonket.raytrace.request import CameraView, Instance, Lights
from plonket.room.camera import RoomCamera
from plonket.room.lens import Lens

PAD_PX = 28
"""Round what is seen and its shadow, of the filmed picture: a shadow's soft end must not be cut."""

EDGE_POINTS = 17
"""So many places of each edge tell how far a picture without distortion reaches."""
COARSE = 4
"""Every so many pixels it is worked out where they lie in a picture without distortion."""
STEP_PX = 48
"""Windows grow in steps: the path tracer compiles itself anew, a second long, for every size it has not met."""


@dataclass(frozen=True, slots=True, kw_only=True)
class RectilinearWindow:
    """A picture without distortion and read-out: `scale` of the clip's size, of which a window is filmed.

    Attributes
    ----------
    focal, principal : its pixels. window : x, y, width, height.
    """

    scale: float
    focal: float
    principal: tuple[float, float]
    window: tuple[int, int, int, int]


def instants(frame: int, shutter: float, count: int) -> list[float]:
    """Moments of an exposure, alike in weight: one without motion blur."""
    opened = shutter / 360
    n = 1 if opened <= 0 else count
    return [frame + ((k + 0.5) / n - 0.5) * opened for k in range(n)]


def view_at(camera: RoomCamera, when: float) -> CameraView:
    """The camera at a moment, between frames too."""
    last = camera.track.frames - 1
    at = int(np.clip(round(when), 0, last))
    other = int(np.clip(at + (1 if when > at else -1), 0, last))
    part = min(abs(when - at), 1.0) if other != at and camera.goes_on(at, other) else 0.0
    eye = camera.eye(at) * (1 - part) + camera.eye(other) * part
    turn = camera.turn(at) * (1 - part) + camera.turn(other) * part
    u, _, vt = np.linalg.svd(turn)
    return CameraView(eye=eye, turn=np.asarray(u @ vt))


def cast(corners: F64, lights: Lights, ground: float) -> F64:
    """(m, 3) where on the ground the shadow of a box (8, 3) may lie."""
    tall = np.maximum(corners[:, 1] - ground, 0)
    most = 8 * max(float(tall.max()), 1e-6)
    foot = corners * [1, 0, 1] + [0, ground, 0]
    middle = foot.mean(axis=0)
    # The sky's own shadow is soft and lies all round the foot.
    out = [middle + (foot - middle) * 1.6]
    if max(lights.sun_light) > 0:
        sun = np.array(lights.sun)
        out.append(_flat(corners - np.minimum(tall / max(sun[1], 0.05), most)[:, None] * sun, ground))
    for lamp in lights.lamps:
        way = corners - lamp.place[:3, 3]
        down = np.maximum(-way[:, 1], 1e-9)
        thrown = np.minimum(tall / down, most / np.maximum(np.linalg.norm(way, axis=1), 1e-9))
        out.append(_flat(corners + thrown[:, None] * way, ground))
    return np.concatenate(out)


def _flat(points: F64, ground: float) -> F64:
    return np.column_stack([points[:, 0], np.full(len(points), ground), points[:, 2]])


def rectilinear_window(
    camera: RoomCamera, frame: int, scale: float, views: Sequence[CameraView], corners: Sequence[F64]
) -> RectilinearWindow | None:
    """What part of the straight picture world points (m, 3), seen at each view, lie in; None: nothing is to be seen."""
    lens = camera.lens(frame)
    width, height = camera.track.size
    w, h = max(1, round(width * scale)), max(1, round(height * scale))
    focal = lens.focal * w / width
    parts = [_projected(v, c, focal, (w / 2, h / 2)) for v, c in zip(views, corners, strict=True)]
    seen = [p for p in parts if len(p)]
    if not seen:
        return None
    if any(0 < len(p) < len(c) for p, c in zip(parts, corners, strict=True)):
        # What reaches behind the camera may be seen anywhere.
        seen.append(np.array([[0.0, 0.0], [w, h]]))
    flat = np.concatenate(seen)
    first, last = _reach(lens, (width, height), w / width)
    low = np.floor(np.maximum(flat.min(axis=0), first) - PAD_PX).astype(int)
    high = np.ceil(np.minimum(flat.max(axis=0), last) + PAD_PX).astype(int)
    if (flat.max(axis=0) <= first - PAD_PX).any() or (flat.min(axis=0) >= last + PAD_PX).any():
        return None
    wide, tall = (int(-(-n // STEP_PX) * STEP_PX) for n in high - low)
    window = (int(low[0]), int(low[1]), wide, tall)
    return RectilinearWindow(scale=w / width, focal=focal, principal=(w / 2, h / 2), window=window)


def _reach(lens: Lens, size: tuple[int, int], scale: float) -> tuple[F64, F64]:
    """First and last corner (2,) of what a clip's picture shows, in a picture without distortion: with a bent lens it reaches
    further out, or less far."""
    along = np.linspace(0, 1, EDGE_POINTS)
    edge = np.concatenate([np.stack([along, np.full_like(along, k)], axis=1) for k in (0, 1)])
    places = lens.undistort_pixels(np.concatenate([edge, edge[:, ::-1]]) * size) * scale
    return np.asarray(places.min(axis=0)), np.asarray(places.max(axis=0))


def _projected(view: CameraView, world: F64, focal: float, principal: tuple[float, float]) -> F64:
    local = (world - view.eye) @ view.turn * [1, -1, -1]
    ahead = local[:, 2] > 1e-3 * max(float(np.abs(local[:, 2]).max()), 1e-9)
    safe = local[ahead]
    return np.asarray(safe[:, :2] / safe[:, 2:] * focal + np.array(principal))


def on_picture(
    rgba: F32, camera: RoomCamera, frame: int, straight: RectilinearWindow, depth: float, view: F64, size: tuple[int, int],
    sampling: Literal["smooth", "sharp"] = "sharp",
) -> Picture:  # fmt: skip
    """What was made without distortion, laid on the picture: bent as the lens bends, late as its rows are read.

    Parameters
    ----------
    rgba : (h, w, 4) of the window. depth : metres at which the read-out is right. view : (3, 3) clip to picture.
    """
    zoom = straight.scale
    x0, y0 = straight.window[:2]
    plain = np.diag([zoom, zoom, 1.0])
    track = camera.track
    if track.lens(frame).straight and not track.readout and np.allclose(view / view[2, 2], plain, atol=1e-3):
        # Made a little beyond the picture's edge, so that denoising and the shadow's end do not show there.
        x, y = max(x0, 0), max(y0, 0)
        inside = rgba[y - y0 : size[1] - y0, x - x0 : size[0] - x0]
        return Picture(rgba=np.ascontiguousarray(inside), x=x, y=y) if inside.size else CLEAR
    w, h = size
    back = np.linalg.inv(view)

    def straight_pixels(places: F64) -> F64:
        clip = np.concatenate([places, np.ones((*places.shape[:-1], 1))], axis=-1) @ back.T
        at = clip[..., :2] / clip[..., 2:]
        return _straightened(camera, frame, depth, at) * zoom - np.array([x0, y0])

    fine = coarsely(straight_pixels, (w, h), COARSE)
    how = cv2.INTER_CUBIC if sampling == "sharp" else cv2.INTER_LINEAR
    out = cv2.remap(rgba, fine[..., 0] - 0.5, fine[..., 1] - 0.5, how, borderMode=cv2.BORDER_CONSTANT)
    return Picture(rgba=np.maximum(out, 0))


def _straightened(camera: RoomCamera, frame: int, depth: float, at: F64) -> F64:
    """Clip pixels (..., 2) to the pixels, at the clip's size, of a picture without distortion and read-out."""
    lens, track = camera.lens(frame), camera.track
    straight = lens.undistort_pixels(at)
    if not track.readout:
        return np.asarray(straight)
    rays = np.concatenate([(straight - np.array(lens.principal)) / lens.focal, np.ones((*at.shape[:-1], 1))], axis=-1)
    world = camera.eye(frame) + (rays * max(depth, 1e-6) * [1, -1, -1]) @ camera.turn(frame).T
    late = track.readout * (at[..., 1:] / track.size[1] - 0.5) * camera.speed(frame, world)
    local = camera.local(frame, world) - late
    return np.asarray(local[..., :2] / np.maximum(local[..., 2:], 1e-6) * lens.focal + np.array(lens.principal))


def box_corners(extent: tuple[float, float, float]) -> F64:
    """(8, 3) corners of a box that stands on its origin."""
    x, y, z = extent
    return np.array([[sx * x / 2, sy * y, sz * z / 2] for sx in (-1, 1) for sy in (0, 1) for sz in (-1, 1)])


def stood(corners: F64, thing: Instance, k: int) -> F64:
    """(m, 3) points of a thing in the room at a view."""
    m = thing.stands[k]
    return np.asarray(corners @ m[:3, :3].T + m[:3, 3])
