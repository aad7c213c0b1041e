"""What a camera made of a scene's colours: its cast, its black and its white."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from plonket.base.colour import LUMA, decode
from plonket.base.conventions import F32, F64

USUAL_CAST = np.array([0.10, -0.05])
"""Of pictures that a good camera has balanced, as both ways to see a cast see them: the world is a little warm."""
USUAL_BLACK, USUAL_WHITE = 0.02, 0.95
"""Darkest and brightest display code of such a picture, for the most part."""
DISAGREES = 0.12
"""Difference of two ways to see a cast at which half of it is believed."""
IMPLAUSIBLE = 0.38
"""Logarithm of a ratio of channels beyond which a cast is more likely the colour of what is shown."""
LEAST_CAST = 0.03


@dataclass(frozen=True, slots=True, kw_only=True)
class CameraColours:
    """What a camera made of the scene's colours.

    Attributes
    ----------
    cast : (2,) logarithms of red and blue light over green beyond what is usual, as far as it is believed.
    seen : (2,) the same as it is seen. sure : 0 to 1.
    black, white : display codes to which what was black and what was white have come.
    """

    cast: F64
    seen: F64
    sure: float
    black: float
    white: float


def camera_colours(code: F32) -> CameraColours:
    """What a camera made of a scene's colours, by a picture (h, w, 3) in display code 0 to 1.

    A cast is believed as far as two ways to see it agree: steep edges are grey on average (J. van de Weijer, T. Gevers and
    A. Gijsenij, 2007, doi:10.1109/TIP.2007.901808), and many things are nearly grey.
    """
    soft = cv2.GaussianBlur(code, (0, 0), 1.2)
    level = soft @ LUMA
    low, high = (float(q) for q in np.quantile(level, [0.003, 0.997]))
    light = decode(np.clip((code - low) / max(1 - low, 0.2), 0, 1)).astype(np.float32)
    one, other = _cast_by_edges(light), _cast_by_greys(light)
    seen = (one + other) / 2 - USUAL_CAST
    apart, size = float(np.abs(one - other).max()), float(np.hypot(*seen))
    sure = float(np.exp(-((size / IMPLAUSIBLE) ** 4)) / (1 + (apart / DISAGREES) ** 2))
    held = max(0.0, 1 - LEAST_CAST / max(size, 1e-9))
    return CameraColours(
        cast=seen * sure * held, seen=seen, sure=sure, black=max(0.0, low - USUAL_BLACK),
        white=1 - float(np.clip(0.6 * (USUAL_WHITE - high), 0, 0.25)),
    )  # fmt: skip


def _ratios(light: F64) -> F64:
    """(2,) logarithms of red and blue over green."""
    r, g, b = np.log(np.maximum(light, 1e-9))
    return np.array([r - g, b - g])


def _cast_by_edges(light: F32) -> F64:
    """The cast by the fourth-power mean of edges, in which steep ones tell most."""
    soft = cv2.GaussianBlur(light, (0, 0), 1.5)
    steep = np.hypot(cv2.Sobel(soft, cv2.CV_32F, 1, 0), cv2.Sobel(soft, cv2.CV_32F, 0, 1)).astype(np.float64)
    inside = soft.max(axis=2) < 0.95
    return _ratios((steep[inside] ** 4).mean(axis=0) ** 0.25) if inside.any() else np.zeros(2)


def _cast_by_greys(light: F32) -> F64:
    """The cast by the heap of nearly grey pixels: where most of them lie, among what a light may look like."""
    soft = cv2.GaussianBlur(light, (0, 0), 1.5)[::2, ::2].reshape(-1, 3).astype(np.float64) + 1e-4
    soft = soft[(soft.max(axis=1) < 0.95) & (soft.min(axis=1) > 0.02)]
    if len(soft) < 50:
        return np.zeros(2)
    at = np.log(soft[:, [0, 2]] / soft[:, [1]])
    likely = np.exp(-((at / np.array([0.35, 0.45])) ** 2).sum(axis=1))
    weight = np.exp(-((at / np.array([0.25, 0.3])) ** 2).sum(axis=1) / 2)
    for _ in range(25):
        middle = (weight[:, None] * at).sum(axis=0) / max(float(weight.sum()), 1e-12)
        weight = np.exp(-(((at - middle) / np.array([0.1, 0.12])) ** 2).sum(axis=1) / 2) * likely
    return np.asarray(middle)
