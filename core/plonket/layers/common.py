"""What layers share that show a picture: its settings, and how it is exposed, cut and faded."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Annotated, Literal

import numba
import numpy as np

from plonket.base.conventions import F32, F64, FAST
from plonket.base.fields import UNSEEN, AssetDigest, Number, choice, number, plain, switch, value_at
from plonket.base.homography import jacobian
from plonket.base.outlines import carry
from plonket.document.bases import Key, LayerBase
from plonket.image.picture import CLEAR, Picture
from plonket.image.resample import level_at, place_still
from plonket.keying.common import at_moment
from plonket.layers.sources import Sources

MOST_SUBFRAMES = 24


class KeyedLayer(LayerBase):
    """A layer whose picture can be cut by a key."""

    key: Key | None = None


class PictureLayer(KeyedLayer):
    """A layer that shows a still or a clip from the shelf, moving with the motion blur of its movement."""

    asset: AssetDigest
    width: int
    height: int
    shutter: float = plain(0, label="Motion blur", low=0, high=360, step=5, unit="°", group="Mix",
                           help="Shutter angle: 180° is half a frame long, as film cameras expose. 0 is off.")  # fmt: skip
    mirror: Literal["no", "across", "down", "both"] = choice(
        "no", label="Mirrored", group="Cut",
        names={"no": "No", "across": "Left to right", "down": "Top to bottom", "both": "Both"})  # fmt: skip
    crop_left: Number = number(0.0, label="Off the left", low=0, high=100, step=0.5, unit="%", group="Cut")
    crop_right: Number = number(0.0, label="Off the right", low=0, high=100, step=0.5, unit="%", group="Cut")
    crop_top: Number = number(0.0, label="Off the top", low=0, high=100, step=0.5, unit="%", group="Cut")
    crop_bottom: Number = number(0.0, label="Off the bottom", low=0, high=100, step=0.5, unit="%", group="Cut")
    crop_soft: Number = number(0.0, label="Soft edge", low=0, high=1000, step=0.5, unit="px", group="Cut", soft=(0, 100))
    wiped: Number = number(0.0, label="Wiped off", low=0, high=100, step=1, unit="%", group="Cut",
                           help="Key this to let it come in or go out behind a moving edge.")  # fmt: skip
    wipe_angle: Number = number(0.0, label="Edge goes", low=-360, high=360, step=1, unit="°", group="Cut", soft=(-180, 180))
    wipe_soft: Number = number(20.0, label="Edge's width", low=0, high=2000, step=1, unit="px", group="Cut", soft=(0, 200))
    pace: Literal["own", "frame"] = choice(
        "frame", label="Runs", group="Clip", names={"own": "At its own rate", "frame": "A frame of it for each frame"},
        help="At its own rate a second of it lasts a second.")  # fmt: skip
    starts: int = plain(0, label="Starts at", low=-100000, high=100000, step=1, unit="fr", group="Clip", whole=True,
                        help="Frame of the shot on which a clip's first frame is shown.")  # fmt: skip
    speed: float = plain(100, label="Speed", low=-1000, high=1000, step=1, unit="%", group="Clip",
                         help="Below nought it runs backwards; 0 holds its first frame.")  # fmt: skip
    first: int = plain(0, label="From its", low=0, high=100000, step=1, unit="fr", group="Clip", whole=True,
                       help="First of its own frames that is used.")  # fmt: skip
    last: int = plain(0, label="To its", low=0, high=100000, step=1, unit="fr", group="Clip", whole=True,
                      help="Last of its own frames that is used; 0: to its end.")  # fmt: skip
    after: Literal["hold", "loop", "turn", "gone"] = choice(
        "hold", label="After its end", group="Clip",
        names={"hold": "Hold the last frame", "loop": "Begin again", "turn": "Go back and forth",
               "gone": "Be gone"})  # fmt: skip
    by_keys: bool = switch(False, label="Frame by keys", group="Clip",
                           help="Which of its frames is shown is a number to key: to hold, ramp or reverse it.")  # fmt: skip
    shows: Number = number(0.0, label="Shows frame", low=0, high=100000, step=1, unit="fr", group="Clip",
                           help="Used with Frame by keys.")  # fmt: skip
    volume: Annotated[Number, UNSEEN] = number(
        0.0, label="Its sound", low=0, high=400, step=1, unit="%", group="Clip", soft=(0, 100),
        help="How loud a clip's own sound is heard under the shot; it runs as its picture does.")  # fmt: skip
    between: Literal["nearest", "mixed"] = choice(
        "nearest", label="In between", group="Clip", names={"nearest": "Nearest frame", "mixed": "Two frames mixed"},
        help="What is shown when it runs slower than it was taken.")  # fmt: skip


def faded(picture: Picture, layer: LayerBase, frame: int) -> Picture:
    """A layer's picture as much as it is seen at a frame."""
    opacity = layer.presence(frame)
    return picture if opacity == 1 else Picture(rgba=picture.rgba * np.float32(opacity), x=picture.x, y=picture.y)


