"""The cloth: which colour it has, where it is seen for sure, and its light behind the subject."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64, FAST
from plonket.base.errors import Degenerate
from plonket.image.membrane import rim_values, stretch

BINS = 48
LEAST_STRONG = 0.12
"""Saturation of light (largest less smallest share) from which a colour can be a cloth's."""
REDUCED = 4
"""The cloth's light is worked out in a picture so many times smaller: it changes slowly."""
NEAR = 0.045
"""Distance of colour shares within which a pixel may be cloth."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Cloth:
    """The clean cloth of one frame.

    Attributes
    ----------
    light : linear (h, w, 3), as the cloth would be seen without a subject before it. sure : (h, w) where it is seen.
    """

    light: F32
    sure: NDArray[np.bool_]


def shares_of(light: F32) -> F32:
    """Each channel's share of a pixel's light: brightness taken out. (..., 3)"""
    total = light.sum(axis=-1, keepdims=True)
    return np.asarray(light / np.maximum(total, 1e-4), np.float32)


def found_colour(light: F32) -> F64:
    """(3,) linear colour of the cloth, found by itself: the strong colour that most of the picture has.

    Raises
    ------
    Degenerate
        When no strong colour covers enough of it.
    """
    small = cv2.resize(light, None, fx=1 / REDUCED, fy=1 / REDUCED, interpolation=cv2.INTER_AREA)
    shares = shares_of(small).reshape(-1, 3)
    strong = shares.max(axis=1) - shares.min(axis=1)
    bright = small.reshape(-1, 3).sum(axis=1)
    usable = (strong > LEAST_STRONG) & (bright > 0.02)
    if usable.mean() < 0.04:
        raise Degenerate("key.cloth", "No cloth of one strong colour was found. Pick its colour in the picture.")
    index = np.clip((shares[usable][:, :2] * BINS).astype(int), 0, BINS - 1)
    votes = np.zeros((BINS, BINS), np.float32)
    np.add.at(votes, (index[:, 0], index[:, 1]), strong[usable] ** 2)
    votes = cv2.GaussianBlur(votes, (0, 0), 1.2)
    at = np.unravel_index(int(np.argmax(votes)), votes.shape)
    peak = (np.array(at) + 0.5) / BINS
    near = np.hypot(*(shares[:, :2] - peak).T) < 0.06
    near &= usable
    if near.mean() < 0.03:
        raise Degenerate("key.cloth", "No cloth of one strong colour was found. Pick its colour in the picture.")
    return np.asarray(np.median(small.reshape(-1, 3)[near], axis=0), np.float64)


def clean_cloth(light: F32, colours: F64, *, near: float = NEAR, detail_px: float = 14.0, apart_px: float = 5.0) -> Cloth:
    """The cloth of a frame as it would be seen without the subject.

    Where colours are the cloth's whatever their brightness it is seen for sure, so its folds and shadows belong to it; a
    margin beside everything else is left out, and what is behind the subject is stretched over from round it.

    Parameters
    ----------
    light : linear (h, w, 3). colours : (k, 3) linear samples of the cloth. near : distance of colour shares that counts.
    detail_px : how fine its light is followed. apart_px : margin beside the subject.

    Raises
    ------
    Degenerate
        When hardly any cloth is seen.
    """
    h, w = light.shape[:2]
    # Told at half the size, where noise and coding weigh less.
    half = (max(1, (w + 1) // 2), max(1, (h + 1) // 2))
    soft = cv2.GaussianBlur(cv2.resize(light, half, interpolation=cv2.INTER_AREA), (3, 3), 0.6)
    level = float(np.median(np.asarray(colours).sum(axis=1)))
    alike = np.empty(soft.shape[:2], np.bool_)
    _alike(np.ascontiguousarray(soft, np.float32), shares_of(np.asarray(colours, np.float32)), near, 0.06 * level, alike)
    size = 2 * max(1, round(apart_px / 2)) + 1
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size))
    # Specks within the cloth are noise, not a subject: closed before the margin is taken.
    closed = cv2.morphologyEx(alike.astype(np.uint8), cv2.MORPH_CLOSE, np.ones((3, 3), np.uint8))
    bare = cv2.erode(closed, disc, borderValue=1) & alike
    sure = cv2.resize(bare, (w, h), interpolation=cv2.INTER_NEAREST).view(np.bool_)
    if sure.mean() < 0.01:
        raise Degenerate("key.cloth", "Hardly any cloth of this colour is seen. Pick its colour in the picture.")
    small = (max(8, w // REDUCED), max(8, h // REDUCED))
    reduced = block_means(light, sure, small)
    share = reduced[..., 3]
    mean = reduced[..., :3] / np.maximum(share, 1e-6)[..., None]
    known = share > 0.25
    values = rim_values(np.asarray(mean, np.float32), known, max(2 * detail_px / REDUCED, 1.0))
    field = _stretched(values, known)
    whole = np.asarray(cv2.resize(field, (w, h), interpolation=cv2.INTER_CUBIC), np.float32)
    return Cloth(light=np.maximum(whole, np.float32(1e-4), out=whole), sure=sure)


def _stretched(values: F32, known: NDArray[np.bool_]) -> F32:
    """Values (h, w, c) with the membrane over what is not known, solved at half the size: nothing there has any detail."""
    if known.all():
        return values
    h, w = known.shape
    small = (max(4, w // 2), max(4, h // 2))
    share = cv2.resize(known.astype(np.float32), small, interpolation=cv2.INTER_AREA)
    mean = cv2.resize(values * known[..., None], small, interpolation=cv2.INTER_AREA) / np.maximum(share, 1e-6)[..., None]
    solved = stretch(np.asarray(mean, np.float32), share < 0.1)
    wide = cv2.resize(solved, (w, h), interpolation=cv2.INTER_CUBIC)
    return np.where(known[..., None], values, wide).astype(np.float32)


def block_means(light: F32, where: NDArray[np.bool_], size: tuple[int, int]) -> F32:
    """A picture (h, w, 3) under a mask, averaged over blocks: (height, width, 4) of `size` (width, height).

    The fourth is the share of each block that is under the mask.
    """
    out = np.empty((size[1], size[0], 4), np.float32)
    _block_means(light, where, out)
    return out


@numba.njit(parallel=True, cache=True, fastmath=FAST)  # type: ignore[misc]
def _block_means(light: F32, where: NDArray[np.bool_], out: F32) -> None:
    h, w = where.shape
    rows, columns = out.shape[:2]
    for j in numba.prange(rows):
        y0, y1 = h * j // rows, h * (j + 1) // rows
        for i in range(columns):
            x0, x1 = w * i // columns, w * (i + 1) // columns
            r = g = b = n = np.float32(0.0)
            for y in range(y0, y1):
                for x in range(x0, x1):
                    if where[y, x]:
                        r += light[y, x, 0]
                        g += light[y, x, 1]
                        b += light[y, x, 2]
                        n += 1
            all_ = (y1 - y0) * (x1 - x0)
            out[j, i, 0], out[j, i, 1], out[j, i, 2], out[j, i, 3] = r / all_, g / all_, b / all_, n / all_


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _alike(light: F32, samples: F32, near: float, darkest: float, out: NDArray[np.bool_]) -> None:
    """Pixels whose colour shares are those of a sample, and that are not too dark to tell."""
    h, w = out.shape
    for y in numba.prange(h):
        for x in range(w):
            r, g, b = light[y, x, 0], light[y, x, 1], light[y, x, 2]
            total = r + g + b
            out[y, x] = False
            if total <= darkest:
                continue
            for k in range(samples.shape[0]):
                off = max(abs(r / total - samples[k, 0]), abs(g / total - samples[k, 1]))
                if max(off, abs(b / total - samples[k, 2])) < near:
                    out[y, x] = True
                    break
