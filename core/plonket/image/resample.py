"""Placing a still in the frame: exact sub-pixel resampling, in linear premultiplied light."""

from __future__ import annotations

import numba
import numpy as np

from plonket.base.conventions import F32, F64, FAST, PIXEL_CENTRE
from plonket.base.cubic import cubic_weights
from plonket.image.picture import CLEAR, Picture, StillSource


def place_still(source: StillSource, frame_from_still: F64, size: tuple[int, int]) -> Picture:
    """Resample a still into the frame.

    Parameters
    ----------
    frame_from_still : (3, 3) from the still's pixels to the frame's pixels.
    size : (width, height) of the frame; the result's window lies within it.

    Notes
    -----
    The halved level whose pixels are nearest to the frame's is resampled with Catmull-Rom, so
    reductions do not shimmer and 1:1 placement is exact. The lookup is in float64: no 1/32-pixel
    steps, which would be seen as swim.
    """
    corners = np.array(
        [[-1, -1, 1], [source.width + 1, -1, 1], [source.width + 1, source.height + 1, 1], [-1, source.height + 1, 1]],
        dtype=np.float64,
    )
    at = corners @ frame_from_still.T
    if (at[:, 2] <= 1e-9).any():
        return CLEAR
    at = at[:, :2] / at[:, 2:]
    x0, y0 = np.maximum(np.floor(at.min(axis=0)) - 1, 0).astype(int)
    x1 = min(size[0], int(np.ceil(at[:, 0].max())) + 1)
    y1 = min(size[1], int(np.ceil(at[:, 1].max())) + 1)
    if x1 <= x0 or y1 <= y0:
        return CLEAR
    found = level_for(source, frame_from_still, at.mean(axis=0))
    if found is None:
        return CLEAR
    pixels, matrix = found
    out = np.empty((y1 - y0, x1 - x0, 4), np.float32)
    if not _copied(pixels, matrix, int(x0), int(y0), out):
        _resample(pixels, matrix, float(x0), float(y0), out)
    return Picture(rgba=out, x=int(x0), y=int(y0))


def _copied(source: F32, matrix: F64, x0: int, y0: int, out: F32) -> bool:
    """Lays a picture into a window (h, w, 4) that begins at a pixel, where it lies pixel on pixel; whether it does."""
    shift = matrix[:2, 2] + PIXEL_CENTRE
    whole = np.rint(shift)
    lies = matrix.copy()
    lies[:2, 2] = 0
    if not np.array_equal(lies, np.eye(3)) or np.abs(shift - whole).max() > 1e-9:
        return False
    (sh, sw), (h, w) = source.shape[:2], out.shape[:2]
    left, top = x0 + int(whole[0]), y0 + int(whole[1])
    a, c = min(max(0, -left), w), min(max(0, -top), h)
    b, d = max(a, min(w, sw - left)), max(c, min(h, sh - top))
    out[:c], out[d:], out[c:d, :a], out[c:d, b:] = 0, 0, 0, 0
    out[c:d, a:b] = source[top + c : top + d, left + a : left + b]
    return True


def level_at(area: float) -> int:
    """Which halved level is nearest where a pixel becomes `area` pixels."""
    return max(0, int(np.floor(-0.5 * np.log2(max(area, 1e-12)) + 0.35)))


def level_for(source: StillSource, frame_from_still: F64, at: F64) -> tuple[F32, F64] | None:
    """The halved level whose pixels are nearest to the frame's round `at` (2,), and the (3, 3) from the frame's pixels to its
    array indices; None where the still is seen edge on."""
    linear = frame_from_still[:2, :2] - np.outer(at, frame_from_still[2, :2])
    area = abs(np.linalg.det(linear))
    if area < 1e-12:
        return None
    pixels, level = source.level(level_at(area))
    # Level pixels: scaled by 2**-level, moved by the clear border; index = pixel - 0.5.
    k = 2.0**-level
    index_from_still = np.array([[k, 0, 1 - PIXEL_CENTRE], [0, k, 1 - PIXEL_CENTRE], [0, 0, 1.0]])
    return pixels, np.asarray(index_from_still @ np.linalg.inv(frame_from_still), np.float64)


@numba.njit(cache=True, fastmath=FAST, inline="always", error_model="numpy")  # type: ignore[misc]
def sample(source: F32, qx: float, qy: float, wx: F32, wy: F32, into: F32) -> None:
    """Catmull-Rom sample of an RGBA picture at array indices, clear beyond its edge; `into` (4,) gets it."""
    sh, sw = source.shape[:2]
    ix, iy = int(np.floor(qx)), int(np.floor(qy))
    cubic_weights(np.float32(qx - ix), wx)
    cubic_weights(np.float32(qy - iy), wy)
    r = g = b = a = np.float32(0.0)
    if qx == ix and qy == iy and 0 <= ix < sw and 0 <= iy < sh:
        # Pixel on pixel, as most of what is not moved: nothing is weighed.
        pixel = source[iy, ix]
        r, g, b, a = pixel[0], pixel[1], pixel[2], pixel[3]
    elif 1 <= ix < sw - 2 and 1 <= iy < sh - 2:
        for j in range(4):
            row = source[iy + j - 1]
            for i in range(4):
                w = wx[i] * wy[j]
                pixel = row[ix + i - 1]
                r += w * pixel[0]
                g += w * pixel[1]
                b += w * pixel[2]
                a += w * pixel[3]
    else:
        for j in range(4):
            yy = iy + j - 1
            if 0 <= yy < sh:
                for i in range(4):
                    xx = ix + i - 1
                    if 0 <= xx < sw:
                        w = wx[i] * wy[j]
                        r += w * source[yy, xx, 0]
                        g += w * source[yy, xx, 1]
                        b += w * source[yy, xx, 2]
                        a += w * source[yy, xx, 3]
    # The sharpening lobes may leave the valid range at hard edges.
    into[0], into[1], into[2] = max(r, np.float32(0.0)), max(g, np.float32(0.0)), max(b, np.float32(0.0))
    into[3] = min(max(a, np.float32(0.0)), np.float32(1.0))


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _resample(source: F32, m: F64, x0: float, y0: float, out: F32) -> None:
    height, width = out.shape[:2]
    sh, sw = source.shape[:2]
    for y in numba.prange(height):
        wx = np.empty(4, np.float32)
        wy = np.empty(4, np.float32)
        for x in range(width):
            px, py = x0 + x + 0.5, y0 + y + 0.5
            d = m[2, 0] * px + m[2, 1] * py + m[2, 2]
            qx = (m[0, 0] * px + m[0, 1] * py + m[0, 2]) / d
            qy = (m[1, 0] * px + m[1, 1] * py + m[1, 2]) / d
            if -1.0 < qx < sw and -1.0 < qy < sh:
                sample(source, qx, qy, wx, wy, out[y, x])
            else:
                out[y, x] = np.float32(0.0)


def whole_still(source: StillSource, matrix: F64, size: tuple[int, int]) -> F32:
    """A still placed on a picture of its own: (h, w, 4), clear beyond it."""
    out = np.zeros((size[1], size[0], 4), np.float32)
    placed = place_still(source, matrix, size)
    h, w = placed.rgba.shape[:2]
    out[placed.y : placed.y + h, placed.x : placed.x + w] = placed.rgba
    return out
