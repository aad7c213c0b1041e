"""How well a solve explains its sightings, and what they say about the lens."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64
from plonket.base.states import COVERED, LOST, NONE, TRACKED
from plonket.track.camera.bundle import Bundle, FreeParameters, Observations, adjust, residuals
from plonket.track.camera.scene import depths

NARROW_PX = 1.0
WRONG = 3.0
"""A point off by so many times the noise, for most of its sightings, does not belong to the room."""
LENS_SHIFT_PX = 0.4
"""Distortion that moves nothing in the picture by so much is none."""


def noise_of(bundle: Bundle, seen: Observations) -> float:
    """How far a sighting is off for the most part: a robust deviation of both coordinates together."""
    off = np.linalg.norm(residuals(bundle, seen), axis=1)
    off = off[np.isfinite(off)]
    # The median of a Rayleigh distribution is 1.1774 deviations.
    return float(np.median(off) / 1.1774) if len(off) else 0.0


def loss_width(bundle: Bundle, seen: Observations) -> float:
    """Where the loss bends once everything has found its place."""
    return float(np.clip(2.0 * noise_of(bundle, seen), 0.15, NARROW_PX))


def classify_inliers(
    bundle: Bundle, seen: Observations, points: int, noise: float, limit_px: float = 0.6
) -> tuple[NDArray[np.bool_], F64]:
    """Which points fit the room, (points,), and each one's RMS error in pixels over the sightings that are not far off."""
    off = np.linalg.norm(residuals(bundle, seen), axis=1)
    behind = ~np.isfinite(off) | (depths(bundle, seen) <= 0)
    off = np.where(behind, 1e3, off)
    limit = max(WRONG * noise, limit_px)
    count = np.bincount(seen.point, minlength=points)
    wrong = np.bincount(seen.point, weights=(off > limit).astype(float), minlength=points)
    square = np.bincount(seen.point, weights=np.minimum(off, 50.0) ** 2, minlength=points)
    error = np.sqrt(square / np.maximum(count, 1))
    return np.asarray((count >= 3) & (wrong <= 0.25 * count) & (error < 2.5 * limit)), error


def with_distortion(bundle: Bundle, used: Observations, free: FreeParameters, size: tuple[int, int]) -> Bundle:
    """The same with distortion, when the sightings speak for it."""
    plain, cost = adjust(bundle, used, free, width_px=NARROW_PX, rounds=12, tolerance=1e-4)
    corner = np.hypot(*size) / 2
    for names in ({"k1"}, {"k1", "k2"}):
        wider = replace(free, lens=free.lens | names)
        curved, better = adjust(plain, used, wider, width_px=NARROW_PX, rounds=15, tolerance=1e-4)
        r2 = (corner / curved.focal) ** 2
        moved = abs(corner * r2 * (curved.shared[1] + r2 * curved.shared[2]) - corner * r2 * (
            plain.shared[1] + r2 * plain.shared[2]))  # fmt: skip
        noise = max(noise_of(curved, used), 0.02)
        if moved < LENS_SHIFT_PX or cost - better < 25 * noise**2 or better > 0.998 * cost:
            break
        plain, cost = curved, better
    return plain


def with_rolling_shutter(bundle: Bundle, used: Observations, free: FreeParameters) -> Bundle:
    """The same with a rolling shutter, when the sightings speak for it."""
    lens = {name for name, k in (("k1", 1), ("k2", 2)) if bundle.shared[k]}
    wider = replace(free, lens=free.lens | lens)
    plain, cost = adjust(bundle, used, wider, width_px=NARROW_PX, rounds=8, tolerance=1e-4)
    rolled = plain
    for _ in range(3):
        rolled, better = adjust(rolled, used, replace(wider, lens=wider.lens | {"readout"}), width_px=NARROW_PX,
                                rounds=8, tolerance=1e-4)  # fmt: skip
    noise = max(noise_of(rolled, used), 0.02)
    share = float(rolled.shared[3])
    if 0.02 < share < 1.2 and cost - better > 25 * noise**2 and better < 0.995 * cost:
        return rolled
    plain.shared[3] = 0.0
    return plain


@dataclass(frozen=True, slots=True, kw_only=True)
class Judged:
    """What is known of every frame of a clip; all (frames,).

    Attributes
    ----------
    state, reason : see `plonket.base.states`. error_px : mean error of the points that belong. seen : how many are seen.
    """

    state: NDArray[np.uint8]
    reason: NDArray[np.uint8]
    error_px: NDArray[np.float32]
    seen: NDArray[np.int32]


def judged(bundle: Bundle, sight: Observations, kept: NDArray[np.bool_], frames: int) -> Judged:
    """Every frame judged by the points that belong to the room."""
    off = np.linalg.norm(residuals(bundle, sight), axis=1)
    counts = kept[sight.point] & np.isfinite(off)
    number = np.bincount(sight.camera[counts], minlength=len(bundle.frames))
    total = np.bincount(sight.camera[counts], weights=off[counts], minlength=len(bundle.frames))
    at = bundle.frames
    state, reason = np.full(frames, NONE, np.uint8), np.zeros(frames, np.uint8)
    state[at[0] : at[-1] + 1], reason[at[0] : at[-1] + 1] = LOST, COVERED
    state[at], reason[at] = TRACKED, 0
    error, seen = np.zeros(frames, np.float32), np.zeros(frames, np.int32)
    error[at], seen[at] = total / np.maximum(number, 1), number
    return Judged(state=state, reason=reason, error_px=error, seen=seen)
