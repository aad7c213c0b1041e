"""Blends: how a layer mixes with what lies below (W3C Compositing and Blending Level 1, 9 and 10).

Normal, add and multiply act on linear light, as light does. The others are defined by the look
they give on screen and act on sRGB-coded values. `over` is in place on a window of the picture.
"""

from __future__ import annotations

from typing import Literal, get_args

import numba
import numpy as np

from plonket.base.colour import decode, encode
from plonket.base.conventions import F32, FAST
from plonket.image.picture import Picture

BlendName = Literal["normal", "add", "screen", "multiply", "lighten", "darken", "overlay", "soft light", "difference"]
BLEND_NAMES: dict[str, str] = {
    "normal": "Normal",
    "add": "Add light",
    "screen": "Screen",
    "multiply": "Multiply",
    "lighten": "Lighten",
    "darken": "Darken",
    "overlay": "Overlay",
    "soft light": "Soft light",
    "difference": "Difference",
}
assert set(BLEND_NAMES) == set(get_args(BlendName))


def lay_over(below: F32, layer: Picture, blend: BlendName) -> None:
    """Mix `layer` on to `below` (h, w, 4; linear, premultiplied), in place."""
    h, w = layer.rgba.shape[:2]
    if h == 0 or w == 0:
        return
    window = below[layer.y : layer.y + h, layer.x : layer.x + w]
    if blend == "normal":
        _normal(window, layer.rgba)
    elif blend == "add":
        window[..., :3] += layer.rgba[..., :3]
        window[..., 3] = np.minimum(1, window[..., 3] + layer.rgba[..., 3] * (1 - window[..., 3]))
    else:
        _mixed(window, layer.rgba, blend)


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


def _mixed(below: F32, above: F32, blend: BlendName) -> None:
    """co = cs as (1 - ab) + as ab B(cb, cs) + (1 - as) ab cb (section 9.1.4)."""
    a_s, a_b = above[..., 3:4], below[..., 3:4]
    c_s = above[..., :3] / np.maximum(a_s, 1e-6)
    c_b = below[..., :3] / np.maximum(a_b, 1e-6)
    mixed = c_b * c_s if blend == "multiply" else _on_screen(np.asarray(c_b, np.float32), np.asarray(c_s, np.float32), blend)
    below[..., :3] = above[..., :3] * (1 - a_b) + a_s * a_b * mixed + (1 - a_s) * below[..., :3]
    below[..., 3:4] = a_s + a_b * (1 - a_s)


def _on_screen(c_b: F32, c_s: F32, blend: BlendName) -> F32:
    b, s = encode(np.clip(c_b, 0, 1)), encode(np.clip(c_s, 0, 1))
    if blend == "screen":
        out = b + s - b * s
    elif blend == "lighten":
        out = np.maximum(b, s)
    elif blend == "darken":
        out = np.minimum(b, s)
    elif blend == "difference":
        out = np.abs(b - s)
    elif blend == "soft light":
        d = np.where(b <= 0.25, ((16 * b - 12) * b + 4) * b, np.sqrt(b))
        out = np.where(s <= 0.5, b - (1 - 2 * s) * b * (1 - b), b + (2 * s - 1) * (d - b))
    else:
        out = np.where(b <= 0.5, 2 * b * s, 1 - 2 * (1 - b) * (1 - s))
    return decode(out).astype(np.float32)
