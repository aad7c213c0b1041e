"""What every look has, and what it is told."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import cv2
import numba
import numpy as np

from plonket.base.colour import code_of, light_of
from plonket.base.conventions import F32, F64, FAST
from plonket.document.bases import PlacedLook

LEAST_ALPHA = 1e-4
ONLY_LIGHT = 0.02
"""Coverage below which a pixel is taken for light alone."""


@dataclass(frozen=True, slots=True, kw_only=True)
class InverseDepth:
    """One over the distance before the solved camera, 1/m; nought is as far as can be.

    Attributes
    ----------
    room : (h, w) of what the room shows in the whole picture. own : of the layer, where it is a flat picture in the room; None:
        it is as far away as what the room shows there.
    """

    room: F32
    own: float | None = None

    def at(self, x: float, y: float) -> float:
        """Of a spot in the whole picture, or of the nearest one to it."""
        h, w = self.room.shape
        return float(self.room[int(np.clip(y, 0, h - 1)), int(np.clip(x, 0, w - 1))])


@dataclass(frozen=True, slots=True, kw_only=True)
class LookContext:
    """What a look knows besides the picture.

    Attributes
    ----------
    frame : of the clip. scale : pixels of the picture for one of the clip, so that a blur looks alike at any size.
    x, y : where the picture's top-left pixel lies in the frame. size : of the whole picture (width, height). behind : linear
        (h, w, 4), what it is laid over. into : (3, 3) from the pixels of a look that has a place to this picture's; None: it
        is not there. neighbour : the same picture in another frame (h, w, 4). table : a colour table by its asset.
        inverse_depth : how far away things are in the solved room, worked out when it is asked for; None: no camera is solved.
    """

    frame: int
    scale: float = 1.0
    x: int = 0
    y: int = 0
    size: tuple[int, int] | None = None
    behind: F32 | None = None
    into: Callable[[Any], F64 | None] | None = None
    neighbour: Callable[[int], F32] | None = None
    table: Callable[[str], F32] | None = None
    inverse_depth: Callable[[], InverseDepth | None] = lambda: None

    def spot(self, look: PlacedLook, x: float, y: float) -> F64 | None:
        """A spot of a look's own pixels in this picture's; None where what it rides on is not known."""
        matrix = np.diag([self.scale, self.scale, 1.0]) if self.into is None else self.into(look)
        if matrix is None:
            return None
        at = matrix @ np.array([x, y, 1.0])
        return np.asarray(at[:2] / at[2])


def straight(rgba: F32) -> F32:
    """Colours (h, w, 3) of a premultiplied picture, nought where there is none.

    Light that hides nothing (a glow beyond its source) counts as covering as much as it is bright.
    """
    out = np.empty((*rgba.shape[:2], 3), np.float32)
    _straight(rgba, out)
    return out


def coloured(rgba: F32, colours: F32 | F64) -> F32:
    """The picture with other colours (straight, linear) under its own coverage."""
    out = np.empty_like(rgba)
    _coloured(rgba, np.asarray(colours, np.float32), out)
    return out


def lighted(light: F32, rgba: F32) -> F32:
    """The picture with other premultiplied light (h, w, 3) and its own coverage."""
    out = np.empty_like(rgba)
    out[..., :3] = light
    out[..., 3] = rgba[..., 3]
    return out


@numba.njit(cache=True, inline="always")  # type: ignore[misc]
def weight_at(rgba: F32, y: int, x: int) -> float:
    """How much a pixel counts as covering, for taking its colour out."""
    alpha = rgba[y, x, 3]
    if alpha >= np.float32(ONLY_LIGHT):
        return alpha
    shine = max(rgba[y, x, 0], rgba[y, x, 1], rgba[y, x, 2])
    return max(alpha, min(max(shine, np.float32(0.0)), np.float32(1.0)))


@numba.njit(parallel=True, cache=True, error_model="numpy")  # type: ignore[misc]
def _straight(rgba: F32, out: F32) -> None:
    for y in numba.prange(rgba.shape[0]):
        for x in range(rgba.shape[1]):
            weight = weight_at(rgba, y, x)
            share = np.float32(1.0) / weight if weight > np.float32(LEAST_ALPHA) else np.float32(0.0)
            for c in range(3):
                out[y, x, c] = rgba[y, x, c] * share


@numba.njit(parallel=True, cache=True)  # type: ignore[misc]
def _coloured(rgba: F32, colours: F32, out: F32) -> None:
    for y in numba.prange(rgba.shape[0]):
        for x in range(rgba.shape[1]):
            weight = weight_at(rgba, y, x)
            for c in range(3):
                out[y, x, c] = max(colours[y, x, c], np.float32(0.0)) * weight
            out[y, x, 3] = rgba[y, x, 3]


def coded(light: F32) -> F32:
    """Display code 0 to 1; what is brighter than white goes on in a straight line."""
    out = np.empty(light.shape, np.float32)
    _coded(np.ascontiguousarray(light, np.float32).reshape(-1), out.reshape(-1))
    return out


def lit(code: F32 | F64) -> F32:
    """The inverse of `coded`."""
    out = np.empty(code.shape, np.float32)
    _lit(np.ascontiguousarray(code, np.float32).reshape(-1), out.reshape(-1))
    return out


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _coded(light: F32, out: F32) -> None:
    for k in numba.prange(light.shape[0]):
        v = light[k]
        out[k] = code_of(v) if v < 1 else v


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _lit(code: F32, out: F32) -> None:
    for k in numba.prange(code.shape[0]):
        v = code[k]
        out[k] = light_of(v) if v < 1 else v


def through_table(code: F32, table: F32) -> F32:
    """Values 0 to 1 through an evenly spaced table, straight between its entries; beyond 1 it goes on evenly."""
    out = np.empty(code.shape, np.float32)
    _through_table(np.ascontiguousarray(code, np.float32).reshape(-1), table.astype(np.float32), out.reshape(-1))
    return out


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _through_table(values: F32, table: F32, out: F32) -> None:
    last = table.shape[0] - 1
    for k in numba.prange(values.shape[0]):
        v = values[k]
        at = min(v, np.float32(1.0)) * last if v > 0 else 0.0
        low = min(int(at), last - 1)
        u = at - low
        out[k] = table[low] * (1 - u) + table[low + 1] * u + max(v - 1, 0.0)


def blurred(rgba: F32, sigma: float) -> F32:
    """Gaussian blur with an SD in pixels of the picture; wide ones are worked out reduced.

    Inside the picture that makes one 8-bit code at the most. Along its edges what lies beyond is the mean of the last few
    pixels instead of the very last one.
    """
    k = 1
    while sigma / k > 6 and min(rgba.shape[:2]) > 16 * k:
        k *= 2
    if k == 1:
        soft = cv2.GaussianBlur(rgba, (0, 0), max(sigma, 0.05), borderType=cv2.BORDER_REPLICATE)
        return np.asarray(soft, np.float32).reshape(rgba.shape)
    h, w = rgba.shape[:2]
    small = cv2.resize(rgba, (-(-w // k), -(-h // k)), interpolation=cv2.INTER_AREA)
    soft = cv2.GaussianBlur(small, (0, 0), sigma / k, borderType=cv2.BORDER_REPLICATE)
    return np.asarray(cv2.resize(soft, (w, h), interpolation=cv2.INTER_LINEAR), np.float32).reshape(rgba.shape)
