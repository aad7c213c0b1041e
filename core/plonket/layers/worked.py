"""A rectangle of a surface in the room that is worked on: the plate lies on it as on what was filmed, and changes with it."""

from __future__ import annotations

from typing import ClassVar, Literal

import cv2
import numpy as np

from plonket.base.colour import encode_8bit, linear_from_codes
from plonket.base.conventions import F32, F64, U8
from plonket.base.fields import choice, plain, value_at
from plonket.document.spot import Spot
from plonket.image.picture import CLEAR, Picture
from plonket.layers.common import faded
from plonket.layers.filmed import FilmedLayer
from plonket.layers.hidden import AHEAD, hiding, plane_nearness
from plonket.layers.model import SHADOW_AHEAD, filmed_nearness, hazed
from plonket.layers.model_order import ground_of, lights_of, order_for, shadows_from
from plonket.layers.raytraced import on_picture, rectilinear_window, view_at
from plonket.layers.sources import Sources
from plonket.layers.standing import axes_of, matrix_of
from plonket.layers.surfaces import shadow_nearness
from plonket.raytrace.request import Coat, Instance, RenderRequest
from plonket.room.camera import RoomCamera

FINEST = 2048
"""Pixels along the longer side of what is taken from the plate, at the most."""
FINER = 1.25
"""How many of them there are for a pixel of the plate."""
LIT_SCALE, LIT_SAMPLES, WHITE = 0.25, 36, 0.5
"""How the light on the untouched surface is measured: at a share of the clip's size, on a grey card of this lightness."""
HIDES = 30.0
"""The surface round it hides what lies below, so many times as far as that is deep."""
MOST_LIGHT = 0.9
"""The lightest that a surface is taken to be: what shows more has light of its own."""
LEAST_GLOW = 0.02
IN_IT = 0.03
"""Share of its distance within which what was filmed is the surface itself, and hides nothing of what comes out of it."""


class WorkedLayer(FilmedLayer):
    """A rectangle on a spot of the room, on a floor or in a wall, with the plate of one frame on it."""

    grounded: ClassVar[bool] = False
    on: Literal["floor", "wall"] = choice(
        "floor", label="It is", group="Surface", names={"floor": "A floor", "wall": "A wall"},
        help="A floor faces up, a wall the way its spot does.")  # fmt: skip
    wide: float = plain(0.6, label="Width", low=0.001, high=1000, step=0.01, unit="m", group="Surface", soft=(0.05, 5))
    deep: float = plain(0.6, label="Depth", low=0.001, high=1000, step=0.01, unit="m", group="Surface", soft=(0.05, 5))
    from_frame: int = plain(0, label="Plate of", low=0, high=1000000, step=1, unit="frame", group="Surface", whole=True,
                            help="The frame whose picture lies on it: one that shows it whole and well.")  # fmt: skip

    def floor(self, level: float) -> float | None:
        # Before a wall lies the room's ground.
        return 0.0 if self.on == "wall" else None


def surface_matrix(layer: WorkedLayer, camera: RoomCamera, spot: Spot) -> F64:
    """(4, 4) room from the surface: x along its width, y out of it, z along its depth, in metres. It stays where it is."""
    axes, place = axes_of(layer, camera, spot, layer.from_frame)
    if layer.on == "wall":
        right, up, front = axes.T
        axes = np.stack([right, front, -up], axis=1)
    return matrix_of(axes, place, 1.0)


def round_about(layer: WorkedLayer, down: float) -> float:
    """How far, in metres, the surface round it is made that hides what lies so far below, and takes shadows."""
    return HIDES * down + 2 * max(layer.wide, layer.deep)


