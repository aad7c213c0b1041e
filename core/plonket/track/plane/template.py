"""The reference's pixels, chosen and prepared once: what a surface is compared with."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import Degenerate

SMOOTHING_PX = 0.7
"""Gaussian SD applied before comparing: takes the aliasing out that biases sub-pixel steps."""
BLURS_PX = (0.0, 1.0, 1.8, 3.0, 4.5, 6.5)
"""Blurs of the reference that are kept ready, so that a defocused or shaken frame can be matched."""
NOISE_CUT = 3.0
"""Squared slopes below so many times those of noise are taken for noise."""
NOISE_LEFT = 0.132
"""What the cut leaves of noise's squared slopes, per axis: the mean of (1 - c/x)^2 x/2 over chi-squared x > c."""
TILES = 12
"""The region is watched in TILES x TILES pieces: what covers it covers pieces, not pixels."""
MOST_PIXELS = (10_000, 6_000, 4_000, 4_000, 4_000, 4_000)
"""Pixels compared at each level, finest first."""
SMALLEST_SIDE = 22
"""The coarsest level still shows the region this many pixels wide."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Level:
    """One scale of the reference.

    Attributes
    ----------
    scale : picture scale, 2**-k. uv : (n, 2) float32 normalised places of the chosen pixels. tile : (n,) index.
    values : (blurs, n) grey values. grad : (blurs, n, 2) by normalised u and v.
    idle : (blurs,) variance of what of each slope is still noise.
    """

    scale: float
    uv: F32
    tile: NDArray[np.int32]
    values: F32
    grad: F32
    idle: F64

    def thinned(self, step: int = 5) -> Level:
        """A thinner choice of the same pixels, where a rough look is enough."""
        return Level(
            scale=self.scale, uv=np.ascontiguousarray(self.uv[::step]), tile=np.ascontiguousarray(self.tile[::step]),
            values=np.ascontiguousarray(self.values[:, ::step]), grad=np.ascontiguousarray(self.grad[:, ::step]),
            idle=self.idle,
        )  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Template:
    """What to look for, fine to coarse.

    Attributes
    ----------
    levels : finest first. thin : the same with fewer pixels. pixels_from_norm : (3, 3) from normalised places
        to reference pixels; the region lies within about +-1. hull : (4, 2) corners of the region's box in pixels.
    """

    levels: tuple[Level, ...]
    thin: tuple[Level, ...]
    pixels_from_norm: F64
    hull: F64


def cut_template(luma: U8, mask: U8, *, detail: float = 0.6) -> Template:
    """Choose and prepare the pixels of a region.

    Parameters
    ----------
    luma : 8-bit (h, w) reference frame. mask : 8-bit (h, w), where the region is.
    detail : share of the region's pixels compared, in (0, 1], the most telling first.

    Raises
    ------
    Degenerate
        When the region is too small or has nothing in it that could be registered.
    """
    ys, xs = np.nonzero(mask > 127)
    if len(ys) < 120:
        raise Degenerate(
            "plane.small", f"The region covers only {len(ys)} pixels of the reference frame. Draw it larger."
        )
    x0, x1, y0, y1 = xs.min(), xs.max() + 1, ys.min(), ys.max() + 1
    centre = np.array([(x0 + x1) / 2, (y0 + y1) / 2])
    radius = max(float(np.hypot(x1 - x0, y1 - y0)) / 2, 4.0)
    pixels_from_norm = np.array([[radius, 0, centre[0]], [0, radius, centre[1]], [0, 0, 1.0]])
    grey = luma.astype(np.float32)
    noise = _noise_of(grey, mask)
    count = max(1, int(np.floor(np.log2(max(min(x1 - x0, y1 - y0), 1) / SMALLEST_SIDE))) + 1)
    levels = []
    for k in range(min(count, 6)):
        levels.append(_level(grey, mask, k, centre, radius, detail, (x0, y0, x1, y1), noise))
    strength = float(np.percentile(np.hypot(*levels[0].grad[0].T), 90)) / radius
    if strength < 0.35:
        raise Degenerate(
            "plane.flat",
            "There is no detail in this region: nothing tells one place on it from another. Make it larger, so that"
            " it takes in an edge, a pattern or some grain of the surface.",
        )
    hull = np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]], np.float64)
    thin = tuple(level.thinned() for level in levels)
    return Template(levels=tuple(levels), thin=thin, pixels_from_norm=pixels_from_norm, hull=hull)


def _level(
    grey: F32, mask: U8, k: int, centre: F64, radius: float, detail: float, box: tuple[int, int, int, int],
    noise: float,
) -> Level:  # fmt: skip
    scale = 2.0**-k
    pad = int(4 * (SMOOTHING_PX / scale + max(BLURS_PX))) + 4
    size = 2**k
    h, w = grey.shape
    # Cut on whole pixels of this level, so that level coordinates stay exact.
    bx0, by0 = max(0, box[0] - pad) // size * size, max(0, box[1] - pad) // size * size
    bx1 = min(w // size * size, -(-(box[2] + pad) // size) * size)
    by1 = min(h // size * size, -(-(box[3] + pad) // size) * size)
    cut, inner = grey[by0:by1, bx0:bx1], mask[by0:by1, bx0:bx1]
    if k:
        shape = ((bx1 - bx0) // size, (by1 - by0) // size)
        cut = cv2.resize(cut, shape, interpolation=cv2.INTER_AREA)
        inner = cv2.resize(inner, shape, interpolation=cv2.INTER_AREA)
    blurred = [cv2.GaussianBlur(cut, (0, 0), float(np.hypot(SMOOTHING_PX, b * scale))) for b in BLURS_PX]
    # Seen from outside its mask, a pixel's neighbours belong to something else: keep off the rim.
    safe = cv2.erode((inner > 200).astype(np.uint8), np.ones((3, 3), np.uint8), borderType=cv2.BORDER_CONSTANT, borderValue=0)
    safe[[0, -1], :] = 0
    safe[:, [0, -1]] = 0
    if not safe.any():
        safe = (inner > 127).astype(np.uint8)
    ys, xs = np.nonzero(safe)
    first = blurred[0]
    gx, gy = _gradient(first)
    energy = gx[ys, xs] ** 2 + gy[ys, xs] ** 2
    px, py = (xs + 0.5 + bx0 * scale) / scale, (ys + 0.5 + by0 * scale) / scale
    tile_x = np.clip(((px - box[0]) / max(box[2] - box[0], 1) * TILES).astype(int), 0, TILES - 1)
    tile_y = np.clip(((py - box[1]) / max(box[3] - box[1], 1) * TILES).astype(int), 0, TILES - 1)
    tile = (tile_y * TILES + tile_x).astype(np.int32)
    share = detail if k == 0 else 1.0
    chosen = _choose(energy, tile, min(max(int(share * len(ys)), 400), MOST_PIXELS[k]))
    ys, xs, tile = ys[chosen], xs[chosen], tile[chosen]
    uv = np.stack([(px[chosen] - centre[0]) / radius, (py[chosen] - centre[1]) / radius], axis=1)
    values = np.stack([b[ys, xs] for b in blurred])
    grads, rest = [], []
    for blur, b in zip(BLURS_PX, blurred, strict=True):
        gx, gy = _gradient(b)
        # Noise has slopes too, but they tell nothing: what they would claim to know is taken off.
        slope = (noise * scale * _slope_of_noise(float(np.hypot(SMOOTHING_PX, blur * scale)))) ** 2
        idle = NOISE_CUT * slope
        rest.append(NOISE_LEFT * slope * (radius * scale) ** 2)
        x, y = gx[ys, xs], gy[ys, xs]
        kept = np.clip(1 - idle / np.maximum(x * x + y * y, 1e-9), 0, 1)
        grads.append(np.stack([x * kept, y * kept], axis=1) * (radius * scale))
    return Level(
        scale=scale, uv=np.ascontiguousarray(uv, np.float32), tile=np.ascontiguousarray(tile),
        values=np.ascontiguousarray(values, np.float32), grad=np.ascontiguousarray(np.stack(grads), np.float32),
        idle=np.array(rest),
    )  # fmt: skip


def _noise_of(grey: F32, mask: U8) -> float:
    """SD of the picture's noise in code values, from the calmest quarter of the region.

    Source: J. Immerkaer, 1996, doi:10.1006/cviu.1996.0060, with a quantile in place of the mean.
    """
    kernel = np.array([[1, -2, 1], [-2, 4, -2], [1, -2, 1]], np.float32) / 6
    rough = np.abs(cv2.filter2D(grey, cv2.CV_32F, kernel))[mask > 127]
    return float(np.quantile(rough, 0.25)) / 0.3186


@lru_cache(maxsize=64)
def _slope_of_noise(sigma: float) -> float:
    """SD of the gradient, per pixel and axis, that white noise of SD 1 has after a blur of `sigma`."""
    white = np.random.default_rng(1).standard_normal((192, 192)).astype(np.float32)
    gx, _ = _gradient(cv2.GaussianBlur(white, (0, 0), sigma))
    return float(gx[12:-12, 12:-12].std())


def _gradient(picture: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Fourth-order central differences: their error at the blur used is far below noise."""
    kernel = np.array([[1.0, -8.0, 0.0, 8.0, -1.0]], np.float32) / 12
    return (cv2.filter2D(picture, cv2.CV_32F, kernel, borderType=cv2.BORDER_REPLICATE),
            cv2.filter2D(picture, cv2.CV_32F, kernel.T, borderType=cv2.BORDER_REPLICATE))  # fmt: skip


def _choose(energy: np.ndarray, tile: np.ndarray, most: int) -> np.ndarray:
    """Indices of the strongest pixels, taken evenly from all tiles, in scan order."""
    if len(energy) <= most:
        return np.arange(len(energy))
    order = np.lexsort((-energy, tile))
    starts = np.searchsorted(tile[order], np.arange(TILES * TILES + 1))
    share = most / len(energy)
    picked = [order[a : a + int(np.ceil((b - a) * share))] for a, b in zip(starts[:-1], starts[1:], strict=True)]
    return np.sort(np.concatenate(picked))
