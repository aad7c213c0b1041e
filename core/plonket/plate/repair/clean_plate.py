"""Clean frames: laid over what masks cover, in each frame's light and with grain of its own."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.colour import decode, encode, linear_from_codes
from plonket.base.conventions import F32, F64, U8
from plonket.image.grain import GrainProfile
from plonket.image.membrane import rim_values, stretch
from plonket.image.picture import StillSource
from plonket.image.resample import whole_still
from plonket.plate.repair.grain import Grain, grain_for, measure, measure_left

AROUND_PX = 26
"""Width of the band round the masks in which light is compared."""
NEAR_FR = 3
"""How many frames before and after take the grain off a frame."""
ALIKE = 2.0
"""Code values by which two frames may differ, grain aside, to show the same."""
LEAST = 0.004
MOST_OFF = 0.25
"""How far from the middle of all the light's logarithm is believed: more is something in the way."""


@dataclass(frozen=True, slots=True, kw_only=True)
class CleanPlate:
    """A clean frame ready to be laid.

    Attributes
    ----------
    frame : its number. painted : as it was put right. untouched : the same as filmed, to compare light with.
    grain : of the frame as filmed; None: the frame has kept its own.
    """

    frame: int
    painted: StillSource
    untouched: StillSource
    grain: Grain | GrainProfile | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Levels:
    """Brightness as a factor of light, the middle tones' gamma, black in code shares, and warmth from -1 to 1."""

    gain: float = 1.0
    gamma: float = 1.0
    lift: float = 0.0
    warm: float = 0.0

    def of(self, light: F32) -> F32:
        """Linear (h, w, 3) with these levels."""
        out: F32 = light * np.array([1 + 0.4 * self.warm, 1, 1 - 0.4 * self.warm], np.float32) * np.float32(self.gain)
        if self.gamma != 1 or self.lift:
            coded = np.clip(encode(np.clip(out, 0, 1)), 0, 1) ** (1 / self.gamma)
            out = decode(np.clip(self.lift + coded * (1 - self.lift), 0, 1)).astype(np.float32)
        return np.asarray(out, np.float32)


def shares(frame: float, heroes: Sequence[int], fade: float) -> F64:
    """How much of each clean frame is seen in a frame: they sum to 1. `fade` is the share of the time between two that is
    spent fading."""
    at = np.asarray(heroes, np.float64)
    out = np.zeros(len(at))
    k = int(np.searchsorted(at, frame, side="right")) - 1
    if k < 0 or k >= len(at) - 1:
        out[max(k, 0)] = 1
        return out
    u = (frame - at[k]) / (at[k + 1] - at[k])
    u = float(np.clip((u - 0.5) / max(fade, 1e-6) + 0.5, 0, 1))
    out[k + 1] = u * u * (3 - 2 * u)
    out[k] = 1 - out[k + 1]
    return out


def lay_clean(
    rgb: U8, frame: int, cover: F32, heroes: Sequence[tuple[CleanPlate, float, F64, F64]], *, light: str = "rim",
    levels: Levels | None = None, seed: int = 0,
) -> U8:  # fmt: skip
    """A frame with clean frames over what masks cover: 8-bit (h, w, 3).

    Parameters
    ----------
    rgb : the frame. cover : (h, w) coverage. heroes : each with its share and two (3, 3) to this frame: as its motion carries
        it, and as it is laid (lined up by hand).
    light : none, even (one gain for each channel) or rim (as it changes along the masks' rim). seed : of the grain.
    """
    ys, xs = np.nonzero(cover > LEAST)
    if not len(ys):
        return rgb
    pad = AROUND_PX + 4
    x0, y0 = max(0, int(xs.min()) - pad), max(0, int(ys.min()) - pad)
    x1, y1 = min(rgb.shape[1], int(xs.max()) + pad + 1), min(rgb.shape[0], int(ys.max()) + pad + 1)
    size = (x1 - x0, y1 - y0)
    window = np.array([[1.0, 0, -x0], [0, 1.0, -y0], [0, 0, 1.0]])
    cut = np.ascontiguousarray(rgb[y0:y1, x0:x1])
    own = linear_from_codes(cut)
    mask = cover[y0:y1, x0:x1]
    total = np.zeros((*own.shape[:2], 4), np.float32)
    for hero, share, carried, laid in heroes:
        part = whole_still(hero.painted, window @ laid, size)
        gain = _light(own, whole_still(hero.untouched, window @ carried, size), mask, light)
        total[..., :3] += np.float32(share) * part[..., :3] * gain
        total[..., 3] += np.float32(share) * part[..., 3]
    alpha = np.clip(total[..., 3], 0, 1) * mask
    filled = np.maximum(total[..., :3], 0) / np.maximum(total[..., 3:], 1e-4)
    levelled = (levels or Levels()).of(np.asarray(filled, np.float32))
    mixed = own + alpha[..., None] * (levelled - own)
    coded: F64 = encode(np.clip(mixed, 0, 1)) * 255
    grain = heroes[0][0].grain
    if grain is not None:
        # Where the patch is half seen, half of the frame's own grain is left.
        missing = np.sqrt(np.clip(1 - (1 - alpha) ** 2, 0, 1))[..., None]
        coded = coded + grain_for(np.asarray(coded / 255, np.float32), grain, np.random.default_rng([frame, seed])) * missing
    out = rgb.copy()
    touched = alpha > LEAST
    out[y0:y1, x0:x1][touched] = np.clip(coded + 0.5, 0, 255).astype(np.uint8)[touched]
    return out