def draw_worked(layer: WorkedLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """The surface as it is at a frame, with its shadow on what lies round it; `view` leads from the clip's pixels to the
    picture's."""
    made, seat = order_for(layer, sources, frame, view), sources.seat(layer.follow.target)
    if made is None or seat is None:
        return CLEAR
    order, straight = made
    filmed = sources.film(order)
    strength = np.float32(np.clip(value_at(layer.shadow_strength, frame) / 100, 0, 1))
    camera = seat[0]
    m = surface_matrix(layer, *seat)
    local = camera.local(frame, m[:3, 3])
    away = float(local[2])

    def laid(straight_rgba: F32, how: Literal["smooth", "sharp"] = "sharp") -> Picture:
        return on_picture(straight_rgba, camera, frame, straight, away, view, size, how)

    cover = filmed[..., 3]
    picture = laid(np.dstack([hazed(filmed, layer, frame), cover]))
    if not picture.rgba.size:
        return CLEAR
    y, x = picture.y, picture.x
    here = np.s_[y : y + picture.rgba.shape[0], x : x + picture.rgba.shape[1]]
    normal = (m[:3, 1] @ camera.turn(frame)) * [1.0, -1.0, -1.0]
    own = plane_nearness(camera, frame, view, (0, 0, *size), np.asarray(normal), float(normal @ local))
    none = np.zeros_like(cover)
    told = laid(np.dstack([filmed_nearness(filmed, straight) * cover, strength * filmed[..., 4], none, cover]), "smooth").rgba
    part, shadow = np.clip(told[..., 3], 0, 1), np.clip(told[..., 1], 0, 1)
    lies = _lies(layer, sources, frame, size, view, own, shadows_from(layer, sources, frame))
    shadow = np.where(lies[here] > 0, shadow, 0)
    rgba = picture.rgba.copy()
    found = hiding(sources, layer.follow.target, frame, size, view) if layer.follow.hidden else None
    if found is not None:
        near = np.where(part > 1 / 64, told[..., 0] / np.maximum(part, 1 / 64), 0).astype(np.float32)
        share, more = found.without(own, IN_IT).seen(near, np.where(near > 0, part, 0), x, y)
        rgba *= share[..., None]
        rgba[..., :3] += more * part[..., None]
        open_, _ = found.without(own, IN_IT).seen(lies[here], np.where(lies[here] > 0, shadow, 0), x, y, SHADOW_AHEAD)
        shadow = shadow * open_
    rgba[..., 3] = np.clip(rgba[..., 3] + shadow, 0, 1)
    picture = Picture(rgba=rgba, x=x, y=y)
    return faded(picture, layer, frame)


def _lies(
    layer: WorkedLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64, own: F32, brought: bool
) -> F32:
    """One over the distance, (h, w) in 1/m, of what takes the shadows that it brings; 0 where something else brings them.

    brought : whether another layer brings those of the ground and of what is really there.
    """
    others = shadow_nearness(sources, layer.follow.target, frame, size, view, 0.0) if layer.on == "wall" else None
    if others is None:
        return own
    before = others > own * np.float32(1 + AHEAD)
    return np.where(before, np.float32(0) if brought else others, own)


def faced(layer: WorkedLayer, sources: Sources) -> tuple[U8, U8 | None, float]:
    """What the plate shows of the untouched surface, less the light on it.

    Returns
    -------
    Its colour, 8-bit sRGB codes (h, w, 3) with the top at -z; light of its own as codes, of which 255 is the last number; None:
    it has none. Lit as the layer is, both show the plate.
    """
    seat = sources.seat(layer.follow.target)
    assert seat is not None and sources.footage is not None
    camera, spot = seat
    at = int(np.clip(layer.from_frame, 0, camera.track.frames - 1))
    m = surface_matrix(layer, camera, spot)
    w, h = _fineness(layer, camera, m, at)
    x = (np.arange(w) + 0.5) / w - 0.5
    z = (np.arange(h) + 0.5) / h - 0.5
    places = np.stack(np.broadcast_arrays(x[None, :] * layer.wide, np.zeros((h, w)), z[:, None] * layer.deep), axis=-1)
    pixels = camera.project(at, places @ m[:3, :3].T + m[:3, 3])
    light = linear_from_codes(sources.plate(sources.footage, sources.moment(at)))
    grid = (np.nan_to_num(pixels, nan=-1.0) - 0.5).astype(np.float32)
    plate = cv2.remap(light, grid[..., 0], grid[..., 1], cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
    plate = np.maximum(np.asarray(plate, np.float32), 0)
    lit, mirrored = _lit(layer, sources, camera, m, at, (w, h))
    bare = np.maximum(plate - mirrored, 0)
    albedo = np.clip(bare / np.maximum(lit, 1e-4), 0, MOST_LIGHT)
    own = bare - albedo * lit
    most = float(own.max(initial=0))
    glow = encode_8bit(np.asarray(own / most, np.float32)) if most > LEAST_GLOW else None
    return encode_8bit(np.asarray(albedo, np.float32)), glow, most


def _fineness(layer: WorkedLayer, camera: RoomCamera, m: F64, at: int) -> tuple[int, int]:
    """Width and height in pixels of what is taken from the plate."""
    half = np.array([layer.wide, 0, layer.deep]) / 2
    corners = np.array([[-1, 0, -1], [1, 0, -1], [1, 0, 1], [-1, 0, 1]]) * half
    seen = camera.project(at, corners @ m[:3, :3].T + m[:3, 3])
    sides = np.linalg.norm(np.roll(seen, -1, axis=0) - seen, axis=1)
    long = np.nan_to_num(sides, nan=camera.track.size[0])
    out = FINER * np.array([long[::2].max(), long[1::2].max()])
    out = np.maximum(out * min(1.0, FINEST / float(out.max())), 16)
    return round(float(out[0])), round(float(out[1]))


def _lit(
    layer: WorkedLayer, sources: Sources, camera: RoomCamera, m: F64, at: int, size: tuple[int, int]
) -> tuple[F32, F32]:
    """(h, w, 3) light that a white untouched surface shows under the layer's lights, and (3,) what even a black one mirrors."""
    shape = m @ np.diag([layer.wide, 1.0, layer.deep, 1.0])
    half = np.array([[x, 0, z] for x in (-0.5, 0.5) for z in (-0.5, 0.5)])
    corners = half @ shape[:3, :3].T + shape[:3, 3]
    view = view_at(camera, at)
    straight = rectilinear_window(camera, at, LIT_SCALE, [view], [corners])
    if straight is None:
        return np.ones((*size[::-1], 3), np.float32), np.zeros(3, np.float32)
    shown: list[F32] = []
    for grey in (WHITE, 0.0):
        card = Instance(model="form:plane", stands=(shape,), coats=(("", Coat(colour=(grey, grey, grey))),))
        shown.append(sources.film(RenderRequest(
            things=(card,), views=(view,), focal=straight.focal, principal=straight.principal, window=straight.window,
            lights=lights_of(layer, sources, at), ground=layer.floor(0.0), ground_colour=ground_of(layer), shadows=False,
            samples=LIT_SAMPLES,
        )))  # fmt: skip
    x0, y0, w, h = straight.window
    there = shown[0][..., 3] > 0.98
    if there.sum() < 6:
        there = shown[0][..., 3] > 0.2
    ys, xs = np.nonzero(there)
    # Where on the surface each pixel looks: a homography from the straight picture.
    ways = np.column_stack([(xs + 0.5 + x0 - straight.principal[0]) / straight.focal,
                            (ys + 0.5 + y0 - straight.principal[1]) / straight.focal, np.ones(len(xs))])  # fmt: skip
    ways = (ways * [1, -1, -1]) @ view.turn.T
    far = (shape[:3, 3] - view.eye) @ m[:3, 1] / (ways @ m[:3, 1])
    at_surface = (view.eye + ways * far[:, None] - m[:3, 3]) @ m[:3, :3]
    u, v = at_surface[:, 0] / layer.wide * 2, at_surface[:, 2] / layer.deep * 2

    def smooth(u: F64, v: F64) -> F64:
        return np.stack([np.ones_like(u), u, v, u * u, u * v, v * v], axis=-1)

    cover = shown[0][there][:, 3:4]
    white, black = (one[there][:, :3] / np.maximum(cover, 1e-3) for one in shown)
    mirrored = np.median(black, axis=0).astype(np.float32)
    if len(u) < 24:
        lit = np.broadcast_to((np.median(white, axis=0) - mirrored) / WHITE, (*size[::-1], 3))
        return np.ascontiguousarray(lit, np.float32), mirrored
    fit = np.linalg.lstsq(smooth(u, v), (white - mirrored) / WHITE, rcond=None)[0]
    uu, vv = np.meshgrid((np.arange(size[0]) + 0.5) / size[0] * 2 - 1, (np.arange(size[1]) + 0.5) / size[1] * 2 - 1)
    return np.maximum(smooth(uu, vv) @ fit, 0).astype(np.float32), mirrored