def clip_frames(layer: PictureLayer, frame: int, frames: int, pace: float = 1.0) -> list[tuple[int, float]]:
    """Which frames of the layer's own clip are shown, each with its share; none where the clip is not seen.

    `pace` is how many of its frames pass by in one of the shot's, at its own rate.
    """
    at = clip_moment(layer, frame, frames, pace)
    if at is None:
        return []
    low = int(at)
    share = at - low
    if layer.between == "nearest" or share < 1e-6 or low + 1 >= frames:
        return [(min(int(at + 0.5), frames - 1), 1.0)]
    return [(low, 1 - share), (low + 1, share)]


def clip_moment(layer: PictureLayer, frame: float, frames: int, pace: float = 1.0) -> float | None:
    """Where in the layer's own clip a frame of the shot is, in its frames; None where the clip is not seen."""
    if frames <= 1:
        return 0.0
    first = min(layer.first, frames - 1)
    last = min(layer.last if layer.last > 0 else frames - 1, frames - 1)
    length = max(last - first, 0)
    if layer.by_keys:
        at = min(max(value_at(layer.shows, frame), 0.0), float(frames - 1))
    else:
        gone = (frame - layer.starts) * layer.speed / 100 * (pace if layer.pace == "own" else 1.0)
        k = length + gone if layer.speed < 0 else gone
        if layer.after == "gone" and not -0.5 < k < length + 0.5:
            return None
        if layer.after == "loop":
            k %= length + 1
        elif layer.after == "turn" and length:
            k = length - abs(k % (2 * length) - length)
        at = first + min(max(k, 0.0), float(length))
    return at


def shown_frames(layer: PictureLayer, sources: Sources, frame: int) -> list[tuple[str, int, float]]:
    """Which frames of which asset are shown in a frame of the shot, each with its share."""
    seen = clip_frames(layer, frame, sources.length(layer.asset), sources.pace(layer.asset))
    return [(layer.asset, k, share) for k, share in seen]


def mirrored(layer: PictureLayer) -> F64:
    """(3, 3) that mirrors the layer's own picture as it is set."""
    across, down = layer.mirror in ("across", "both"), layer.mirror in ("down", "both")
    return np.array([
        [-1.0 if across else 1.0, 0, layer.width if across else 0],
        [0, -1.0 if down else 1.0, layer.height if down else 0],
        [0, 0, 1.0],
    ])  # fmt: skip


def cut(picture: Picture, matrix: F64, layer: PictureLayer, frame: int) -> Picture:
    """The picture cropped and wiped as the layer is set, with anti-aliased or soft edges.

    `matrix` leads from the layer's own pixels to the whole picture's.
    """
    off = [value_at(n, frame) / 100 for n in (layer.crop_left, layer.crop_top, layer.crop_right, layer.crop_bottom)]
    wiped = float(np.clip(value_at(layer.wiped, frame) / 100, 0, 1))
    if not picture.rgba.size or not (any(o > 0 for o in off) or wiped > 0):
        return picture
    if wiped >= 1:
        return CLEAR
    w, h = float(layer.width), float(layer.height)
    # An edge that is not cropped lies far out, so that it is left as it is.
    far = 4 * (w + h)
    box = np.array([off[0] * w if off[0] > 0 else -far, off[1] * h if off[1] > 0 else -far,
                    w - off[2] * w if off[2] > 0 else w + far, h - off[3] * h if off[3] > 0 else h + far])  # fmt: skip
    angle = np.radians(value_at(layer.wipe_angle, frame))
    way = np.array([np.cos(angle), np.sin(angle)])
    wide = max(value_at(layer.wipe_soft, frame), 0.0)
    half = (abs(way[0]) * w + abs(way[1]) * h) / 2 + wide / 2
    edge = -half + 2 * half * wiped if wiped > 0 else -far
    return cut_to(picture, matrix, box, max(value_at(layer.crop_soft, frame), 0.0),
                  np.array([way[0], way[1], way[0] * w / 2 + way[1] * h / 2 + edge, wide]))  # fmt: skip