def _light(own: F32, before: F32, mask: F32, how: str) -> F32:
    """Gains that bring a clean frame to the frame's light: (3,), or (h, w, 3) as they change along the rim."""
    inside = mask > LEAST
    near = cv2.dilate(inside.astype(np.uint8), cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * AROUND_PX + 1,) * 2)) > 0
    band = near & ~inside & (before[..., 3] > 0.99)
    if how == "none" or band.sum() < 40:
        return np.ones(3, np.float32)
    off = np.log((own + 0.006) / (np.maximum(before[..., :3], 0) + 0.006))
    middle = np.median(off[band], axis=0)
    if how == "even":
        return np.exp(np.clip(middle, -1.5, 1.5)).astype(np.float32)
    believed = np.clip(off, middle - MOST_OFF, middle + MOST_OFF).astype(np.float32)
    # Near the rim the light is known best; what nothing is known of takes the middle.
    known = rim_values(believed, band, 18.0)
    field = stretch(np.where(near[..., None], known, middle).astype(np.float32), inside)
    return np.exp(np.clip(field, -1.5, 1.5)).astype(np.float32)


def degrained(rgb: Callable[[int], U8], frame: int, lies: Callable[[int], F64 | None], frames: int) -> tuple[F32, F32]:
    """A frame with its grain averaged away.

    Frames near it are laid over it, brought to its light, and averaged where they show the same. `lies` gives the (3, 3)
    from this frame to another one; None leaves that one out.

    Returns
    -------
    Display-coded 0 to 255 (h, w, 3); (h, w) from how many frames each pixel was averaged.
    """
    own = rgb(frame).astype(np.float32)
    h, w = own.shape[:2]
    half = np.array([[1, 0, -0.5], [0, 1, -0.5], [0, 0, 1.0]])
    total, weight = own.copy(), np.ones((h, w), np.float32)
    grey = own.mean(axis=2)
    for step in range(-NEAR_FR, NEAR_FR + 1):
        other = frame + step
        if step == 0 or not 0 <= other < frames:
            continue
        matrix = lies(other)
        if matrix is None:
            continue
        theirs = rgb(other).astype(np.float32)
        seen: NDArray[np.bool_] = np.ones((h, w), bool)
        if not np.allclose(matrix, np.eye(3), atol=1e-9):
            into = half @ matrix @ np.linalg.inv(half)
            flags = cv2.WARP_INVERSE_MAP
            seen = cv2.warpPerspective(np.full((h, w), 255, np.uint8), into, (w, h), flags=flags | cv2.INTER_NEAREST) > 0
            theirs = cv2.warpPerspective(theirs, into, (w, h), flags=flags | cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
        if not seen.any():
            continue
        some = seen[::5, ::5]
        gain = np.median(((own[::5, ::5] + 4) / (theirs[::5, ::5] + 4))[some], axis=0) if some.any() else np.ones(3)
        theirs *= gain.astype(np.float32)
        off = cv2.GaussianBlur(grey - theirs.mean(axis=2), (0, 0), 1.6)
        alike = np.where(seen, np.exp(-((off / ALIKE) ** 2)), 0).astype(np.float32)
        total += alike[..., None] * theirs
        weight += alike
    return np.asarray(total / weight[..., None], np.float32), weight


def grain_of(
    rgb: U8, mean: F32, weight: F32, around: NDArray[np.bool_], clip: GrainProfile | None = None
) -> Grain | GrainProfile:
    """Grain of a frame where `around` says.

    Where other frames showed the same, what they do not agree on is grain and no texture is taken for it; else it is the
    `clip`'s, or what the calm parts of the frame tell.
    """
    known = around & (weight > 1.8)
    if known.sum() < max(400, 0.2 * around.sum()):
        return clip or measure(rgb, around)
    # The mean has a share of the frame's own grain in it.
    left = np.sqrt(1 - 1 / weight[known]).mean()
    found = measure_left(rgb.astype(np.float32) - mean, known)
    return Grain(strength=found.strength / max(float(left), 0.3), softness_px=found.softness_px)
