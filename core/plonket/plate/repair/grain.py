"""Grain: measured where the picture is calm, made again where it was lost."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64, U8
from plonket.image.grain import GrainProfile, fresh_grain

TAKEN_OFF_PX = 1.6
"""SD of the blur whose result is taken for the picture; the rest is grain."""

CALMEST = 0.4
"""Share of the picture that is looked at."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Grain:
    """How rough the picture is: SD per channel (3,) in code values, and the SD of the blur that white noise had, in pixels."""

    strength: F64
    softness_px: float


def measure(rgb: U8, known: NDArray[np.bool_]) -> Grain:
    """Grain of the calm part of what is known in a picture (h, w, 3)."""
    fine = _fine(rgb.astype(np.float32))
    inner = cv2.erode(known.astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
    if inner.sum() < 60:
        return Grain(strength=np.zeros(3), softness_px=0.5)
    # Texture is grain's rival: the calmest places tell.
    calm = _calm(fine, inner)
    strength = _strength(fine, inner)
    softness = _softness(_alike(fine, calm))
    return Grain(strength=strength / _understated(softness), softness_px=softness)


def measure_left(left: F32, known: NDArray[np.bool_]) -> Grain:
    """Grain of what is left of a picture once all that is not grain has been taken off, in code values (h, w, 3).

    There is no texture in it, so its spread is taken as it is (by the median, against what moved).
    """
    fine = _fine(left)
    strength = np.median(np.abs(fine[known]), axis=0) * 1.4826
    return Grain(strength=np.asarray(strength, np.float64), softness_px=_softness(_alike(fine, known)))


def _strength(fine: F32, inner: NDArray[np.bool_]) -> F64:
    """(3,) how rough each channel is, from the least rough quarter: edges and texture do not count.

    Source: J. Immerkaer, 1996, doi:10.1006/cviu.1996.0060, with a quantile in place of the mean.
    """
    kernel = np.array([[1, -2, 1], [-2, 4, -2], [1, -2, 1]], np.float32) / 6
    rough = np.abs(cv2.filter2D(fine, -1, kernel))[inner]
    return np.asarray(np.quantile(rough, 0.25, axis=0) / 0.3186, np.float64)


def _calm(fine: F32, inner: NDArray[np.bool_]) -> NDArray[np.bool_]:
    rough = cv2.GaussianBlur((fine**2).mean(axis=2), (0, 0), 4.0)
    return np.asarray(inner & (rough <= np.quantile(rough[inner], CALMEST)))


@lru_cache(maxsize=128)
def _understated(softness_px: float) -> float:
    """What `_strength` says of grain whose SD is 1: soft grain looks weaker to it than it is."""
    fine = _fine(_field((160, 160, 3), softness_px, np.random.default_rng(8)))
    return float(_strength(fine, np.ones((160, 160), bool)).mean())


def _softness(alike: float) -> float:
    """The blur of white noise that gives this correlation of neighbours once the broad part is taken off."""
    return min((0.3 + 0.02 * k for k in range(61)), key=lambda s: abs(_likeness(s) - alike))


def _alike(fine: F32, calm: NDArray[np.bool_]) -> float:
    """Correlation of pixels side by side."""
    beside = calm[:, 1:] & calm[:, :-1]
    a, b = fine[:, 1:][beside], fine[:, :-1][beside]
    return float((a * b).mean() / max(float((a * a + b * b).mean()) / 2, 1e-9)) if beside.any() else 0.0


@lru_cache(maxsize=128)
def _likeness(softness_px: float) -> float:
    """The same for grain that is so soft."""
    field = _fine(_field((240, 240, 3), softness_px, np.random.default_rng(7)))
    return _alike(field, _calm(field, np.ones(field.shape[:2], bool)))


def _field(shape: tuple[int, ...], softness_px: float, rng: np.random.Generator) -> F32:
    """Noise whose fine part, which is what `measure` sees, has SD 1 per channel."""
    white = rng.standard_normal(shape).astype(np.float32)
    soft = cv2.GaussianBlur(white, (0, 0), softness_px).reshape(shape)
    return np.asarray(soft / np.maximum(_fine(soft).std(axis=(0, 1)), 1e-6), np.float32)


def _fine(picture: F32) -> F32:
    """What is finer than a blur of `TAKEN_OFF_PX`."""
    return np.asarray(picture - cv2.GaussianBlur(picture, (0, 0), TAKEN_OFF_PX).reshape(picture.shape), np.float32)


def make(shape: tuple[int, int], grain: Grain, rng: np.random.Generator) -> F32:
    """Fresh grain (h, w, 3) in code values. Two thirds of it is the same in all channels, as a sensor's is."""
    common, own = _field((*shape, 1), grain.softness_px, rng), _field((*shape, 3), grain.softness_px, rng)
    mixed = np.sqrt(2 / 3) * common + np.sqrt(1 / 3) * own
    return np.asarray(mixed * grain.strength.astype(np.float32), np.float32)


def grain_for(code: F32, grain: Grain | GrainProfile, rng: np.random.Generator) -> F32:
    """Fresh grain (h, w, 3) in code values for a picture `code` (h, w, 3) of display values 0 to 1."""
    if isinstance(grain, GrainProfile):
        return fresh_grain(code, grain, rng)
    return make((code.shape[0], code.shape[1]), grain, rng)