def cut_to(picture: Picture, matrix: F64, box: F64, soft: float, edge: F64 | None = None) -> Picture:
    """What lies inside a box (left, top, right, bottom) of the layer's own pixels, and beyond an edge.

    Parameters
    ----------
    soft : width in pixels over which it fades out inside the box. edge : direction (2), place along it, and width.
    """
    rgba = picture.rgba.copy()
    far = np.array([1.0, 0.0, -1e9, 0.0])
    _cut(rgba, float(picture.x), float(picture.y), np.linalg.inv(matrix), box, soft, far if edge is None else edge)
    return Picture(rgba=rgba, x=picture.x, y=picture.y)


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _cut(rgba: F32, x0: float, y0: float, back: F64, box: F64, soft: float, edge: F64) -> None:
    det = abs(np.linalg.det(back))
    for j in numba.prange(rgba.shape[0]):
        for i in range(rgba.shape[1]):
            x, y = x0 + i + 0.5, y0 + j + 0.5
            d = back[2, 0] * x + back[2, 1] * y + back[2, 2]
            u = (back[0, 0] * x + back[0, 1] * y + back[0, 2]) / d
            v = (back[1, 0] * x + back[1, 1] * y + back[1, 2]) / d
            # A pixel's own size on the layer makes an edge one pixel soft at least.
            step = np.sqrt(det / max(abs(d * d * d), 1e-12))
            inside = min(min(u - box[0], box[2] - u), min(v - box[1], box[3] - v))
            cover = inside / max(step, soft) + (0.5 if soft <= 0 else 0.0)
            cover = min(max(cover, 0.0), 1.0)
            if soft > 0:
                cover = cover * cover * (3 - 2 * cover)
            beyond = (u * edge[0] + v * edge[1] - edge[2]) / max(step, edge[3]) + 0.5
            cover *= min(max(beyond, 0.0), 1.0)
            for c in range(4):
                rgba[j, i, c] *= cover


def instants(shutter_deg: float, moved_px: float) -> list[float]:
    """Offsets in frames of the sub-frames of an exposure, about its middle.

    As many as the picture moves pixels during it, so that steps do not show.
    """
    open_for = shutter_deg / 360
    count = min(MOST_SUBFRAMES, math.ceil(moved_px * open_for * 1.25))
    if open_for <= 0 or count <= 1:
        return [0.0]
    return [((k + 0.5) / count - 0.5) * open_for for k in range(count)]


def averaged(pictures: list[Picture], shares: list[float] | None = None) -> Picture:
    """The mean of pictures with different windows; `shares` weigh them and sum to 1."""
    parts = shares or [1 / max(len(pictures), 1)] * len(pictures)
    shown = [p for p in pictures if p.rgba.size]
    if not shown:
        return CLEAR
    if len(pictures) == 1:
        return shown[0]
    x0, y0 = min(p.x for p in shown), min(p.y for p in shown)
    x1, y1 = max(p.x + p.rgba.shape[1] for p in shown), max(p.y + p.rgba.shape[0] for p in shown)
    total = np.zeros((y1 - y0, x1 - x0, 4), np.float32)
    for p, part in zip(pictures, parts, strict=True):
        h, w = p.rgba.shape[:2]
        if p.rgba.size:
            total[p.y - y0 : p.y - y0 + h, p.x - x0 : p.x - x0 + w] += p.rgba * np.float32(part)
    return Picture(rgba=total, x=x0, y=y0)


def exposed(
    layer: PictureLayer, sources: Sources, frame: int, size: tuple[int, int], at: Callable[[float], F64], box: F64,
    trim: Callable[[Picture, F64], Picture] | None = None,
) -> Picture:  # fmt: skip
    """A layer's own picture placed as `at` says at every instant of the exposure, cropped and wiped, at its opacity.

    Parameters
    ----------
    at : moment in frames -> (3, 3) from the layer's own pixels to the picture's. box : (4, 2) corners whose speed decides
        how many instants are drawn. trim : what else is cut off, given the placed picture and its matrix.
    """
    speed = moved_px(box, at(max(frame - 0.5, 0.0)), at(frame + 0.5)) if layer.shutter > 0 else 0.0
    moments = instants(layer.shutter, speed)
    level = 0
    if layer.key is not None:
        # A key need not be finer than it is seen where it is largest.
        areas = [abs(float(np.linalg.det(jacobian(at(float(frame)), spot)))) for spot in box]
        level = level_at(max(areas)) if np.isfinite(areas).all() else 0
    pictures, shares = [], []
    key = None if layer.key is None else at_moment(layer.key, frame)
    for asset, k, share in shown_frames(layer, sources, frame):
        source = sources.element(asset, k, key, level)
        for u in moments:
            matrix = at(frame + u)
            picture = cut(place_still(source, matrix, size), matrix, layer, frame)
            pictures.append(trim(picture, matrix) if trim else picture)
            shares.append(share / len(moments))
    return faded(averaged(pictures, shares), layer, frame)


def box_of(layer: PictureLayer) -> F64:
    """(4, 2) corners of the layer's own picture, clockwise from top left."""
    w, h = layer.width, layer.height
    return np.array([[0, 0], [w, 0], [w, h], [0, h]], np.float64)


def moved_px(box: F64, before: F64, after: F64) -> float:
    """How far the fastest corner goes from one matrix to another, in pixels."""
    d = carry(box, after) - carry(box, before)
    return float(np.nan_to_num(np.hypot(d[:, 0], d[:, 1]), nan=0.0).max())
