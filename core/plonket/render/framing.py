"""Delivery frames: where they lie in the picture, frame by frame, and the picture that is cut to one."""

from __future__ import annotations

import math

import cv2
import numpy as np

from plonket.base.colour import linear_of
from plonket.base.conventions import F32, F64
from plonket.base.errors import BadInput
from plonket.base.fields import value_at
from plonket.base.homography import transform_point
from plonket.base.resampled import between_rows
from plonket.document.delivery import SHAPES, DeliveryFrame
from plonket.document.follow import Follow
from plonket.document.kinds import MOTIONS
from plonket.document.shot import Shot
from plonket.image.rescale import cut
from plonket.render.sources import ShotSources

DIM = 0.45
"""How bright the blurred picture is that lies beyond."""


def frame_of(shot: Shot, frame_id: str | None) -> DeliveryFrame | None:
    """A delivery frame by its id; None: the whole picture. Raises `BadInput` where there is none of that id."""
    if frame_id is None:
        return None
    found = next((one for one in shot.frames if one.id == frame_id), None)
    if found is None:
        raise BadInput("frame.gone", "This frame is not in the shot any more.")
    return found


def fitting(frame: DeliveryFrame, size: tuple[int, int]) -> tuple[float, float]:
    """(width, height) of the largest part of a picture that has the frame's shape."""
    across = min(size[0], size[1] * frame.ratio)
    return across, across / frame.ratio


def pixels_of(frame: DeliveryFrame, shot: Shot, scale: float = 1.0) -> tuple[int, int]:
    """(width, height) of what a frame delivers, even."""
    assert shot.footage is not None
    if frame.shape == "free":
        w, h = float(frame.width), float(frame.height)
    elif frame.pixels == "cut":
        nearest = min(value_at(frame.size, f) for f in range(shot.footage.in_frame, shot.footage.out_frame + 1))
        w, h = (side * min(nearest, 100) / 100 for side in fitting(frame, (shot.footage.width, shot.footage.height)))
    else:
        a, b = SHAPES[frame.shape]
        w, h = (int(frame.pixels) * side / min(a, b) for side in (a, b))
    return _even(w * scale), _even(h * scale)


def _even(side: float) -> int:
    return max(2, 2 * math.floor(side / 2 + 0.5))


def boxes_of(frame: DeliveryFrame, shot: Shot, sources: ShotSources) -> F64:
    """(n, 4) x, y of the top-left corner, width and height in pixels of the finished picture, for every frame of the shot."""
    footage = shot.footage
    assert footage is not None
    size = (footage.width, footage.height)
    count = footage.length
    largest = fitting(frame, size)
    sides = np.array([value_at(frame.size, f) for f in range(count)])[:, None] / 100 * np.array(largest)
    middles = _middles(frame, shot, sources)
    slows = np.zeros(2)
    if frame.target is not None and frame.smooth > 0:
        frames = frame.smooth * float(footage.fps)
        middles = _eased(middles, frames, footage.in_frame, footage.out_frame)
        inside = middles[footage.in_frame : footage.out_frame + 1]
        slows = np.abs(np.diff(inside, axis=0)).max(axis=0, initial=0) * frames / 2
    middles = _held(middles, sides, size, slows) if frame.within else middles
    return np.concatenate([middles - sides / 2, sides], axis=1)


def _held(middles: F64, sides: F64, size: tuple[int, int], slows: F64) -> F64:
    """Middles kept so that the sides lie within the picture: so many pixels before an edge they begin to slow down."""
    low, high = sides / 2, np.array(size) - sides / 2
    room = np.maximum(high - low, 0)
    # A parabola that leads from going on to standing still.
    soft = np.minimum(slows, room / 4)
    safe = np.maximum(soft, 1e-9)

    def risen(over: F64) -> F64:
        """How far beyond a limit what lies so far beyond it may be."""
        return np.where(over >= soft, over, np.where(over <= -soft, 0.0, (over + soft) ** 2 / (4 * safe)))

    out = high - risen(high - (low + risen(middles - low)))
    return np.where(high > low, out, np.array(size) / 2)


