"""Edge widths and tones of a picture, and what a camera did to its colours."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64


def edge_width(code: F32, where: NDArray[np.bool_], along: F64 | None = None) -> float | None:
    """How soft the sharpest edges are: the SD in pixels of the blur that a clean step has, of (h, w) in codes 0 to 255.

    The contrast round an edge's steepest place over its steepness: A / (sigma sqrt(2 pi)). `along` (2,) takes only edges
    across that direction. Returns None without enough edges.
    """
    grey = cv2.GaussianBlur(code, (0, 0), 0.6)
    gx = cv2.filter2D(grey, -1, np.array([[-0.5, 0, 0.5]], np.float32))
    gy = cv2.filter2D(grey, -1, np.array([[-0.5], [0], [0.5]], np.float32))
    steep = np.hypot(gx, gy)
    around = cv2.dilate(steep, np.ones((5, 5), np.uint8))
    ok = where & (steep >= around) & (steep > 3)
    if along is not None:
        ok &= np.abs(gx * along[0] + gy * along[1]) > 0.85 * steep
    inner = cv2.erode(where.astype(np.uint8), np.ones((15, 15), np.uint8)) > 0
    ys, xs = np.nonzero(ok & inner)
    if len(ys) < 25:
        return None
    # Contrast along the gradient itself, so that what lies beside the edge does not count.
    nx, ny = gx[ys, xs] / steep[ys, xs], gy[ys, xs] / steep[ys, xs]
    reach = np.arange(-7, 8)
    px, py = xs[:, None] + nx[:, None] * reach, ys[:, None] + ny[:, None] * reach
    profile = cv2.remap(grey, px.astype(np.float32), py.astype(np.float32), cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    contrast = np.maximum.accumulate(profile, axis=1)[:, -1] - np.minimum.accumulate(profile, axis=1)[:, -1]
    strong = contrast >= max(24.0, float(np.quantile(contrast, 0.6)))
    if strong.sum() < 20:
        return None
    sigma = contrast[strong] / (np.sqrt(2 * np.pi) * np.maximum(steep[ys, xs][strong], 1e-3))
    # The blur before, the difference over two pixels and the pixels' own grid are part of what was measured.
    own = 0.6**2 + 1 / 6 + 0.2
    return float(np.sqrt(max(float(np.quantile(sigma, 0.25)) ** 2 - own, 0.0)))


@dataclass(frozen=True, slots=True, kw_only=True)
class Tones:
    """Black and white points and the middle in display code 0 to 1; the light's colour (3,) with mean 1."""

    black: float
    middle: float
    white: float
    cast: F64


def tones_of(code: F32, light: F32, where: NDArray[np.bool_]) -> Tones | None:
    """Tones of part of a picture: `code` (h, w, 3) in 0 to 1, `light` the same in linear light.

    The cast is the light's colour by shades of grey (G. Finlayson and E. Trezzi, 2004): the sixth-power mean, in which what
    is bright tells most.
    """
    if where.sum() < 200:
        return None
    grey = code[where].mean(axis=1)
    low, mid, high = (float(q) for q in np.quantile(grey, [0.01, 0.5, 0.99]))
    mean = (np.maximum(light[where], 0).astype(np.float64) ** 6).mean(axis=0) ** (1 / 6)
    return Tones(black=low, middle=mid, white=high, cast=np.asarray(mean / max(float(mean.mean()), 1e-9)))
