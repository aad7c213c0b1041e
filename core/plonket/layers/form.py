"""Simple forms standing in a room: what is really there, to hide behind and take shadows; or a surface that the plate of
chosen frames is projected on."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import cv2
import numpy as np
from pydantic import Field

from plonket.base.colour import linear_from_codes
from plonket.base.conventions import F32, F64
from plonket.base.fields import Number, choice, number, plain, value_at
from plonket.document.kinds import LAYERS, LayerEntry
from plonket.document.spot import Spot
from plonket.image.picture import CLEAR, Picture
from plonket.layers.common import faded
from plonket.layers.falling import Bodies, path_of
from plonket.layers.raytraced import RectilinearWindow, on_picture, rectilinear_window, view_at
from plonket.layers.sources import Sources
from plonket.layers.standing import StandingLayer, axes_of, matrix_of
from plonket.physics.fall import Driven
from plonket.raytrace.request import Instance
from plonket.room.camera import RoomCamera
from plonket.room.meshes.forms import PREFIX, unit_form
from plonket.room.meshes.raster import seen_by

FINE = 2
"""Coverage is worked out so many times finer each way: edges are smooth."""
GRAZING = 0.12
"""Cosine below which a surface is seen too flatly to take anything from."""
BEHIND = 0.015
"""Share of its distance by which something may seem to lie behind what is seen there."""


class FormLayer(StandingLayer):
    """A box, cylinder or plane on a spot in a room."""

    kind: Literal["form"] = "form"
    shape: Literal["box", "cylinder", "plane"] = choice(
        "box", label="Shape", group="Form",
        names={"box": "Box", "cylinder": "Cylinder", "plane": "Plane"})  # fmt: skip
    use: Literal["holdout", "plate"] = choice(
        "holdout", label="Used as", group="Form",
        names={"holdout": "What is really there", "plate": "Plate projected on it"},
        help="What is really there hides models and takes their shadows; a projected plate is seen.")  # fmt: skip
    wide: Number = number(0.3, label="Width", low=0.0001, high=10000, step=0.001, unit="m", group="Form", soft=(0.01, 3))
    tall: Number = number(0.3, label="Height", low=0.0001, high=10000, step=0.001, unit="m", group="Form", soft=(0.01, 3),
                          when={"shape": ("box", "cylinder")})  # fmt: skip
    deep: Number = number(0.3, label="Depth", low=0.0001, high=10000, step=0.001, unit="m", group="Form", soft=(0.01, 3))
    frames: list[int] = Field(default_factory=lambda: [0], min_length=1, max_length=12,
                              description="Frames whose plate is projected, the first one above all")  # fmt: skip
    soft: float = plain(12, label="Frames' edges", low=0, high=200, step=1, unit="px", group="Form",
                        when={"use": ("plate",)},
                        help="How softly one frame's picture goes over into the next one's.")  # fmt: skip

    @property
    def unseen(self) -> bool:
        """Whether it is only there for others."""
        return self.use == "holdout"


def form_matrix(layer: FormLayer, camera: RoomCamera, spot: Spot, when: float) -> F64:
    """(4, 4) from the form of unit size to the room."""
    size = np.array([value_at(v, when) for v in (layer.wide, layer.tall, layer.deep)])
    return matrix_of(*axes_of(layer, camera, spot, when), size)


def form_thing(layer: FormLayer, camera: RoomCamera, spot: Spot, whens: Sequence[float]) -> Instance:
    """The form as the renderer is told of it."""
    return Instance(model=f"{PREFIX}{layer.shape}", role="real",
                 stands=tuple(form_matrix(layer, camera, spot, when) for when in whens))  # fmt: skip


def bodies_of(layer: FormLayer, sources: Sources, first: int) -> Bodies:
    """What is really there among what falls; what the plate is projected on is not."""
    seat = sources.seat(layer.follow.target)
    if seat is None or layer.use != "holdout" or not layer.shown:
        return Bodies()
    frames = range(first, max(seat[0].track.frames, first + 1))
    matrices = [form_matrix(layer, *seat, f) for f in frames]
    size = np.linalg.norm(matrices[0][:3, :3], axis=0)
    path = path_of([np.block([[m[:3, :3] / size, m[:3, 3:]], [np.zeros((1, 3)), np.ones((1, 1))]]) for m in matrices])
    return Bodies(driven=[Driven(hull=unit_form(layer.shape).vertices * size, path=path)])


def draw(layer: FormLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """The form with the plate on it; as what is really there, white where it is seen: for mattes."""
    seat = sources.seat(layer.follow.target)
    if seat is None:
        return CLEAR
    camera, spot = seat
    scale = min(1.0, float(np.sqrt(abs(np.linalg.det(view[:2, :2])))))
    corners = _corners(layer, camera, spot, frame)
    straight = rectilinear_window(camera, frame, scale, [view_at(camera, frame)], [corners.reshape(-1, 3)])
    if straight is None:
        return CLEAR
    depth, cover = _seen(corners, camera, frame, straight)
    if not cover.any():
        return CLEAR
    if layer.use == "holdout":
        rgba = np.repeat(cover[..., None], 4, axis=2)
    else:
        rgba = _projected(layer, sources, camera, spot, frame, straight, depth, cover)
    near = float(np.median(depth[np.isfinite(depth)])) if np.isfinite(depth).any() else 1.0
    return faded(on_picture(rgba, camera, frame, straight, near, view, size, "smooth"), layer, frame)


def _corners(layer: FormLayer, camera: RoomCamera, spot: Spot, frame: int) -> F64:
    m = form_matrix(layer, camera, spot, frame)
    return np.asarray(unit_form(layer.shape).corners() @ m[:3, :3].T + m[:3, 3])


def _seen(corners: F64, camera: RoomCamera, frame: int, straight: RectilinearWindow) -> tuple[F32, F32]:
    """Depth (h, w) of what is seen of the form in the straight window, and how much of each pixel it covers."""
    local = camera.local(frame, corners)
    x, y, w, h = straight.window
    cx, cy = straight.principal[0] - x, straight.principal[1] - y
    depth, _ = seen_by(local, straight.focal, (cx, cy), (w, h))
    fine, _ = seen_by(local, straight.focal * FINE, (cx * FINE, cy * FINE), (w * FINE, h * FINE))
    cover = cv2.resize(np.isfinite(fine).astype(np.float32), (w, h), interpolation=cv2.INTER_AREA)
    # Pixels on the rim whose middle misses the form lie as far off as their neighbours.
    gone = ~np.isfinite(depth)
    if gone.any():
        reached = cv2.erode(np.where(gone, np.float32(1e30), depth), np.ones((3, 3), np.uint8))
        depth = np.where(gone & (reached < 1e29) & (cover > 0), reached, depth)
    return depth, np.asarray(cover * np.isfinite(depth), np.float32)


def _projected(
    layer: FormLayer, sources: Sources, camera: RoomCamera, spot: Spot, frame: int, straight: RectilinearWindow, depth: F32,
    cover: F32,
) -> F32:
    """(h, w, 4): what the chosen frames show of each place on the form; gaps of one are filled by the next."""
    h, w = depth.shape
    out = np.zeros((h, w, 4), np.float32)
    asset = sources.footage
    if asset is None:
        return out
    ys, xs = np.nonzero(cover > 0)
    z = depth[ys, xs].astype(np.float64)
    x0, y0 = straight.window[:2]
    across = (np.stack([xs + x0, ys + y0], axis=1) + 0.5 - np.array(straight.principal)) / straight.focal
    world = camera.eye(frame) + (np.column_stack([across, np.ones(len(z))]) * z[:, None] * [1, -1, -1]) @ camera.turn(frame).T
    # Things move with the form: where each place of it was in another frame.
    here = form_matrix(layer, camera, spot, frame)
    own = (world - here[:3, 3]) @ np.linalg.inv(here[:3, :3]).T
    left = np.ones(len(z), np.float32)
    total = np.zeros((len(z), 3), np.float32)
    for k, source in enumerate(layer.frames):
        at = int(np.clip(source, 0, camera.track.frames - 1))
        sampled, weight = _from_frame(layer, sources, asset, camera, spot, at, own, straight.scale)
        if k and (weight * (1 - left) > 0.25).sum() > 50:
            # Its light brought to that of the frames before it, where both show the form.
            both = weight * (1 - left) > 0.25
            before = total[both] / np.maximum(1 - left[both], 1e-4)[:, None]
            gain = np.median(before, axis=0) / np.maximum(np.median(sampled[both], axis=0), 1e-4)
            sampled = sampled * np.clip(gain, 0.5, 2.0).astype(np.float32)
        share = left * weight
        total += share[:, None] * sampled
        left = left * (1 - weight)
        if left.max() < 0.01:
            break
    known = 1 - left
    alpha = cover[ys, xs] * known
    out[ys, xs, :3], out[ys, xs, 3] = total / np.maximum(known, 1e-4)[:, None] * alpha[:, None], alpha
    return out


def _from_frame(
    layer: FormLayer, sources: Sources, asset: str, camera: RoomCamera, spot: Spot, at: int, own: F64, scale: float
) -> tuple[F32, F32]:
    """What frame `at` shows of places (n, 3) on the form, linear (n, 3), and how well it shows them (n,)."""
    m = form_matrix(layer, camera, spot, at)
    world: F64 = own @ m[:3, :3].T + m[:3, 3]
    pixels = camera.project(at, world)
    width, height = camera.track.size
    shrink = 0.5 if scale < 0.75 else 1.0
    light = _smaller(linear_from_codes(sources.plate(asset, sources.moment(at))), shrink)
    grid = (np.nan_to_num(pixels, nan=-1e4) * shrink - 0.5).astype(np.float32)
    # OpenCV samples at most 32767 places a row.
    columns = 4096
    rows = -(-len(grid) // columns)
    padded = np.full((rows * columns, 2), -1e4, np.float32)
    padded[: len(grid)] = grid
    wide = padded.reshape(rows, columns, 2)
    mapped = cv2.remap(light, wide[..., 0], wide[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    sampled = np.asarray(mapped, np.float32).reshape(-1, 3)[: len(grid)]
    # Seen by that frame: in its picture, not behind another part of the form, not too flatly.
    corners = _corners(layer, camera, spot, at)
    local_corners, local = camera.local(at, corners), camera.local(at, world)
    lens = camera.lens(at)
    small = 0.5
    size = (max(1, round(width * small)), max(1, round(height * small)))
    nearest, which = seen_by(local_corners, lens.focal * small, (width * small / 2, height * small / 2), size)
    safe = np.maximum(local[:, 2:], 1e-9)
    flat = (local[:, :2] / safe * lens.focal + np.array(lens.principal)) * small
    col = np.clip(flat[:, 0].astype(int), 0, size[0] - 1)
    row = np.clip(flat[:, 1].astype(int), 0, size[1] - 1)
    reach = cv2.dilate(np.where(np.isfinite(nearest), nearest, -1).astype(np.float32), np.ones((3, 3), np.uint8))
    open_ = local[:, 2] <= reach[row, col] * (1 + BEHIND)
    normal = np.cross(local_corners[:, 1] - local_corners[:, 0], local_corners[:, 2] - local_corners[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12)
    face = which[row, col]
    facing = np.abs((normal[np.maximum(face, 0)] * (local / np.linalg.norm(local, axis=1, keepdims=True))).sum(axis=1))
    inside = np.minimum.reduce([pixels[:, 0], pixels[:, 1], width - pixels[:, 0], height - pixels[:, 1]])
    soft = max(layer.soft, 0.5)
    weight = np.clip(np.nan_to_num(inside, nan=-1.0) / soft, 0, 1) * np.clip((facing - GRAZING) / 0.15, 0, 1)
    return sampled, (weight * (open_ & (face >= 0))).astype(np.float32)


def _smaller(light: F32, by: float) -> F32:
    if by == 1:
        return light
    return np.asarray(cv2.resize(light, None, fx=by, fy=by, interpolation=cv2.INTER_AREA), np.float32)


LAYERS.add(LayerEntry(
    kind="form", order=60, label="Form", settings=FormLayer, run=draw,
    help="A box, cylinder or plane: what is really there, or a surface that the plate is projected on.",
    traits=frozenset({"standing", "follows"}), handles="standing", bodies=bodies_of,
    groups=("Form", "Stands", "Mix"),
    card={"": "Form"},
    says={"": "The plate of other frames, projected on a form",
          "use=holdout": "What is really there: hides models and takes their shadows"},
))  # fmt: skip
