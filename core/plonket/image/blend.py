"""Blends: how a layer mixes with what lies below (W3C Compositing and Blending Level 1, 9 and 10).

Normal, add and multiply act on linear light, as light does. The others are defined by the look
they give on screen and act on sRGB-coded values. `lay_over` is in place on a window of the picture.
"""

from __future__ import annotations

import numba
import numpy as np

from plonket.base.colour import code_of, light_of
from plonket.base.conventions import F32, FAST
from plonket.document.bases import BLENDS, BlendName
from plonket.image.picture import Picture

NORMAL, ADD, SCREEN, MULTIPLY, LIGHTEN, DARKEN, OVERLAY, SOFT_LIGHT, DIFFERENCE = range(9)
_NUMBERS = dict(zip(BLENDS, range(9), strict=True))


def lay_over(below: F32, layer: Picture, blend: BlendName) -> None:
    """Mix `layer` on to `below` (h, w, 4; linear, premultiplied), in place."""
    h, w = layer.rgba.shape[:2]
    if h == 0 or w == 0:
        return
    window = below[layer.y : layer.y + h, layer.x : layer.x + w]
    if blend == "normal":
        _normal(window, layer.rgba)
    else:
        _mixed(window, layer.rgba, _NUMBERS[blend])


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _normal(below: F32, above: F32) -> None:
    for y in numba.prange(below.shape[0]):
        for x in range(below.shape[1]):
            keep = np.float32(1.0) - above[y, x, 3]
            for c in range(4):
                below[y, x, c] = above[y, x, c] + below[y, x, c] * keep


@numba.njit(parallel=True, cache=True, fastmath=FAST)  # type: ignore[misc]
def mix_into(picture: F32, other: F32, share: F32) -> None:
    """`picture` becomes `share` (h, w) of itself and the rest of another one of its size."""
    for y in numba.prange(picture.shape[0]):
        for x in range(picture.shape[1]):
            for c in range(4):
                picture[y, x, c] = other[y, x, c] + share[y, x] * (picture[y, x, c] - other[y, x, c])


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _mixed(below: F32, above: F32, blend: int) -> None:
    """co = cs as (1 - ab) + as ab B(cb, cs) + (1 - as) ab cb (section 9.1.4); light alone is added."""
    one = np.float32(1.0)
    least = np.float32(1e-6)
    for y in numba.prange(below.shape[0]):
        for x in range(below.shape[1]):
            a_s, a_b = above[y, x, 3], below[y, x, 3]
            covered = a_b + a_s * (one - a_b)
            if blend == ADD:
                for c in range(3):
                    below[y, x, c] += above[y, x, c]
                below[y, x, 3] = min(one, covered)
                continue
            both = a_s * a_b
            for c in range(3):
                mixed = np.float32(0.0)
                if both > np.float32(0.0):
                    c_b, c_s = below[y, x, c] / max(a_b, least), above[y, x, c] / max(a_s, least)
                    mixed = c_b * c_s if blend == MULTIPLY else _on_screen(c_b, c_s, blend)
                below[y, x, c] = above[y, x, c] * (one - a_b) + both * mixed + (one - a_s) * below[y, x, c]
            below[y, x, 3] = covered


@numba.njit(cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _on_screen(c_b: np.float32, c_s: np.float32, blend: int) -> np.float32:
    """B(cb, cs) of one channel: linear in, linear out, worked out in display code."""
    one, two = np.float32(1.0), np.float32(2.0)
    if blend == LIGHTEN:
        return min(max(c_b, c_s, np.float32(0.0)), one)
    if blend == DARKEN:
        return min(max(min(c_b, c_s), np.float32(0.0)), one)
    b, s = code_of(c_b), code_of(c_s)
    if blend == SCREEN:
        out = b + s - b * s
    elif blend == DIFFERENCE:
        out = abs(b - s)
    elif blend == SOFT_LIGHT:
        d = ((np.float32(16) * b - np.float32(12)) * b + np.float32(4)) * b if b <= np.float32(0.25) else np.sqrt(b)
        out = b - (one - two * s) * b * (one - b) if s <= np.float32(0.5) else b + (two * s - one) * (d - b)
    else:
        out = two * b * s if b <= np.float32(0.5) else one - two * (one - b) * (one - s)
    return light_of(out)
