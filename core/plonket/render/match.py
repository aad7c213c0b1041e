"""Match to plate: an element made to look as if it had been filmed with the plate, where it sits.

Tones, the light's colour, sharpness, grain and motion blur are measured on the element and on the plate round it. What comes
out are ordinary looks, which can be changed afterwards.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.colour import decode, encode, opaque_from_codes
from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import BadInput
from plonket.base.homography import transform_point
from plonket.document.bases import LayerBase, Look
from plonket.document.kinds import LAYERS
from plonket.document.shot import Shot
from plonket.image.colour_cast import camera_colours
from plonket.image.grain import GrainProfile
from plonket.image.grain_in_space import grain_of
from plonket.image.grain_in_time import MeasuredGrain
from plonket.image.picture import Picture, windowed
from plonket.layers.common import PictureLayer
from plonket.layers.model import MeshLayer, stands
from plonket.layers.solid import spot_inverse_depth
from plonket.layers.sources import Sources
from plonket.looks.blur import Blur
from plonket.looks.grain import Grain
from plonket.looks.levels import Levels
from plonket.looks.sharpen import Sharpen
from plonket.looks.white import WhiteBalance
from plonket.render.appearance import edge_width, tones_of
from plonket.render.frame import render_frame
from plonket.render.inverse_depth import inverse_depth_for
from plonket.render.stack import drawn

AROUND = 0.7
"""How far round the element the plate is looked at, of its size."""
MARK = "match-"
"""Begins the ids of looks that matching made: matching again puts others in their place."""
MOST_CAST = 0.35
LEAST_EDGE_PX = 0.25
RIM_PX = 3
"""So near to what was brought forward its blur still tells."""
SAME_DEPTH = 0.3
"""What is as far away, give or take this share, counts as its surroundings."""
RENDERED_PX = 0.3
"""SD of what a pixel's own square does to an edge: how soft models are filmed."""


@dataclass(slots=True, kw_only=True)
class Matched:
    """What matching came to.

    Attributes
    ----------
    looks : the layer's looks with the new ones among them. shutter : motion blur in degrees; None: left as it is.
    says : what was measured, in plain words. left : what was left alone, because changing it would bring nothing nearer.
    """

    looks: list[Look]
    shutter: float | None = None
    says: list[str] = field(default_factory=list)
    left: list[str] = field(default_factory=list)


