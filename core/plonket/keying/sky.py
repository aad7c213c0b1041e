"""A sky found in pictures, and the key that takes it off."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.colour import LUMA, encode, linear_from_codes
from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import Degenerate
from plonket.document.bases import KeyBase
from plonket.document.kinds import KEYS
from plonket.keying.brightness import BrightnessKey
from plonket.keying.colours import ColourKey
from plonket.keying.common import KeyContext

WIDTH = 320
"""Looked for at so many pixels across."""
STEPS = np.geomspace(5, 60, 12)
"""Steepnesses, in codes for a reduced pixel, at which the sky may end."""
LEAST, MOST = 0.02, 0.97
"""Less of the picture, or more, is no sky."""
LEAST_BEFORE = 100
"""Pixels of what is before the sky, for a key to be tried on."""
TRIED = 4000
"""Pixels of either side on which keys are tried."""
LARGER = 0.25
"""How much less wrong a key must be to win over one for a sky that is larger by the whole picture."""
ASIDE = 0.025
"""Share of the width by which the sky may be farther to either side than in the frames that were looked at."""
SIMPLER = 0.02
PIECE = 0.2
"""Share of the largest piece of a sky that any other has at least."""
MOST_WRONG = 0.2
"""Share of sky and of what is before it that a key may take for the other."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Sky:
    """A sky.

    Attributes
    ----------
    key : takes it off. foot : how far down it reaches anywhere, as a part of the picture's height. feet : (`WIDTH`,) the same
        for each column of a reduced picture, in any of the frames; nought where there is none. share : how much of the
        picture it is. wrong : mean share of sky and of what is before it that the key takes for the other.
    """

    key: KeyBase
    foot: float
    feet: F64
    share: float
    wrong: float


