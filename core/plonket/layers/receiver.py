"""What was filmed as a surface that takes shadows: the measured depth of a frame as places and normals in the room."""

from __future__ import annotations

import cv2
import numpy as np

from plonket.base.coarse import coarsely
from plonket.base.conventions import F32, F64
from plonket.depth.frame_depth import FrameDepth
from plonket.layers.raytraced import RectilinearWindow
from plonket.raytrace.request import Receiver
from plonket.room.camera import RoomCamera

EVEN_PX, EVEN_OF = 5.0, 1280
"""Over so many pixels, of a picture so wide, depth is evened out within a surface."""
ONE_SURFACE = 0.012
"""Share of a distance by which places of one surface may differ from pixel to pixel nearby."""
ON_GROUND, BELOW = 0.01, 0.03
"""Shares of its distance within which a place counts as lying on the ground, which is flat, while depth is not quite; and from
which on it lies deeper."""
NORMAL_PX = 3
"""So far apart the places lie of which a normal is made, in a picture of `EVEN_OF`."""
COARSE = 8
LOOKED_PX, FEW = 16, 2
"""How often it is looked how low things lie, and what share in 100 of that is not believed."""


def receiver_of(
    told: FrameDepth, camera: RoomCamera, frame: int, straight: RectilinearWindow, level: float | None
) -> Receiver:
    """What a window shows, by measured depth; where that knows nothing, and where it agrees, the ground at a level."""
    x0, y0, w, h = straight.window
    local = _rays(straight)
    depth = _straight_depth(told, camera, frame, straight)
    depth = _evened(depth, straight.scale * camera.track.size[0] / EVEN_OF)
    turn, eye = camera.turn(frame), camera.eye(frame)
    ways = (local * np.array([1.0, -1.0, -1.0], np.float32)) @ turn.T.astype(np.float32)
    points = ways * depth[..., None] + eye.astype(np.float32)
    normals = _normals(points, eye, depth, max(1, round(NORMAL_PX * w / EVEN_OF)))
    known = depth > 0
    if level is not None:
        fall = ways[..., 1]
        rise = np.float32(level - eye[1])
        down = np.where(fall * np.sign(rise) > 1e-6, rise / np.where(fall == 0, 1, fall), 0).astype(np.float32)
        flat = (down > 0) & (~known | (np.abs(depth / np.maximum(down, 1e-9) - 1) < ON_GROUND))
        points[flat] = (ways * down[..., None] + eye.astype(np.float32))[flat]
        normals[flat] = [0, 1, 0]
        known |= flat
    normals[~known] = 0
    return Receiver(points=np.ascontiguousarray(points, np.float32), normals=np.ascontiguousarray(normals, np.float32))


def lowest(told: FrameDepth, camera: RoomCamera, frame: int) -> float:
    """How high in the room the lowest of what was filmed lies, but for a few places that may be wrong."""
    h, w = told.depth.shape
    x, y = np.meshgrid(np.arange(LOOKED_PX / 2, w, LOOKED_PX), np.arange(LOOKED_PX / 2, h, LOOKED_PX))
    depth = told.depth[y.astype(int), x.astype(int)]
    rays = camera.lens(frame).rays(np.stack([x, y], axis=-1) * camera.track.size[0] / w)
    local = rays / rays[..., 2:] * depth[..., None] * [1.0, -1.0, -1.0]
    heights = (local @ camera.turn(frame)[1])[depth > 0] + camera.eye(frame)[1]
    return float(np.percentile(heights, FEW)) if len(heights) else float("inf")


def off_the_ground(receiver: Receiver, camera: RoomCamera, frame: int, near: F32, level: float, low: float) -> F32:
    """(h, w) 1 where what takes a shadow lies clearly behind a ground of that nearness (h, w), or rises from it less than `low`
    metres: what is higher hides the ground, and the edge of that is told by the picture."""
    known = (np.abs(receiver.normals).max(axis=2) > 0) & (near > 0)
    ahead = camera.local(frame, receiver.points.astype(np.float64))[..., 2] * near
    rises = (ahead < 1 - ON_GROUND / 2) & (receiver.points[..., 1] < level + low)
    return np.asarray(known & ((ahead > 1 + BELOW) | rises), np.float32)


def _rays(straight: RectilinearWindow) -> F32:
    """(h, w, 3) one metre ahead: x right, y down, z forward."""
    x0, y0, w, h = straight.window
    out = np.ones((h, w, 3), np.float32)
    out[..., 0] = (np.arange(w) + 0.5 + x0 - straight.principal[0])[None, :] / straight.focal
    out[..., 1] = (np.arange(h) + 0.5 + y0 - straight.principal[1])[:, None] / straight.focal
    return out


def _straight_depth(told: FrameDepth, camera: RoomCamera, frame: int, straight: RectilinearWindow) -> F32:
    """(h, w) a frame's depth as the window shows it, without the lens's bend; 0 where unknown."""
    x0, y0, w, h = straight.window
    lens = camera.lens(frame)

    def clip_pixels(places: F64) -> F64:
        bent = lens.distort((places - np.array(straight.principal)) / straight.focal)
        return np.asarray(bent * lens.focal + np.array(lens.principal))

    grid = coarsely(clip_pixels, (w, h), COARSE, (x0, y0)) * np.float32(told.depth.shape[1] / camera.track.size[0])
    grid -= np.float32(0.5)
    # Nothing lies between two surfaces: not mixed.
    out = cv2.remap(told.depth, grid[..., 0], grid[..., 1], cv2.INTER_NEAREST, borderMode=cv2.BORDER_CONSTANT)
    return np.asarray(out, np.float32)


def _evened(depth: F32, size: float) -> F32:
    """Depth without its unevenness within surfaces: nearness changes evenly over what is flat."""
    known = depth > 0
    if not known.any():
        return depth
    log = np.where(known, np.log(np.where(known, depth, 1)), 1e3).astype(np.float32)
    reach = max(1.0, EVEN_PX * size)
    even = cv2.bilateralFilter(log, 2 * round(reach) + 1, ONE_SURFACE, reach)
    return np.where(known, np.exp(np.minimum(even, 50)), 0).astype(np.float32)


def _normals(points: F32, eye: F64, depth: F32, step: int) -> F32:
    """(h, w, 3) unit normals towards the eye of places (h, w, 3); of each two neighbours the one that lies nearer in depth."""
    def slope(axis: int) -> F32:
        ahead, behind = np.roll(points, -step, axis) - points, points - np.roll(points, step, axis)
        known = (np.roll(depth, -step, axis) > 0), (np.roll(depth, step, axis) > 0)
        off = [np.where(k, np.abs(d - depth), 1e6) for k, d in
               zip(known, (np.roll(depth, -step, axis), np.roll(depth, step, axis)), strict=True)]
        even = np.abs(off[0] - off[1]) < ONE_SURFACE * depth
        return np.where(even[..., None], ahead + behind, np.where((off[0] < off[1])[..., None], ahead, behind))

    normal = np.cross(slope(1), slope(0))
    normal /= np.maximum(np.linalg.norm(normal, axis=2, keepdims=True), 1e-20)
    normal = cv2.blur(normal, (2 * step + 1, 2 * step + 1))
    away = np.sign(((points - eye.astype(np.float32)) * normal).sum(axis=2, keepdims=True))
    normal = -normal * np.where(away == 0, 1, away)
    return np.asarray(normal / np.maximum(np.linalg.norm(normal, axis=2, keepdims=True), 1e-6), np.float32)