def _eased(path: F64, frames: float, first: int, last: int) -> F64:
    """A path that takes about so many frames to follow, looking both ways: at every frame the line that fits best round it,
    frames weighted by a bell curve, so that neither end lags (local linear regression: W. Cleveland, 1979,
    doi:10.1080/01621459.1979.10481038). Only the range counts."""
    spread = max(frames / 2, 1e-6)
    reach = int(np.ceil(3 * spread))
    inside = path[first : last + 1]
    n = len(inside)
    away = np.arange(-reach, reach + 1)
    bell = np.exp(-0.5 * (away / spread) ** 2)

    def gathered(values: F64, power: int) -> F64:
        # Turned round: a convolution looks from the other side.
        return np.convolve(values, bell * (-away.astype(np.float64)) ** power)[reach : reach + n]

    ones = np.ones(n)
    s0, s1, s2 = (gathered(ones, k) for k in range(3))
    out = path.copy()
    for axis in range(2):
        t0, t1 = gathered(inside[:, axis], 0), gathered(inside[:, axis], 1)
        level = s0 * s2 - s1 * s1
        out[first : last + 1, axis] = np.where(level > 1e-9 * s0, (s2 * t0 - s1 * t1) / np.maximum(level, 1e-12), t0 / s0)
    out[:first], out[last + 1 :] = out[first], out[last]
    return out


def _middles(frame: DeliveryFrame, shot: Shot, sources: ShotSources) -> F64:
    """(n, 2) where its middle would be, unsmoothed and unbounded."""
    footage = shot.footage
    assert footage is not None
    motion = None if frame.target is None else next((m for m in shot.motions if m.id == frame.target), None)
    seen = sources.middles(motion.id) if motion is not None and "matte" in MOTIONS.of(motion).traits else None
    if motion is not None and seen is None and "unfollowed" in MOTIONS.of(motion).traits:
        motion = None
    follow = Follow(target=None if motion is None else motion.id, reference_frame=frame.reference_frame, turn=False, size=False)
    out = np.empty((footage.length, 2))
    for f in range(footage.length):
        at = np.array([value_at(frame.x, f), value_at(frame.y, f)])
        if seen is not None:
            place = between_rows(seen, sources.moment(f)) + at
        elif motion is not None:
            place = transform_point(sources.spaces.placed(follow, f, at), at)
        else:
            # A place of the picture itself: it goes with nothing.
            out[f] = at
            continue
        out[f] = place if sources.view is None else transform_point(sources.view.matrix(sources.moment(f)), place)
    bad = ~np.isfinite(out).all(axis=1)
    out[bad] = np.array([footage.width, footage.height]) / 2
    return out


def framed(canvas: F32, box: F64, frame: DeliveryFrame, size: tuple[int, int], zoom: float) -> F32:
    """The part of a finished picture that a frame shows.

    Parameters
    ----------
    canvas : (h, w, 4) linear, premultiplied. box : (4,) of `boxes_of`, in full-size pixels. size : (width, height) of what is
        made. zoom : the canvas's pixels for one of full size.
    """
    x, y, w, h = (float(v) * zoom for v in box)
    near = 1.01 if frame.pixels == "cut" and frame.shape != "free" else 0.5
    if abs(w - size[0]) < near and abs(h - size[1]) < near:
        # Pixel on pixel but for the rounding of the size; standing still it stands on whole pixels.
        x, y, w, h = x + (w - size[0]) / 2, y + (h - size[1]) / 2, float(size[0]), float(size[1])
        x, y = (round(v) if abs(v - round(v)) < 0.02 else v for v in (x, y))
    out = cut(canvas, (x, y, w, h), size)
    if frame.beyond == "clear" or _covers((x, y, w, h), canvas.shape):
        return out
    behind = _beyond(canvas, frame, size)
    inside = cut(np.ones_like(canvas), (x, y, w, h), size)[..., 3:]
    return np.asarray(out + behind * (1 - inside), np.float32)


def _covers(box: tuple[float, float, float, float], shape: tuple[int, ...]) -> bool:
    x, y, w, h = box
    return x >= -1e-6 and y >= -1e-6 and x + w <= shape[1] + 1e-6 and y + h <= shape[0] + 1e-6


def _beyond(canvas: F32, frame: DeliveryFrame, size: tuple[int, int]) -> F32:
    """(h, w, 4) what is seen where the picture ends."""
    if frame.beyond == "colour":
        out = np.ones((size[1], size[0], 4), np.float32)
        out[..., :3] = linear_of(frame.colour)
        return out
    # As much of the picture as fills the frame: small, for nothing fine is left of it.
    h, w = canvas.shape[:2]
    across, down = min(w, h * frame.ratio), min(h, w / frame.ratio)
    x, y = round((w - across) / 2), round((h - down) / 2)
    part = canvas[y : y + max(round(down), 1), x : x + max(round(across), 1)]
    tall = 128
    small = cv2.resize(part, (max(round(tall * frame.ratio), 4), tall), interpolation=cv2.INTER_AREA)
    soft = cv2.GaussianBlur(small, (0, 0), 5)
    wide = cv2.resize(soft, size, interpolation=cv2.INTER_CUBIC)
    wide[..., :3] *= np.float32(DIM)
    return np.maximum(wide, 0)
