"""The plate as a picture shows it: sampled once, keyed or whole, its empty borders filled from other frames."""

from __future__ import annotations

import cv2
import numba
import numpy as np

from plonket.base.colour import linear_from_codes, opaque_from_codes
from plonket.base.conventions import F32, F64, FAST, Codes
from plonket.document.bases import KeyBase
from plonket.image.picture import StillSource
from plonket.image.resample import level_at, level_for, sample, whole_still
from plonket.layers.sources import Sources

FEATHER_PX = 14.0
"""Width over which one frame gives way to another, in pixels of the clip."""
REDUCED = 0.125
"""Scale at which the light of two frames is compared."""


def plate_picture(
    sources: Sources, asset: str, moment: float, size: tuple[int, int], view: F64, key: KeyBase | None = None
) -> F32:
    """A moment of the footage, an `asset`, in a picture of `size`: (h, w, 4) linear, premultiplied.

    Parameters
    ----------
    view : (3, 3) from the clip's pixels to the picture's. Where that is the plate's own view, borders that it leaves empty
        are filled; else what lies beyond the frame's edge is clear.
    key : what is taken off, `at_moment`; None: nothing.
    """
    zoom = np.diag([size[0] / sources.size[0], size[0] / sources.size[0], 1.0])
    whole = key is None and not sources.covered
    if sources.view is None and np.array_equal(view, zoom):
        return opaque_picture(sources.plate(asset, moment), size) if whole else _keyed(sources, moment, size, view, key)
    steadied = sources.view is not None and np.array_equal(view, zoom @ sources.view.matrix(moment))
    canvas = stabilised_plate(sources, asset, moment, zoom, np.linalg.inv(zoom) @ view, size, fill=steadied, key=key)
    if steadied and whole:
        # What nothing fills is black.
        canvas[..., 3] = 1
    return canvas


def opaque_picture(rgb: Codes, size: tuple[int, int]) -> F32:
    """Display codes (h, w, 3) in a picture of another size, by area: (h, w, 4)."""
    if (rgb.shape[1], rgb.shape[0]) == size:
        return opaque_from_codes(rgb)
    canvas = np.empty((size[1], size[0], 4), np.float32)
    canvas[..., :3] = resized(linear_from_codes(rgb), size)
    canvas[..., 3] = 1
    return canvas


def resized(light: F32, size: tuple[int, int]) -> F32:
    """A picture (h, w, c) reduced by area."""
    return np.asarray(cv2.resize(light, size, interpolation=cv2.INTER_AREA), np.float32)


def _keyed(sources: Sources, moment: float, size: tuple[int, int], view: F64, key: KeyBase | None) -> F32:
    """The footage as it was filmed, keyed no finer than it is seen, and reduced by area."""
    pixels, _ = sources.keyed_plate(moment, key, level_at(float(view[0, 0] * view[1, 1]))).level(0)
    inner = pixels[1:-1, 1:-1]
    return np.ascontiguousarray(inner) if inner.shape[1::-1] == size else resized(np.ascontiguousarray(inner), size)


def stabilised_plate(
    sources: Sources, asset: str, moment: float, zoom: F64, matrix: F64, size: tuple[int, int], *, fill: bool,
    key: KeyBase | None = None,
) -> F32:  # fmt: skip
    """A moment of the clip through ``zoom @ matrix`` (clip to picture): (h, w, 4) linear, premultiplied, clear beyond its edge.

    With `fill`, other frames lie behind it where it does not reach. The same few donors serve the whole shot, so
    that nothing flickers; each moves with what is held, and is brought to the light of the frame where both show
    the same. With a key all of them are keyed, and none shows through what is taken off another.
    """
    canvas = np.zeros((size[1], size[0], 4), np.float32)
    is_whole = key is None and not sources.covered
    cover = canvas[..., 3] if is_whole else np.zeros((size[1], size[0]), np.float32)
    level = level_at(abs(float(np.linalg.det(zoom[:2, :2]))))
    own = StillSource(sources.plate(asset, moment)) if is_whole else sources.keyed_plate(moment, key, level)
    view = sources.view if fill else None
    if view is None or not view.donors or _reaches(own, zoom @ matrix, size):
        _lay_under(canvas, cover, own, zoom @ matrix)
        return canvas
    whole = own if is_whole else StillSource(sources.plate(asset, moment))
    behind = [(own, zoom @ matrix, np.ones(3, np.float32))]
    _lay_under(canvas, cover, *behind[0], feather=FEATHER_PX)
    for donor in view.donors:
        if donor != moment:
            source = sources.donor(asset, donor)
            lies = view.picture_at(moment) @ view.held_from_clip[donor]
            gains = _light(whole, matrix, source, lies / lies[2, 2])
            behind.append((source if is_whole else sources.keyed_plate(donor, key, level), zoom @ lies, gains))
            _lay_under(canvas, cover, *behind[-1], feather=FEATHER_PX)
    # Where soft edges alone do not cover, frames show up to their very edge.
    for one in behind:
        _lay_under(canvas, cover, *one)
    return canvas