def find_sky(pictures: Sequence[U8]) -> Sky:
    """The key for the sky of a clip, from a few of its frames, 8-bit (h, w, 3).

    Its border is where the picture first grows steep from above (Y. Shen and Q. Wang, 2013, doi:10.5772/56884). Which
    steepness tells best, clouds have edges too, is tried with the keys themselves: the one that takes fewest pixels of either
    side for the other wins.

    Raises
    ------
    Degenerate
        When there is none that a key could take off.
    """
    lights = [_reduced(rgb) for rgb in pictures]
    steeps = [_steepness(light) for light in lights]
    best: Sky | None = None
    for step in STEPS:
        borders = [_borders(steep, step) for steep in steeps]
        for tones in _tones(lights, borders):
            sky, ground, feet, lowest = [], [], [], np.zeros(WIDTH)
            for light, border in zip(lights, borders, strict=True):
                h = len(light)
                own = _together(np.where(_is_of(light, border, tones), border, 0))
                rows, foot = np.arange(h)[:, None], float(np.quantile(own[own > 0], 0.98)) if own.any() else 0.0
                sky.append(light[rows < own[None] - 1])
                # What lies further down is kept whatever it looks like.
                ground.append(light[(rows > own[None] + 1) & (rows < foot + 1)])
                feet.append(foot / h)
                lowest = np.maximum(lowest, np.minimum(own, foot) / h)
            above, below = np.concatenate(sky), np.concatenate(ground)
            share = len(above) / sum(light[..., 0].size for light in lights)
            if not LEAST < share < MOST or len(below) < LEAST_BEFORE:
                continue
            some, other = (part[:: max(1, len(part) // TRIED)] for part in (above, below))
            for key in (*_by_brightness(some, other), *_by_colour(some)):
                wrong = _wrong(key, some, other)
                # Of two that are about as good, the one that is more of a sky.
                if best is None or wrong - LARGER * share < best.wrong - LARGER * best.share:
                    best = Sky(key=key, foot=max(feet), feet=lowest, share=share, wrong=wrong)
    if best is None:
        raise Degenerate("sky.none", "No sky was found at the top of the picture. Choose a key by hand, and pick its colour.")
    if best.wrong > MOST_WRONG:
        raise Degenerate("sky.alike", "The sky looks too much like what is before it to be told by brightness or colour."
                                      " Bring forward what stands before it with strokes.")  # fmt: skip
    return best


def below_sky(sky: Sky, margin: float) -> F64 | None:
    """(n, 2) a line from left to right, in parts of the picture's width and height, below which there is no sky in any of the
    frames: at least `margin` of the height under it, and some way beside it. None where the sky may be everywhere.

    Where a wall is as bright as the sky, no key can tell it; but no sky stands over its columns.
    """
    if sky.foot + margin > 0.97:
        return None
    wide = 2 * round(ASIDE * WIDTH) + 1
    feet = np.asarray(cv2.dilate(sky.feet[None].astype(np.float32), np.ones((1, wide), np.uint8))[0], np.float64)
    line = np.where(feet > 0, feet + margin, -margin)
    x = (np.arange(WIDTH) + 0.5) / WIDTH
    whole = np.stack([np.r_[-ASIDE, x, 1 + ASIDE], np.r_[line[0], line, line[-1]]], axis=1)
    # With fewer corners, none of them over the line.
    few = cv2.approxPolyDP(whole.astype(np.float32), SIMPLER, closed=False)[:, 0].astype(np.float64)
    short = np.interp(whole[:, 0], few[:, 0], few[:, 1]) - whole[:, 1]
    few[1:-1, 1] += np.where(few[1:-1, 1] > 0, max(0.0, -float(short[whole[:, 1] > 0].min(initial=0))), 0)
    return few


def _borders(steep: F32, step: float) -> NDArray[np.int_]:
    """(w,) the row at which each column first grows so steep."""
    over = steep > step
    return np.where(over.any(axis=0), over.argmax(axis=0), len(steep))


def _tones(lights: Sequence[F32], borders: Sequence[NDArray[np.int_]]) -> list[tuple[float, float]]:
    """Ranges of brightness on screen that may be the sky's, of what lies above the borders: all, and its brighter parts."""
    seen = [np.asarray(encode(np.clip(light @ LUMA, 0, 1)), np.float32)[np.arange(len(light))[:, None] < border[None] - 1]
            for light, border in zip(lights, borders, strict=True)]  # fmt: skip
    whole = np.concatenate(seen)[:, None]
    if len(whole) < 50:
        return []
    cv2.setRNGSeed(1)
    some = np.ascontiguousarray(whole[:: max(1, len(whole) // TRIED)])
    middles = np.sort(cv2.kmeans(some, 3, None, (3, 20, 0.002), 2, cv2.KMEANS_PP_CENTERS)[2][:, 0])  # type: ignore[call-overload]
    return [(-1.0, 2.0), *((float(middles[k] + middles[k + 1]) / 2, 2.0) for k in (0, 1))]


def _is_of(light: F32, border: NDArray[np.int_], tones: tuple[float, float]) -> NDArray[np.bool_]:
    """(w,) which columns begin with something of a range of brightness."""
    seen = np.asarray(encode(np.clip(light @ LUMA, 0, 1)), np.float32)
    above = np.arange(len(light))[:, None] < np.maximum(border[None] - 1, 1)
    within = (seen > tones[0]) & (seen < tones[1]) & above
    return np.asarray(within.sum(axis=0) > 0.7 * above.sum(axis=0))


def _together(own: NDArray[np.int_]) -> NDArray[np.int_]:
    """Columns that hang together in pieces of some size: a bright window or a strip of wall at the picture's top is no sky."""
    edges = np.flatnonzero(np.diff(np.r_[0, own > 0, 0]))
    runs = [(int(own[a:b].sum()), slice(a, b)) for a, b in zip(edges[::2], edges[1::2], strict=True)]
    least = PIECE * max((area for area, _ in runs), default=0)
    out = own.copy()
    for area, run in runs:
        if area < least:
            out[run] = 0
    return out


def _reduced(rgb: U8) -> F32:
    h, w = rgb.shape[:2]
    size = (WIDTH, max(8, round(WIDTH * h / w)))
    return np.asarray(cv2.resize(linear_from_codes(rgb), size, interpolation=cv2.INTER_AREA), np.float32)


def _steepness(light: F32) -> F32:
    """(h, w) how fast display codes change, for each pixel."""
    code = np.asarray(encode(np.clip(light, 0, 1)) * 255, np.float32)
    smooth = cv2.GaussianBlur(code, (0, 0), 0.8)
    gx, gy = (np.abs(cv2.Sobel(smooth, cv2.CV_32F, *d, ksize=3) / 8).max(axis=2) for d in ((1, 0), (0, 1)))
    return np.asarray(np.hypot(gx, gy), np.float32)


def _by_brightness(sky: F32, ground: F32) -> list[KeyBase]:
    """Brightness keys for both ways round."""
    seen, other = (np.asarray(encode(np.clip(part @ LUMA, 0, 1)), np.float64) * 100 for part in (sky, ground))
    out: list[KeyBase] = []
    for keeps, sign in (("dark", 1), ("bright", -1)):
        # From the darkest of the sky downwards (or the brightest upwards): what is mixed of both is told by its mix.
        edge, next_one = np.quantile(seen, 0.5 - 0.47 * sign), np.quantile(other, 0.5 + 0.4 * sign)
        gap = float(np.clip(abs(edge - next_one), 4, 24))
        middle = float(edge - sign * gap / 2)
        out.append(BrightnessKey(keeps=keeps, threshold=round(float(np.clip(middle, 0, 100)), 1), soft=round(gap, 1)))  # type: ignore[arg-type]
    return out


def _by_colour(sky: F32) -> list[KeyBase]:
    """Colour keys with a few samples of the sky, from near to far."""
    code = np.ascontiguousarray(encode(np.clip(sky, 0, 1)) * 255, np.float32)
    cv2.setRNGSeed(1)
    _, labels, middles = cv2.kmeans(code, min(4, len(code)), None, (3, 20, 0.5), 2, cv2.KMEANS_PP_CENTERS)  # type: ignore[call-overload]
    enough = [k for k in range(len(middles)) if (labels == k).mean() > 0.03]
    samples = ["#" + "".join(f"{round(float(v)):02x}" for v in middles[k]) for k in enough]
    return [ColourKey(colours=samples, reach=reach, soft=reach * 0.6, brightness=brightness)
            for reach in (4.0, 7.0, 11.0, 16.0) for brightness in (10.0, 20.0, 40.0)]  # fmt: skip


def _wrong(key: KeyBase, sky: F32, ground: F32) -> float:
    """How much of the sky a key keeps and of what is before it it takes off, on the mean."""
    bare = key.model_copy(update={"clean": 0.0})
    kept, shown = (KEYS.of(key).run(_strip(part), bare, KeyContext())[..., 3] for part in (sky, ground))
    return float((kept.mean() + (1 - shown).mean()) / 2)


def _strip(part: F32) -> F32:
    """Pixels (n, 3) as a picture one pixel high."""
    return np.ascontiguousarray(part[None], np.float32)