def match_to_plate(shot: Shot, sources: Sources, layer_id: str, frame: int) -> Matched:
    """Looks that match a layer to the plate in a frame.

    Raises `BadInput` where the layer shows nothing there.
    """
    layer = next((one for one in shot.layers if one.id == layer_id), None)
    if layer is None or shot.footage is None:
        raise BadInput("match.layer", "This layer is not in the shot any more.")
    own = [look for look in layer.looks if not look.id.startswith(MARK)]
    # The creator's own looks are part of the element.
    bare = layer.model_copy(update={"looks": own, "opacity": 100.0})
    size = (shot.footage.width, shot.footage.height)
    matrix = np.eye(3) if sources.view is None else sources.view.matrix(sources.moment(frame))
    # What it lies over is its plate: the footage with whatever else is behind it.
    at = next((k for k, one in enumerate(shot.stack) if one.id == layer_id), len(shot.stack))
    below = shot.model_copy(update={"finish": [], "stack": shot.stack[at + 1 :]})
    plate = render_frame(below, sources, frame)
    canvas = opaque_from_codes(plate)
    picture = drawn(bare, sources, frame, size, matrix, 1.0, canvas)
    solid = picture.rgba[..., 3] > 0.97
    if solid.sum() < 400:
        raise BadInput("match.small", f"{layer.name} shows too little in this frame to be matched.")
    straight = np.asarray(picture.rgba[..., :3] / np.maximum(picture.rgba[..., 3:], 1e-4), np.float32)
    code = np.asarray(encode(np.clip(straight, 0, 1)), np.float32)
    inside = cv2.erode(solid.astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
    around, window = _around(picture, size)
    around = _behind_too(around, window, shot.stack[:at], sources, frame, size, matrix)
    around = _as_far(around, window, layer, sources, frame, size, matrix)
    plate_code = np.asarray(plate[window] / 255, np.float32)
    out = Matched(looks=[])
    # A model stands in the set's own light.
    own_light = isinstance(layer, MeshLayer)
    whole = np.asarray(plate / 255, np.float32)
    first = [] if own_light else _toned(code, straight, solid, whole, (window, around), out)
    last = _sharp(RENDERED_PX if own_light else _own_edges(code, inside, picture), plate_code, around, out)
    last += _grained(code, inside, plate, (window, around), sources.grain(shot.footage.asset), out)
    out.looks = [*first, *own, *last]
    if isinstance(layer, PictureLayer | MeshLayer):
        out.shutter = _shutter(layer, sources, frame, plate_code, around, out)
    return out


def _around(picture: Picture, size: tuple[int, int]) -> tuple[NDArray[np.bool_], tuple[slice, slice]]:
    """Where the plate is looked at: round the element, not under it; and the window of it."""
    h, w = picture.rgba.shape[:2]
    dx, dy = max(int(AROUND * w), 60), max(int(AROUND * h), 60)
    x0, y0 = max(0, picture.x - dx), max(0, picture.y - dy)
    x1, y1 = min(size[0], picture.x + w + dx), min(size[1], picture.y + h + dy)
    around = np.ones((y1 - y0, x1 - x0), bool)
    around[picture.y - y0 : picture.y - y0 + h, picture.x - x0 : picture.x - x0 + w] &= picture.rgba[..., 3] < 0.02
    if around.mean() < 0.1:
        around[:] = True
    return around, np.s_[y0:y1, x0:x1]


def _behind_too(
    around: NDArray[np.bool_], window: tuple[slice, slice], nearer: Sequence[LayerBase], sources: Sources, frame: int,
    size: tuple[int, int], view: F64,
) -> NDArray[np.bool_]:  # fmt: skip
    """Of the plate round it, what was not brought forward: that stands before it, in a focus and a light of its own."""
    rows, columns = window
    kept = around
    for one in nearer:
        if one.shown and one.is_there(frame) and "footage" in LAYERS.of(one).traits:
            shape = (around.shape[1], around.shape[0])
            part = windowed(drawn(one, sources, frame, size, view), columns.start, rows.start, shape)
            rim = np.ones((2 * RIM_PX + 1, 2 * RIM_PX + 1), np.uint8)
            kept = kept & (cv2.dilate((part[..., 3] > 0.02).astype(np.uint8), rim) == 0)
    return kept if kept.sum() > max(3000, 0.08 * around.sum()) else around


def _as_far(
    around: NDArray[np.bool_], window: tuple[slice, slice], layer: LayerBase, sources: Sources, frame: int,
    size: tuple[int, int], view: F64,
) -> NDArray[np.bool_]:  # fmt: skip
    """Of the plate round it, what lies about as far away, where a solved room tells and enough of it does."""
    target = getattr(getattr(layer, "follow", None), "target", None)
    seat = sources.seat(target) if target is not None else None
    if seat is None:
        return around
    found = inverse_depth_for(layer, sources, frame, size, view)()
    own = spot_inverse_depth(sources, target, frame)
    if found is None or own is None or own <= 0:
        return around
    near = np.abs(found.room[window] / own - 1) < SAME_DEPTH
    kept = around & near
    return kept if kept.sum() > max(3000, 0.08 * around.sum()) else around


def _toned(
    code: F32, straight: F32, solid: NDArray[np.bool_], plate: F32, place: tuple[tuple[slice, slice], NDArray[np.bool_]],
    out: Matched,
) -> list[Look]:
    """Cast, black and white as the plate's camera makes them, each only where the element comes nearer to what is round it."""
    window, around = place
    near = np.ascontiguousarray(plate[window])
    mine = tones_of(code, np.asarray(straight, np.float32), solid)
    theirs = tones_of(near, np.asarray(decode(near), np.float32), around)
    if mine is None or theirs is None:
        return []
    camera = camera_colours(plate)
    first: list[Look] = []
    own = camera_colours(_shown(code, solid)).seen
    nearer = np.hypot(*(own + camera.cast - camera.seen)) < np.hypot(*(own - camera.seen))
    moved = float(np.abs(np.expm1(camera.cast)).max())
    if moved > 0.015 and nearer:
        # White balance takes off what was white: the inverse of what is to be put on.
        gains = np.exp(np.clip(np.array([camera.cast[0], 0.0, camera.cast[1]]), -MOST_CAST, MOST_CAST))
        was = encode((1 / gains) / (1 / gains).max())
        first.append(WhiteBalance(id=MARK + "cast", name="Match: light's colour", white=_hex(was)))
        out.says.append(f"light's colour moved by up to {100 * moved:.0f} %")
    elif moved > 0.015:
        out.left.append("the light's colour")
    black, white = camera.black, camera.white
    if abs(black + (white - black) * mine.black - theirs.black) > abs(mine.black - theirs.black):
        black = 0.0
        out.left.append("black")
    if abs(black + (white - black) * mine.white - theirs.white) > abs(mine.white - theirs.white):
        white = 1.0
        out.left.append("white")
    if black > 0.008 or white < 0.99:
        first.append(Levels(
            id=MARK + "levels", name="Match: black and white", out_black=round(100 * black, 2), out_white=round(100 * white, 2),
        ))  # fmt: skip
        ends = (("black", mine.black), ("white", mine.white))
        moves = [f"{name} {100 * v:.0f} to {100 * (black + (white - black) * v):.0f} %" for name, v in ends]
        out.says.append(", ".join(moves))
    return first


def _shown(code: F32, solid: NDArray[np.bool_]) -> F32:
    """An element's codes with its middle where it shows nothing."""
    return np.where(solid[..., None], code, np.median(code[solid], axis=0)).astype(np.float32)


def _hex(code: F64) -> str:
    return "#" + "".join(f"{int(np.clip(v * 255 + 0.5, 0, 255)):02x}" for v in code)


def _own_edges(code: F32, inside: NDArray[np.bool_], picture: Picture) -> float | None:
    """How wide an element's edges are: within it, or where there are too few, its outline."""
    found = edge_width(np.ascontiguousarray(code.mean(axis=2)) * 255, inside)
    if found is not None:
        return found
    outline = np.pad(picture.rgba[..., 3] * np.float32(255), 16)
    return edge_width(np.ascontiguousarray(outline), np.ones(outline.shape, bool))


def _sharp(mine: float | None, plate_code: F32, around: NDArray[np.bool_], out: Matched) -> list[Look]:
    """As soft or as sharp as the plate's edges."""
    theirs = edge_width(np.ascontiguousarray(plate_code.mean(axis=2)) * 255, around)
    if mine is None or theirs is None:
        return []
    out.says.append(f"edges {mine:.1f} px wide, the plate's {theirs:.1f}")
    if theirs > mine:
        more = float(np.sqrt(theirs**2 - mine**2))
        return [Blur(id=MARK + "blur", name="Match: softness", radius=round(more, 2))] if more > LEAST_EDGE_PX else []
    if mine > max(theirs, 0.4) * 1.25:
        amount = min(150.0, 70 * (mine / max(theirs, 0.4) - 1))
        return [Sharpen(id=MARK + "sharpen", name="Match: sharpness", amount=round(amount), radius=round(max(mine, 0.5), 2))]
    return []


def _grained(
    code: F32, inside: NDArray[np.bool_], plate: U8, place: tuple[tuple[slice, slice], NDArray[np.bool_]],
    measured: MeasuredGrain | None, out: Matched,
) -> list[Look]:
    window, around = place
    # In time where the clip moves: what stays is texture, however fine.
    theirs = measured.profile if measured else grain_of(plate[window].astype(np.float32), around) or grain_of(
        plate.astype(np.float32)
    )
    if theirs is None:
        return []
    mine = grain_of(code * 255, inside)
    wanted = _missing(theirs, mine) if mine is not None else theirs
    sd = float(np.mean([s[1] for s in wanted.strength]))
    if sd < 0.15:
        return []
    out.says.append(f"grain {sd:.1f} codes")
    return [Grain(id=MARK + "grain", name="Match: grain", profile=wanted)]


def _missing(theirs: GrainProfile, mine: GrainProfile) -> GrainProfile:
    """What has to be added to grain that is there already; texture taken for grain never adds any."""
    a, b = np.array(theirs.strength), np.array(mine.strength)
    left = np.sqrt(np.maximum(a**2 - np.minimum(b, a * 0.98) ** 2, 0))
    return theirs.model_copy(update={"strength": [tuple(float(v) for v in row) for row in left]})


def _middle(layer: PictureLayer | MeshLayer, sources: Sources, frame: int) -> F64 | None:
    """Pixel (2,) of the layer's middle, or of the place that a model stands on."""
    if isinstance(layer, MeshLayer):
        seat = sources.seat(layer.follow.target)
        if seat is None:
            return None
        at = min(frame, seat[0].track.frames - 1)
        return seat[0].project(at, stands(layer, *seat, at)[:3, 3])
    clip_from_layer = LAYERS.of(layer).clip_from_layer
    m = clip_from_layer(layer, sources, float(frame)) if clip_from_layer else None
    return None if m is None else transform_point(m, np.array([layer.width / 2, layer.height / 2]))


def _shutter(
    layer: PictureLayer | MeshLayer, sources: Sources, frame: int, plate_code: F32, around: NDArray[np.bool_], out: Matched
) -> float | None:
    """The plate's shutter by how much softer it is along its movement than across it; None where it hardly moves."""
    before, after = (_middle(layer, sources, t) for t in (max(frame - 1, 0), frame + 1))
    if before is None or after is None:
        return None
    step = after - before
    speed = float(np.hypot(*step)) / 2
    if not np.isfinite(speed) or speed < 3:
        return None
    way = step / np.hypot(*step)
    grey = np.ascontiguousarray(plate_code.mean(axis=2)) * 255
    along = edge_width(grey, around, way)
    across = edge_width(grey, around, np.array([-way[1], way[0]]))
    if along is None or across is None:
        return None
    # Edge widths are told by steepness: a box of length L is as steep as a Gaussian of SD L / sqrt(2 pi).
    length = float(np.sqrt(max(along**2 - across**2, 0) * 2 * np.pi))
    shutter = float(np.clip(round(length / speed * 360 / 5) * 5, 0, 360))
    out.says.append(f"motion blur {shutter:.0f}°")
    return shutter

