"""Soft edges explained: what a pixel is a mix of, and what is behind it."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, FAST, U8

MISFIT = 0.05
"""How far a mix may be from what is seen, of the difference of its two sides, to be believed."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Mix:
    """What soft edges are made of.

    Attributes
    ----------
    alpha : (h, w) the matte. behind : (h, w, 3) the light behind it. trust : (h, w), 0 to 1, how well that is known.
    """

    alpha: F32
    behind: F32
    trust: F32


def explained(
    light: F32, inside: U8, outside: U8, reaches: tuple[float, ...], said: F32, firm: float, *, alone: bool = False
) -> Mix:
    """A matte between what is surely inside and outside: each pixel as a mix of what both sides show nearby.

    Parameters
    ----------
    light : linear (h, w, 3). inside, outside : (h, w), 1 where that is sure. reaches : SDs in pixels of what counts as near.
    said : (h, w) what a rough matte says, which counts where the sides look alike. firm : 0 to 1, how much it counts besides.
    alone : whether what stands far from anything solid is told as well, by the usual colour of what is solid.
    """
    ys, xs = np.nonzero((inside == 0) & (outside == 0))
    alpha = inside.astype(np.float32)
    behind, trust = light, np.zeros_like(alpha)
    if not len(ys):
        return Mix(alpha=alpha, behind=behind, trust=trust)
    own = light[ys, xs]
    total = np.full(len(ys), 1e-6, np.float32)
    best, back = np.zeros(len(ys), np.float32), np.zeros_like(own)
    known = np.zeros(len(ys), np.float32)
    ahead = light[inside > 0]
    usual = ahead[:: len(ahead) // 20000 + 1].mean(axis=0) if len(ahead) else np.zeros(3, np.float32)
    for sigma in reaches:
        front, there = nearby(light, inside, sigma, ys, xs)
        rear, here = nearby(light, outside, sigma, ys, xs)
        found = np.clip(there * 20, 0, 1)
        # What stands far from anything solid is taken to be of the usual colour.
        f, b = usual + found[:, None] * (front - usual), rear
        way = f - b
        size = np.maximum((way * way).sum(axis=1), 1e-6)
        a = np.clip(((own - b) * way).sum(axis=1) / size, 0, 1)
        off = np.sqrt(((b + a[:, None] * way - own) ** 2).sum(axis=1) / size)
        # Where both sides look alike, nothing can be told.
        apart = size / (size + 0.0004)
        rear_seen = np.clip(here * 20, 0, 1)
        seen = (0.5 + 0.5 * found if alone else found) * rear_seen
        weight = np.exp(-((off / MISFIT) ** 2) * 0.1) * apart * seen
        best += weight * a
        total += weight
        back += (weight + 1e-6)[:, None] * b
        known = np.maximum(known, rear_seen)
    rough = said[ys, xs]
    sure = np.clip(total, 0, 1) * (1 - 0.6 * firm)
    alpha[ys, xs] = rough + sure * (best / total - rough)
    behind = light.copy()
    behind[ys, xs] = back / (total + 1e-6)[:, None]
    trust[ys, xs] = known
    return Mix(alpha=alpha, behind=behind, trust=trust)


def unmix(light: F32, alpha: F32, behind: F32, trust: F32 | None = None) -> F32:
    """Premultiplied (h, w, 4) of linear light (h, w, 3) under a matte, less the light `behind` it; `trust` (h, w), 0 to 1, says
    how well that is known."""
    out = np.empty((*alpha.shape, 4), np.float32)
    sure = np.ones_like(alpha) if trust is None else np.asarray(trust, np.float32)
    _unmix(light, np.ascontiguousarray(alpha, np.float32), np.ascontiguousarray(behind, np.float32), sure, out)
    return out


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _unmix(light: F32, alpha: F32, behind: F32, sure: F32, out: F32) -> None:
    one, zero = np.float32(1.0), np.float32(0.0)
    for y in numba.prange(alpha.shape[0]):
        for x in range(alpha.shape[1]):
            a = alpha[y, x]
            out[y, x, 3] = a
            trust = sure[y, x]
            for c in range(3):
                own = light[y, x, c]
                told = max(own - (one - a) * behind[y, x, c], zero)
                # Never brighter under this coverage than the pixel's own colour by much: what is behind is an estimate.
                told = min(told, own * min(one, a * np.float32(1.6) + np.float32(0.02)))
                out[y, x, c] = zero if a <= zero else own * a + trust * (told - own * a)


def nearby(light: F32, where: U8, sigma: float, ys: NDArray[np.int_], xs: NDArray[np.int_]) -> tuple[F32, F32]:
    """What is seen near pixels (n,) under a mask (h, w): its mean light (n, 3), and how much of it there is (n,)."""
    k = max(1, round(sigma / 3))
    h, w = light.shape[:2]
    small = np.zeros((-(-h // k), -(-w // k), 4), np.float32)
    _gathered(light, where, k, small)
    spread = cv2.GaussianBlur(small, (0, 0), max(sigma / k, 0.5))
    out = np.empty((len(ys), 4), np.float32)
    _looked_up(np.asarray(spread, np.float32), k, ys, xs, out)
    return out[:, :3], out[:, 3]


@numba.njit(parallel=True, cache=True)  # type: ignore[misc]
def _gathered(light: F32, where: U8, k: int, out: F32) -> None:
    """Sums of light and of the mask over squares of k pixels, as shares of a whole square."""
    h, w = where.shape
    part = np.float32(1 / (k * k))
    for row in numba.prange(out.shape[0]):
        for y in range(row * k, min(row * k + k, h)):
            for x in range(w):
                if where[y, x] > 0:
                    at = x // k
                    for c in range(3):
                        out[row, at, c] += light[y, x, c] * part
                    out[row, at, 3] += part


@numba.njit(parallel=True, cache=True)  # type: ignore[misc]
def _looked_up(spread: F32, k: int, ys: NDArray[np.int_], xs: NDArray[np.int_], out: F32) -> None:
    """The mean light and the share of the mask at pixels, between squares of k pixels."""
    h, w = spread.shape[:2]
    for i in numba.prange(len(ys)):
        y = min(max((ys[i] + 0.5) / k - 0.5, 0.0), h - 1.0)
        x = min(max((xs[i] + 0.5) / k - 0.5, 0.0), w - 1.0)
        y0, x0 = int(y), int(x)
        y1, x1 = min(y0 + 1, h - 1), min(x0 + 1, w - 1)
        v, u = np.float32(y - y0), np.float32(x - x0)
        one = np.float32(1.0)
        for c in range(4):
            top = spread[y0, x0, c] * (one - u) + spread[y0, x1, c] * u
            low = spread[y1, x0, c] * (one - u) + spread[y1, x1, c] * u
            out[i, c] = top * (one - v) + low * v
        there = max(out[i, 3], np.float32(1e-6))
        for c in range(3):
            out[i, c] /= there
