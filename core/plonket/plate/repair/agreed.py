"""What several frames show of one hidden place, as one: what passes before it in some of them is left out."""

from __future__ import annotations

import contextlib
import warnings
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.colour import fine_codes
from plonket.base.conventions import F32

OFF_CODES = 12.0
"""Codes by which a frame may differ from the others before something else is seen in it."""
WIDER_PX = 3
"""What differs is left out so much wider: its soft edge differs less."""
SEAM_PX = 8.0
"""Width over which one frame gives way to another."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Donor:
    """What one frame shows of a window, brought to the light there: linear (h, w, 3), and where that is known (h, w)."""

    light: F32
    usable: NDArray[np.bool_]


def unsettled(donors: Sequence[Donor], mask: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """(h, w) of the `mask`: what only two donors show, or fewer, of whom those that do see different things."""
    count = np.sum([d.usable for d in donors], axis=0) if donors else np.zeros(mask.shape, int)
    out = mask & (count < 2)
    if len(donors) > 1:
        coded = _coded(donors)
        with _nothing_somewhere():
            apart = np.nanmax(coded, axis=0) - np.nanmin(coded, axis=0)
        differs = _smooth(np.nan_to_num(apart).max(axis=2)) > OFF_CODES
        out |= mask & differs & (count < 3)
    return out


def laid_together(donors: Sequence[Donor], own: F32, mask: NDArray[np.bool_]) -> tuple[F32, NDArray[np.bool_]]:
    """A window's light (h, w, 3) with its `mask` filled by donors, the first ones first, and what none of them shows.

    Where three or more show a place, one that differs from what most of them show is passed over there.
    """
    filled, missing = own.copy(), mask.copy()
    if not donors:
        return filled, missing
    coded = _coded(donors)
    count = np.sum([d.usable for d in donors], axis=0)
    usual = _middle(coded, count)
    enough = count >= 3
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * WIDER_PX + 1, 2 * WIDER_PX + 1))
    later: list[tuple[Donor, NDArray[np.bool_]]] = []
    for one, codes in zip(donors, coded, strict=True):
        off = _smooth(np.nan_to_num(np.abs(codes - usual)).max(axis=2)) > OFF_CODES
        other = (cv2.dilate(off.astype(np.uint8), disc) > 0) & enough
        _lay(one.light, one.usable & ~other, filled, mask, missing)
        later.append((one, one.usable & other))
    # Where each differs from the rest somewhere near, it is better than nothing.
    for one, rest in later:
        _lay(one.light, rest, filled, mask, missing)
    return filled, missing


def _lay(light: F32, usable: NDArray[np.bool_], filled: F32, mask: NDArray[np.bool_], missing: NDArray[np.bool_]) -> None:
    take = missing & usable
    if not take.any():
        return
    # Into what other donors gave before, it fades over a few pixels: their seam is not seen.
    away = cv2.distanceTransform((~take).astype(np.uint8), cv2.DIST_L2, 3)
    over = mask & ~missing & usable & (away < SEAM_PX)
    share = (1 - away[over] / SEAM_PX)[:, None].astype(np.float32)
    filled[over] += share * (light[over] - filled[over])
    filled[take] = light[take]
    missing &= ~take


@contextlib.contextmanager
def _nothing_somewhere() -> Iterator[None]:
    """Some places no donor shows: numpy need not say so."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", RuntimeWarning)
        yield


def _coded(donors: Sequence[Donor]) -> F32:
    """(k, h, w, 3) display codes, nan where a donor knows nothing."""
    return np.stack([np.where(d.usable[..., None], fine_codes(d.light), np.float32(np.nan)) for d in donors])


def _middle(coded: F32, count: NDArray[np.int64]) -> F32:
    """(h, w, 3) the median of what is known (k, h, w, 3), of which there is so much (h, w); nan where there is none."""
    # What is not known is sorted behind the rest.
    rising = np.sort(coded, axis=0)
    two = [np.take_along_axis(rising, np.maximum(at, 0)[None, ..., None], axis=0)[0] for at in ((count - 1) // 2, count // 2)]
    return np.asarray((two[0] + two[1]) / 2, np.float32)


def _smooth(values: F32) -> F32:
    return np.asarray(cv2.GaussianBlur(values.astype(np.float32), (0, 0), 1.5), np.float32)