def _reaches(source: StillSource, matrix: F64, size: tuple[int, int]) -> bool:
    """Whether a frame covers the whole picture."""
    w, h = size
    at = np.array([[0, 0, 1], [w, 0, 1], [w, h, 1], [0, h, 1]], np.float64) @ np.linalg.inv(matrix).T
    at = at[:, :2] / at[:, 2:]
    return bool((at > 1).all() and (at < [source.width - 1, source.height - 1]).all())


def _light(own: StillSource, matrix: F64, donor: StillSource, lies: F64) -> F32:
    """(3,) gains that bring a donor to the frame's light, from where both are seen."""
    size = (max(16, round(own.width * REDUCED)), max(16, round(own.height * REDUCED)))
    small = np.diag([size[0] / own.width, size[0] / own.width, 1.0])
    a, b = (whole_still(source, small @ m, size) for source, m in ((own, matrix), (donor, lies)))
    both = (a[..., 3] > 0.99) & (b[..., 3] > 0.99)
    if both.sum() < 50:
        return np.ones(3, np.float32)
    gains = np.median((a[both][:, :3] + 0.01) / (b[both][:, :3] + 0.01), axis=0)
    return np.clip(gains, 0.5, 2.0).astype(np.float32)


def _lay_under(
    canvas: F32, cover: F32, source: StillSource, matrix: F64, gains: F32 | None = None, feather: float = 0.0
) -> None:
    """Put a frame behind what the canvas shows already; only pixels that are not covered cost anything.

    `cover` (h, w) is what frames reach, which is the canvas's own coverage unless they are keyed.
    """
    at = matrix @ np.array([source.width / 2, source.height / 2, 1.0])
    found = level_for(source, matrix, at[:2] / at[2])
    if found is not None:
        pixels, index_from_frame = found
        soft = feather * (pixels.shape[1] - 2) / source.width
        keyed = not np.shares_memory(cover, canvas)
        _under(canvas, cover, pixels, index_from_frame, np.ones(3, np.float32) if gains is None else gains, soft, keyed)


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _under(canvas: F32, cover: F32, source: F32, m: F64, gains: F32, feather: float, keyed: bool) -> None:
    height, width = canvas.shape[:2]
    sh, sw = source.shape[:2]
    for y in numba.prange(height):
        wx = np.empty(4, np.float32)
        wy = np.empty(4, np.float32)
        pixel = np.empty(4, np.float32)
        for x in range(width):
            room = np.float32(1.0) - cover[y, x]
            if room < 0.0005:
                continue
            px, py = x + 0.5, y + 0.5
            d = m[2, 0] * px + m[2, 1] * py + m[2, 2]
            if d <= 1e-9:
                continue
            qx = (m[0, 0] * px + m[0, 1] * py + m[0, 2]) / d
            qy = (m[1, 0] * px + m[1, 1] * py + m[1, 2]) / d
            if not (-1.0 < qx < sw and -1.0 < qy < sh):
                continue
            # The padded picture's own edge lies half a pixel beyond index 1 and before the last but one.
            u = min(min(qx - 0.5, sw - 1.5 - qx), min(qy - 0.5, sh - 1.5 - qy))
            share = room
            if feather > 0:
                u /= feather
                if u <= 0:
                    continue
                if u < 1:
                    share *= np.float32(u * u * (3 - 2 * u))
            sample(source, qx, qy, wx, wy, pixel)
            for c in range(3):
                canvas[y, x, c] += share * gains[c] * pixel[c]
            canvas[y, x, 3] += share * pixel[3]
            if keyed:
                reach = np.float32(1.0) if feather > 0 else np.float32(min(max(u + 0.5, 0.0), 1.0))
                cover[y, x] += share * reach
