"""The ground of a solved room, seen from straight above, and what is known to stand on it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.sparse.csgraph import connected_components
from scipy.spatial import Delaunay, cKDTree

from plonket.base.conventions import F32, F64
from plonket.room.camera import RoomCamera

CELLS = 320
"""Cells of the ground along its longer side."""
ABOVE = 0.02
"""What is higher than this share of the usual distance is no ground."""
BRIDGES = 3.5
"""A triangle whose sides are so many times longer than they look bridges a gap in depth."""
FAR = 2.2
"""Ground farther away than so many times the usual distance is left out: its cells are less than a pixel."""


BLUER, REDDER, GREENER = 1.0, 0.6, 0.3
"""Logarithms by which ground may differ in colour from what is usual on it."""
OFF_PX = 0.8
"""Pixels of a reduced picture by which what is on the ground stays within its own movement."""
COMPACT = 0.55
"""What is no wider than this share of the usual distance is taken to be one thing, and solid within its hull."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Caster:
    """What is known to stand on the ground, in metres of the room.

    Attributes
    ----------
    triangles : (t, 3, 3) surfaces; of : (t,) which thing each is part of. things : the details (k, 3) of each compact thing,
        with their feet on the ground.
    """

    triangles: F64
    of: NDArray[np.int_]
    things: tuple[F64, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class GroundView:
    """Ground seen from straight above.

    Attributes
    ----------
    light : (h, w, 3) linear, the middle of what several frames show. seen : (h, w) share of the frames that show it.
    corner : (x, z) metres of cell [0, 0]'s corner; cell : metres a cell is wide. Rows run along z, columns along x.
    """

    light: F32
    seen: F32
    corner: tuple[float, float]
    cell: float

    def cells(self, world: F64) -> F64:
        """Places (..., 3) of the room to columns and rows (..., 2)."""
        return np.asarray((world[..., [0, 2]] - np.array(self.corner)) / self.cell)


def caster_of(camera: RoomCamera, points: F64, xy: F32, frames: NDArray[np.int_]) -> Caster:
    """Surfaces above the ground, spun between details that lie side by side.

    Parameters
    ----------
    points : (m, 3) in the room. xy : (m, n, 2) where they were seen, nan elsewhere. frames : those in which to look.
    """
    usual = usual_distance(camera, points)
    out = []
    for f in frames:
        here = np.isfinite(xy[:, f, 0])
        if here.sum() < 8:
            continue
        at, where = xy[here, f].astype(np.float64), points[here]
        corners = Delaunay(at + 1e-4 * np.random.default_rng(0).standard_normal(at.shape)).simplices
        flat, solid = at[corners], where[corners]
        depth = camera.local(int(f), solid)[..., 2].mean(axis=1)
        focal = camera.lens(int(f)).focal
        seems = np.linalg.norm(flat - np.roll(flat, 1, axis=1), axis=2) * depth[:, None] / focal
        truly = np.linalg.norm(solid - np.roll(solid, 1, axis=1), axis=2)
        near = (truly < BRIDGES * seems + 0.01 * usual).all(axis=1) & (truly.max(axis=1) < 0.35 * usual)
        tall = (solid[..., 1].max(axis=1) > ABOVE * usual) & (np.median(solid[..., 1], axis=1) > 0.5 * ABOVE * usual)
        out.append(solid[near & tall])
    triangles = np.concatenate(out) if out else np.zeros((0, 3, 3))
    above = points[points[:, 1] > ABOVE * usual]
    of = _belongs(above, usual)
    nearest = cKDTree(above).query(triangles.mean(axis=1))[1] if len(above) and len(triangles) else np.zeros(0, int)
    every = [above[of == k] for k in range(int(of.max()) + 1)] if len(of) else []
    compact = [one for one in every if len(one) >= 4 and float(np.ptp(one[:, [0, 2]], axis=0).max()) < COMPACT * usual]
    return Caster(triangles=triangles, of=of[nearest] if len(of) else np.zeros(len(triangles), int),
                  things=tuple(np.concatenate([one, one * [1.0, 0.0, 1.0]]) for one in compact))  # fmt: skip


def _belongs(above: F64, usual: float) -> NDArray[np.int_]:
    """(n,) the thing that each detail (n, 3) belongs to: those that lie close together are one."""
    if len(above) < 4:
        return np.zeros(len(above), int)
    close = 2.5 * nearest_gap(above) + 0.015 * usual
    tree = cKDTree(above)
    near = tree.sparse_distance_matrix(tree, close, output_type="coo_matrix")
    return np.asarray(connected_components(near, directed=False)[1], int)


def usual_distance(camera: RoomCamera, points: F64) -> float:
    """Metres from the camera to the details (n, 3), as a rule."""
    middle = camera.track.frames // 2
    return float(np.median(np.linalg.norm(points - camera.eye(middle), axis=1)))


def ground_view(
    camera: RoomCamera, points: F64, caster: Caster, pictures: Mapping[int, F32], part: tuple[F64, F64] | None = None
) -> GroundView | None:
    """The ground as frames show it; None where too little of it is seen.

    Parameters
    ----------
    pictures : frame -> linear (h, w, 3), reduced or not. part : lowest and highest (x, z) that is wanted; None: all
        that is near.
    """
    low, high = part if part is not None else _near(camera, points, pictures)
    span = float((high - low).max())
    if not np.isfinite(span) or span <= 0 or (high <= low).any():
        return None
    cell = span / CELLS
    w, h = (max(8, int(np.ceil(n / cell))) for n in high - low)
    x, z = np.meshgrid(low[0] + (np.arange(w) + 0.5) * cell, low[1] + (np.arange(h) + 0.5) * cell)
    world = np.stack([x, np.zeros_like(x), z], axis=-1)
    order = list(pictures)
    layers = []
    for k, f in enumerate(order):
        stands = _known_things(camera, f, caster, pictures[f].shape[:2])
        for other in {order[max(k - 2, 0)], order[min(k + 2, len(order) - 1)]} - {f}:
            stands |= _off_ground(camera, f, other, pictures[f], pictures[other])
        layers.append(_laid_out(camera, f, world, stands, pictures[f]))
    stack = np.stack(layers)
    with np.errstate(invalid="ignore"):
        known = np.isfinite(stack[..., 0])
        seen = known.mean(axis=0)
        # Frames may be brighter or darker as a whole.
        filled = np.where(known[..., None], stack, 0)
        light = _middle(filled, known)
        seen = np.where(_agrees(filled, known), seen, 0)
        seen = np.where(_is_of_one_colour(light, seen > 0), seen, 0)
    if (seen > 0).sum() < 400:
        return None
    return GroundView(light=light, seen=seen.astype(np.float32), corner=(float(low[0]), float(low[1])), cell=cell)


def _near(camera: RoomCamera, points: F64, pictures: Mapping[int, F32]) -> tuple[F64, F64]:
    """The lowest and highest (x, z) of the ground about the details that is worth looking at."""
    usual = usual_distance(camera, points)
    low, high = np.percentile(points[:, [0, 2]], [3, 97], axis=0)
    foot = np.mean([camera.eye(f) for f in pictures], axis=0)[[0, 2]]
    return np.maximum(low - 0.5 * usual, foot - FAR * usual), np.minimum(high + 0.5 * usual, foot + FAR * usual)


def _known_things(camera: RoomCamera, frame: int, caster: Caster, shape: tuple[int, ...]) -> NDArray[np.uint8]:
    """(h, w) 1 where things that are known stand in a picture."""
    height, width = shape[:2]
    scale = np.array([width / camera.track.size[0], height / camera.track.size[1]])
    out = np.zeros((height, width), np.uint8)
    for corners in [*camera.project(frame, caster.triangles), *(camera.project(frame, one) for one in caster.things)]:
        if np.isfinite(corners).all() and np.abs(corners).max() < 20000:
            cv2.fillConvexPoly(out, cv2.convexHull(np.round(corners * scale).astype(np.int32)), 1)
    # What stands is larger than what lies between its details.
    grown = max(3, round(0.012 * width))
    return cv2.dilate(out, np.ones((grown, grown), np.uint8))


def _off_ground(camera: RoomCamera, frame: int, other: int, here: F32, there: F32) -> NDArray[np.uint8]:
    """(h, w) 1 where a picture is no ground: laid over it as the ground moves, another one does not fit there."""
    height, width = here.shape[:2]
    scale = np.array([width / camera.track.size[0], height / camera.track.size[1]])
    step = 8
    gx, gy = np.meshgrid(np.arange(0, width + step, step), np.arange(0, height + step, step))
    rays = camera.lens(frame).rays(np.stack([gx, gy], axis=-1) / scale) * [1.0, -1.0, -1.0] @ camera.turn(frame).T
    eye = camera.eye(frame)
    down = rays[..., 1] < -1e-3
    far = np.where(down, -eye[1] / np.where(down, rays[..., 1], -1.0), 0)
    at = camera.project(other, eye + far[..., None] * rays) * scale
    at = np.where((down & np.isfinite(at[..., 0]))[..., None], at, -1e4).astype(np.float32)
    # A grid of every eighth pixel's corner, brought to pixel centres.
    w, h = at.shape[1], at.shape[0]
    move = np.array([[step, 0, 0.0], [0, step, 0.0]], np.float32)
    fine = cv2.warpAffine(at, move, (step * (w - 1), step * (h - 1)), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    fine = fine[:height, :width]
    codes = [np.asarray(np.clip(picture.mean(axis=2), 0, 1) ** 0.45 * 255, np.uint8) for picture in (here, there)]
    laid = cv2.remap(codes[1], fine[..., 0], fine[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT)
    known = (fine > 1).all(axis=-1) & (fine < np.array([width, height]) - 2).all(axis=-1)
    laid = np.where(known, laid, codes[0])
    still = np.zeros((height, width, 2), np.float32)
    flow = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_FAST).calc(codes[0], laid, still)
    off = (np.hypot(flow[..., 0], flow[..., 1]) > OFF_PX) & known
    # Specks are noise of the flow.
    off = cv2.morphologyEx(off.astype(np.uint8), cv2.MORPH_OPEN, np.ones((5, 5), np.uint8))
    return cv2.dilate(off, np.ones((5, 5), np.uint8))


def _laid_out(camera: RoomCamera, frame: int, world: F64, stands: NDArray[np.uint8], picture: F32) -> F32:
    """What one frame shows of places (h, w, 3) of the ground; nan where it shows none, or what `stands` (h, w) before it."""
    height, width = picture.shape[:2]
    scale = np.array([width / camera.track.size[0], height / camera.track.size[1]])
    at = camera.project(frame, world) * scale
    inside = np.isfinite(at[..., 0]) & (at > 1).all(axis=-1) & (at < np.array([width, height]) - 1).all(axis=-1)
    maps = np.where(inside[..., None], at, 0).astype(np.float32) - 0.5
    out = cv2.remap(picture, maps[..., 0], maps[..., 1], cv2.INTER_LINEAR)
    is_hidden = cv2.remap(stands, maps[..., 0], maps[..., 1], cv2.INTER_NEAREST) > 0
    out[~inside | is_hidden] = np.nan
    return np.asarray(out, np.float32)


def _agrees(stack: F32, known: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """(h, w) where frames (n, h, w, 3) show the same: what stands on the ground lies elsewhere on it in each."""
    count = np.maximum(known.sum(axis=0), 1)
    tones = np.log(np.maximum(stack, 3e-3))
    tones = np.stack([cv2.GaussianBlur(one, (0, 0), 1.0) for one in tones])
    mean = (tones * known[..., None]).sum(axis=0) / count[..., None]
    spread = np.sqrt((((tones - mean) ** 2) * known[..., None]).sum(axis=0) / count[..., None]).max(axis=-1)
    many = known.sum(axis=0) >= 2
    if not many.any():
        return np.asarray(known.any(axis=0))
    apart = (spread > max(3 * float(np.median(spread[many])), 0.08)).astype(np.uint8)
    # Single cells are grit that frames sample differently.
    apart = cv2.morphologyEx(apart, cv2.MORPH_OPEN, np.ones((3, 3), np.uint8))
    return np.asarray((apart == 0) & known.any(axis=0))


def _is_of_one_colour(light: F32, seen: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """(h, w) what is no other thing by its colour: ground in shadow is darker and bluer, but not by any amount."""
    calm = cv2.GaussianBlur(np.log(np.maximum(light, 2e-3)), (0, 0), 2.0)
    bluer = calm[..., 2] - calm[..., 0]
    greener = calm[..., 1] - (calm[..., 0] + calm[..., 2]) / 2
    blue, green = (v - float(np.median(v[seen])) if seen.any() else v for v in (bluer, greener))
    return np.asarray((blue < BLUER) & (blue > -REDDER) & (np.abs(green) < GREENER))


def _middle(stack: F32, known: NDArray[np.bool_]) -> F32:
    """The median over frames (n, h, w, 3) of those that are known; nought where none is."""
    held = np.where(known[..., None], stack, np.inf)
    held.sort(axis=0)
    count = known.sum(axis=0)
    low, high = np.maximum((count - 1) // 2, 0), np.maximum(count // 2, 0)
    pick = np.stack([low, np.minimum(high, len(stack) - 1)])
    two = np.take_along_axis(held, pick[..., None].repeat(3, axis=-1), axis=0)
    out = np.where(count[..., None] > 0, two.mean(axis=0), 0)
    return np.asarray(np.where(np.isfinite(out), out, 0), np.float32)


def nearest_gap(points: F64) -> float:
    """Metres between details (n, 3) that lie next to each other, as a rule."""
    if len(points) < 4:
        return 0.0
    return float(np.median(cKDTree(points).query(points, k=2)[0][:, 1]))
