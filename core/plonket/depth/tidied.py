"""What frames agreed on, made tidy: specks and ramps between surfaces go, and what was not told is filled from beside."""

from __future__ import annotations

import cv2
import numba
import numpy as np

from plonket.base.conventions import F32, FAST

SPECK_PX, SPECK_DIFFERS = 30, 80
"""Pixels up to which a patch is a speck, and thousandths by which it differs from what lies round it."""
STEEP, STEEPER = 0.012, 1.5
"""Share of an inverse depth by which it changes from pixel to pixel in a ramp, and times by which that is more than farther
round it: a floor that goes on to the horizon is steep, too, but everywhere alike."""
WIDE_PX, LEAST_WIDE_PX = 12, 6
"""How far on either side that is looked at."""
ROUNDS, REACH = 2, 2
"""Times what was not told is filled, and pixels each time."""
CODES = 1000
"""Of a logarithm, for the removal of specks."""


def tidied(inverse: F32, colour: F32) -> F32:
    """Inverse depths (h, w), 0 unknown, of a picture (h, w, 3) of codes."""
    out = without_specks(inverse)
    middle = cv2.medianBlur(out, 3)
    out = np.where((out > 0) & (middle > 0), middle, out).astype(np.float32)
    ramps = np.zeros(out.shape, np.bool_)
    _find_ramps(out, np.float32(STEEP), np.float32(STEEPER), ramps)
    out[ramps] = 0
    return filled(without_specks(out), colour, ROUNDS, REACH)


def without_specks(inverse: F32) -> F32:
    """One over the distance, (h, w), small patches that lie elsewhere than what is round them unknown (0)."""
    if not (inverse > 0).any():
        return inverse
    low = float(inverse[inverse > 0].min())
    steps = np.where(inverse > 0, np.log(np.maximum(inverse, low) / low) * CODES + 1, 0)
    coded = np.asarray(np.clip(steps, 0, 32000), np.int16)
    cv2.filterSpeckles(coded, 0, SPECK_PX, SPECK_DIFFERS)
    return np.where(coded > 0, inverse, 0).astype(np.float32)


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _find_ramps(inverse: F32, steep: np.float32, steeper: np.float32, out: np.ndarray) -> None:
    """Where (h, w) inverse depth changes faster than farther round a place: between two surfaces, where nothing is."""
    h, w = inverse.shape
    for y in numba.prange(h):
        for x in range(w):
            own = inverse[y, x]
            if own <= 0:
                continue
            for axis in range(2):
                dx, dy = (1, 0) if axis == 0 else (0, 1)
                slope = _slope(inverse, x, y, dx, dy, 1)
                if slope <= steep * own:
                    continue
                wide = np.float32(-1)
                for away in range(WIDE_PX, LEAST_WIDE_PX - 1, -2):
                    wide = _slope(inverse, x, y, dx, dy, away)
                    if wide >= 0:
                        break
                if wide < 0 or slope > steeper * wide:
                    out[y, x] = True


@numba.njit(cache=True, fastmath=FAST, error_model="numpy", inline="always")  # type: ignore[misc]
def _slope(inverse: F32, x: int, y: int, dx: int, dy: int, away: int) -> np.float32:
    """Change a pixel between two places on either side; below 0 where one is not known."""
    h, w = inverse.shape
    u0, v0, u1, v1 = x - dx * away, y - dy * away, x + dx * away, y + dy * away
    if u0 < 0 or v0 < 0 or u1 >= w or v1 >= h:
        return np.float32(-1)
    a, b = inverse[v0, u0], inverse[v1, u1]
    return abs(b - a) / np.float32(2 * away) if a > 0 and b > 0 else np.float32(-1)


def filled(inverse: F32, colour: F32, rounds: int, reach: int) -> F32:
    """Unknown places near known ones take the depth of the known pixel nearby that looks most like them, round by round.

    inverse : (h, w), 0 unknown. colour : (h, w, 3) codes.
    """
    out = inverse
    for _ in range(rounds):
        if (out > 0).all():
            break
        after = out.copy()
        _fill(out, colour, reach, after)
        out = after
    return out


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _fill(before: F32, colour: F32, reach: int, after: F32) -> None:
    h, w = before.shape
    for y in numba.prange(h):
        for x in range(w):
            if before[y, x] > 0:
                continue
            best = np.float32(1e9)
            for v in range(max(y - reach, 0), min(y + reach + 1, h)):
                for u in range(max(x - reach, 0), min(x + reach + 1, w)):
                    if before[v, u] > 0:
                        far = np.float32((u - x) ** 2 + (v - y) ** 2)
                        off = far * np.float32(2)
                        for c in range(3):
                            off += abs(colour[v, u, c] - colour[y, x, c])
                        if off < best:
                            best = off
                            after[y, x] = before[v, u]
