"""Delivery frames: where they lie in the picture, frame by frame, and the picture that is cut to one."""

from __future__ import annotations

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
    return max(2, 2 * round(side / 2))


def boxes_of(frame: DeliveryFrame, shot: Shot, sources: ShotSources) -> F64:
    """(n, 4) x, y of the top-left corner, width and height in pixels of the finished picture, for every frame of the shot."""
    footage = shot.footage
    assert footage is not None
    size = (footage.width, footage.height)
    count = footage.length
    largest = fitting(frame, size)
    sides = np.array([value_at(frame.size, f) for f in range(count)])[:, None] / 100 * np.array(largest)
    middles = _middles(frame, shot, sources)
    middles = _held(middles, sides, size) if frame.within else middles
    if frame.target is not None and frame.smooth > 0:
        # Of what stays within a span, a mean stays within it too; where sides change, it is held once more.
        middles = _eased(middles, frame.smooth * float(footage.fps), footage.in_frame, footage.out_frame)
        middles = _held(middles, sides, size) if frame.within else middles
    return np.concatenate([middles - sides / 2, sides], axis=1)


def _held(middles: F64, sides: F64, size: tuple[int, int]) -> F64:
    low, high = sides / 2, np.array(size) - sides / 2
    return np.where(high >= low, np.clip(middles, low, np.maximum(high, low)), np.array(size) / 2)


def _eased(path: F64, frames: float, first: int, last: int) -> F64:
    """A path that takes about so many frames to follow, looking both ways: a mean weighted by a bell curve.

    Only the range counts; beyond its ends the path goes on as it is there, turned about them, so that neither end lags.
    """
    spread = frames / 2
    reach = int(np.ceil(3 * spread))
    inside = path[first : last + 1]
    n = len(inside)
    if n < 2:
        return path
    before = 2 * inside[0] - inside[np.minimum(np.arange(reach, 0, -1), n - 1)]
    after = 2 * inside[-1] - inside[np.maximum(n - 2 - np.arange(reach), 0)]
    bell = np.exp(-0.5 * (np.arange(-reach, reach + 1) / max(spread, 1e-6)) ** 2)
    whole = np.concatenate([before, inside, after])
    out = path.copy()
    for axis in range(2):
        out[first : last + 1, axis] = np.convolve(whole[:, axis], bell / bell.sum(), mode="valid")
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
    if abs(w - size[0]) < 0.5 and abs(h - size[1]) < 0.5:
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
