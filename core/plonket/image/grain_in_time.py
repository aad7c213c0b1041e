"""Grain of a clip, from what changes in it once its own movement has been taken out.

Grain is what a second take of the same picture would differ in (over the root of 2). Texture stays from frame to frame, so
what a frame and one far from it in time do not share is grain and what coding did to them. Coding carries grain along from
frame to frame, so neighbours differ by too little; its own error goes with texture, so what is left where there is none is
grain.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.optimize import nnls

from plonket.base.conventions import F32, F64, U8
from plonket.base.progress import Work
from plonket.image.grain import BANDS, RINGS, GrainProfile
from plonket.image.grain_in_space import grain_of
from plonket.media.clip import Clip
from plonket.track.camera.patches import AREA, HALF, SIDE, cut, match

VERSION = 1
"""Of the way it is measured: what was kept of another one is measured again."""
APART = (24, 16, 11, 7, 4, 2, 1)
"""Frames between two that are compared: the furthest at which enough is still found again."""
REFERENCES = 4
ENOUGH = 250
"""Patches that tell grain well."""
LEAST = 60
STEP = 16
LEAST_LIKENESS = 0.4
MOVES_PX = 1.5
"""Patches of a picture that moves by less lie on the grid on which coding keeps what it kept."""
FITTED = 8
"""Of a patch's pixels as many are used up by its place, its shape and its light."""
CODING_SD = 0.8
"""What coding alone does to flat places, in codes; `PER_SLOPE` times as much as it does to texture, at the most."""
PER_SLOPE = 6.0
TEXTURE_ALONE, TEXTURE_LITTLE = 0.18, 0.38
"""Share of all that differs which flat places must show for texture's part of it to be grain as well: none, all of it."""
CODED_AWAY = 1.1
"""How much stronger grain was than what coding left of it, where it left any."""


@dataclass(frozen=True, slots=True, kw_only=True)
class MeasuredGrain:
    """Grain as it was measured.

    Attributes
    ----------
    profile : strength, fineness, colour. how : in time, or in the calm places of one frame. sure : 0 to 1.
    known : which of `BANDS` the clip has; the others are told by their neighbours.
    filmed : how much stronger it was before it was coded, as far as that can be told.
    """

    profile: GrainProfile
    how: Literal["time", "space"]
    sure: float
    known: tuple[bool, ...]
    filmed: float = 1.0

    @property
    def correlation_px(self) -> float:
        """SD of the blur that makes white noise as soft."""
        return softness_of(self.profile.spectrum)


def dump_grain(grain: MeasuredGrain) -> str:
    """As JSON text."""
    return json.dumps({"version": VERSION, "how": grain.how, "sure": grain.sure, "known": grain.known, "filmed": grain.filmed,
                       "profile": grain.profile.model_dump(mode="json")})  # fmt: skip


def load_grain(text: str) -> MeasuredGrain | None:
    """What `dump_grain` wrote; None when it was measured in another way, or is damaged."""
    try:
        found = json.loads(text)
        if found["version"] != VERSION:
            return None
        return MeasuredGrain(
            profile=GrainProfile.model_validate(found["profile"]), how=found["how"], sure=float(found["sure"]),
            known=tuple(bool(k) for k in found["known"]), filmed=float(found["filmed"]),
        )  # fmt: skip
    except (ValueError, KeyError, TypeError):
        return None


@dataclass(slots=True)
class _Samples:
    """Patches of one frame found again in another: brightness (n, 3) 0 to 1, half the variance of what differs (n, 3) in codes,
    steepness (n, 3) in codes a pixel, what differs (n, side, side, 3), pixels moved (n,)."""

    level: F64
    variance: F64
    steep: F64
    left: F32
    moved: F64


def measure_grain(clip: Clip, frame: int | None = None, work: Work | None = None) -> MeasuredGrain | None:
    """Grain of a clip (about a `frame`); of what is still, from one picture. None where nothing tells."""
    work = work or Work()
    samples = _samples(clip, frame, work)
    middle = clip.info.frames // 2 if frame is None else frame
    moving = samples is not None and float(np.median(samples.moved)) >= MOVES_PX
    if samples is not None and moving:
        return _in_time(samples)
    still = grain_of(clip.rgb(middle).astype(np.float32))
    if samples is None:
        return None if still is None else MeasuredGrain(profile=still, how="space", sure=0.3, known=(True,) * len(BANDS))
    timed = _in_time(samples)
    if still is None:
        return timed
    # What never changes may be texture as well: grain that coding froze is believed up to half as much again, and what does
    # change as it is.
    a, b = np.array(still.strength), np.array(timed.profile.strength)
    held = np.where(b > 0.6 * a, b, np.minimum(a, np.maximum(1.5 * b, 0.3)))
    profile = still.model_copy(update={"strength": [tuple(float(v) for v in row) for row in held]})
    return MeasuredGrain(profile=profile, how="space", sure=0.5 * timed.sure, known=timed.known)


def _samples(clip: Clip, frame: int | None, work: Work) -> _Samples | None:
    """From frames as far apart as enough is found again."""
    frames = clip.info.frames
    best: list[_Samples] = []
    for apart in APART:
        if apart >= frames:
            continue
        found = []
        for k, first in enumerate(_references(frames, apart, frame)):
            work.check_cancelled()
            one = _compared(clip, first, first + apart)
            if one is not None:
                found.append(one)
            work.progress(k + 1, REFERENCES)
        if sum(len(one.level) for one in found) > sum(len(one.level) for one in best):
            best = found
        if sum(len(one.level) for one in best) >= ENOUGH:
            break
    if sum(len(one.level) for one in best) < LEAST:
        return None
    return _Samples(*(np.concatenate([getattr(one, name) for one in best]) for name in _Samples.__slots__))


def _references(frames: int, apart: int, about: int | None) -> Sequence[int]:
    last = frames - 1 - apart
    if about is None:
        return [int(k) for k in np.unique(np.linspace(0, last, REFERENCES).round())]
    near = np.array([about, about - apart, about - 2, about - apart + 2])
    return [int(k) for k in np.unique(np.clip(near, 0, last))]


def _compared(clip: Clip, first: int, second: int) -> _Samples | None:
    """Patches of a frame found again in another one."""
    a, b = clip.luma(first), clip.luma(second)
    h, w = a.shape
    if min(h, w) < 4 * SIDE:
        return None
    flow = _movement(a, b)
    y, x = (one.ravel() for one in np.mgrid[12 : h - 12 : STEP, 12 : w - 12 : STEP])
    at = np.stack([x, y], axis=1).astype(np.float64)
    n = len(at)
    shape = np.tile(np.eye(2), (n, 1, 1))
    shape[:, :, 0] += (flow[y, x + HALF] - flow[y, x - HALF]) / (2 * HALF)
    shape[:, :, 1] += (flow[y + HALF, x] - flow[y - HALF, x]) / (2 * HALF)
    to = at + flow[y, x]
    start = to.copy()
    soft = [np.asarray(cv2.GaussianBlur(one.astype(np.float32), (0, 0), 0.7)) for one in (a, b)]
    values, slopes, inverse = np.zeros((n, AREA)), np.zeros((n, AREA, 6)), np.zeros((n, 6, 6))
    sound, alike = np.zeros(n, bool), np.zeros(n)
    cut(soft[0], at, values, slopes, inverse, sound)
    match(soft[1], values, slopes, inverse, to, shape, alike)
    stays = np.linalg.norm(to - start, axis=1) < 3
    plain = np.abs(shape - np.eye(2)).max(axis=(1, 2)) < 0.35
    good = np.flatnonzero(sound & (alike > LEAST_LIKENESS) & stays & plain)
    return _differing(clip.rgb(first), clip.rgb(second), at[good], to[good], shape[good]) if len(good) else None


def _movement(a: U8, b: U8) -> F32:
    """(h, w, 2) how far each pixel of a frame has gone in another, which may show it far away.

    Source: T. Kroeger et al., Fast Optical Flow using Dense Inverse Search, 2016, arXiv:1603.03590 (OpenCV's).
    """
    h, w = a.shape
    whole = _as_a_whole(a, b)
    flags = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
    brought = b if whole is None else cv2.warpAffine(b, whole, (w, h), flags=flags, borderMode=cv2.BORDER_REFLECT)
    dense = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    soft = [cv2.GaussianBlur(one, (0, 0), 1.0) for one in (a, brought)]
    flow = np.asarray(dense.calc(soft[0], soft[1], None), np.float32)  # type: ignore[call-overload]
    if whole is None:
        return flow
    y, x = np.mgrid[0:h, 0:w].astype(np.float32)
    px, py = x + flow[..., 0], y + flow[..., 1]
    m = whole.astype(np.float32)
    return np.dstack([m[0, 0] * px + m[0, 1] * py + m[0, 2] - x, m[1, 0] * px + m[1, 1] * py + m[1, 2] - y])


def _as_a_whole(a: U8, b: U8) -> F64 | None:
    """(2, 3) the similarity that takes most of a frame to another one; None where it is not plain."""
    finder = cv2.ORB.create(nfeatures=900)
    (at, what), (there, like) = (finder.detectAndCompute(one, None) for one in (a, b))
    if what is None or like is None or min(len(at), len(there)) < 30:
        return None
    pairs = cv2.BFMatcher(cv2.NORM_HAMMING, crossCheck=True).match(what, like)
    if len(pairs) < 30:
        return None
    p = np.array([at[m.queryIdx].pt for m in pairs], np.float64)
    q = np.array([there[m.trainIdx].pt for m in pairs], np.float64)
    found, inside = cv2.estimateAffinePartial2D(p, q, method=cv2.RANSAC, ransacReprojThreshold=3.0)
    if found is None or inside.sum() < max(20, 0.3 * len(pairs)) or np.hypot(*found[:, 2]) < 6:
        return None
    return np.asarray(found, np.float64)


def _differing(a: U8, b: U8, at: F64, to: F64, shape: F64) -> _Samples:
    """What patches differ in, each brought to the other's place and light."""
    reach = np.arange(-HALF, HALF + 1)
    u, v = np.meshgrid(reach, reach)
    px = (to[:, 0, None, None] + shape[:, 0, 0, None, None] * u + shape[:, 0, 1, None, None] * v).astype(np.float32)
    py = (to[:, 1, None, None] + shape[:, 1, 0, None, None] * u + shape[:, 1, 1, None, None] * v).astype(np.float32)
    n = len(at)
    there = np.concatenate([
        cv2.remap(b, px[k : k + 1000].reshape(-1, SIDE), py[k : k + 1000].reshape(-1, SIDE), cv2.INTER_LANCZOS4)
        .reshape(-1, SIDE, SIDE, 3) for k in range(0, n, 1000)
    ]).astype(np.float32)  # fmt: skip
    xs, ys = at[:, 0].astype(int), at[:, 1].astype(int)
    here = a[ys[:, None, None] + v, xs[:, None, None] + u].astype(np.float32)
    bright = there - there.mean(axis=(1, 2), keepdims=True)
    own = here - here.mean(axis=(1, 2), keepdims=True)
    gain = (own * bright).sum(axis=(1, 2)) / np.maximum((bright**2).sum(axis=(1, 2)), 225.0)
    # Little texture tells nothing of the light: noise against noise would be drawn together.
    told = (bright**2).mean(axis=(1, 2)) > 150
    gain = np.where(told, np.clip(gain, 0.7, 1.4), 1.0).astype(np.float32)
    left = own - bright * gain[:, None, None]
    soft = (own + bright) / 2
    steep = np.sqrt(((soft[:, :, 2:] - soft[:, :, :-2]) ** 2).mean(axis=(1, 2)) / 4
                    + ((soft[:, 2:] - soft[:, :-2]) ** 2).mean(axis=(1, 2)) / 4)  # fmt: skip
    whole = (here.max(axis=(1, 2, 3)) < 253) & (here.min(axis=(1, 2, 3)) > 2)
    level = here.mean(axis=(1, 2)) / 255
    variance = (left**2).sum(axis=(1, 2)) / (AREA - FITTED) / 2
    moved = np.linalg.norm(to - at, axis=1)
    return _Samples(*(np.asarray(one[whole]) for one in (level, variance, steep, left, moved)))


def _in_time(samples: _Samples) -> MeasuredGrain:
    strength = np.zeros((len(BANDS), 3))
    counts = _hats(samples.level.mean(axis=1)).sum(axis=0)
    known = counts >= 12 if (counts >= 12).any() else counts >= counts.max()
    flat, all_ = np.zeros_like(strength), np.zeros_like(strength)
    slope = np.zeros(3)
    for c in range(3):
        flat[:, c], slope[c], all_[:, c] = _parted(samples.level[:, c], samples.variance[:, c], samples.steep[:, c])
    base = np.minimum(CODING_SD**2, PER_SLOPE * slope)
    flat = np.maximum(flat - base, 0)
    share = float((flat * counts[:, None]).sum() / max(float((all_ * counts[:, None]).sum()), 1e-9))
    present = float(np.clip((share - TEXTURE_ALONE) / (TEXTURE_LITTLE - TEXTURE_ALONE), 0, 1))
    spectrum, kept = _spectrum(samples)
    strength = np.sqrt((flat + present * np.maximum(all_ - flat, 0)) / kept)
    places = np.flatnonzero(known)
    strength = np.stack([np.interp(BANDS, BANDS[places], strength[places, c]) for c in range(3)], axis=1)
    sure = float(np.clip(len(samples.level) / ENOUGH, 0, 1) * np.clip(0.5 + abs(present - 0.5), 0.2, 1))
    profile = GrainProfile(
        strength=[(float(r), float(g), float(b)) for r, g, b in strength], spectrum=spectrum, alike=_alike(samples)
    )
    return MeasuredGrain(
        profile=profile, how="time", sure=sure, known=tuple(bool(k) for k in known), filmed=1 + (CODED_AWAY - 1) * present
    )


def _hats(level: F64) -> F64:
    """(n, bands) how far each brightness belongs to each of `BANDS`, straight between them."""
    at = np.clip((level - BANDS[0]) / (BANDS[1] - BANDS[0]), 0, len(BANDS) - 1)
    return np.asarray(np.maximum(0, 1 - np.abs(at[:, None] - np.arange(len(BANDS)))))


def _parted(level: F64, variance: F64, steep: F64) -> tuple[F64, float, F64]:
    """Variance in codes where nothing is steep (bands,), by how much it grows with steepness, and all of it (bands,)."""
    hats = _hats(level)
    middle = max(float(np.median(variance)), 1e-3)
    # Grain changes evenly with brightness: what few flat places tell is told by their neighbours.
    even = np.vstack([0.12 * np.diff(np.eye(len(BANDS)), axis=0), 0.5 * np.diff(np.eye(len(BANDS)), n=2, axis=0)])
    even *= np.sqrt(len(level)) / middle
    weight = 1 / (variance.clip(middle / 4) + 0.05)
    out = np.zeros(len(BANDS) + 1)
    for _ in range(6):
        rows = np.column_stack([hats, steep]) * weight[:, None]
        rows = np.vstack([rows, np.column_stack([even, np.zeros(len(even))])])
        out, _ = nnls(rows, np.concatenate([variance * weight, np.zeros(len(even))]))
        told = np.column_stack([hats, steep]) @ out + 0.02
        off = variance / told - 1
        width = 4 * max(1.4826 * float(np.median(np.abs(off))), 0.1)
        weight = np.clip(1 - (off / width) ** 2, 0, 1) / told
    typical = hats.T @ (steep * (weight > 0)) / np.maximum(hats.T @ (weight > 0).astype(float), 1e-9)
    return out[:-1], float(out[-1]), out[:-1] + out[-1] * typical


def _alike(samples: _Samples) -> float:
    """How much of the variance the channels share."""
    flat = samples.left[_flattest(samples)].reshape(-1, 3)
    covariance = np.cov(flat.T)
    scale = np.sqrt(np.outer(np.diag(covariance), np.diag(covariance)))
    return float(np.clip((covariance / np.maximum(scale, 1e-9))[np.triu_indices(3, 1)].mean(), 0, 1))


def _flattest(samples: _Samples) -> NDArray[np.int_]:
    """The third of the patches with the least texture: what differs there is grain more than anything else."""
    order = np.argsort(samples.steep.mean(axis=1))
    return order[: max(LEAST, len(order) // 3)]


def _spectrum(samples: _Samples) -> tuple[list[float], float]:
    """Power in `RINGS` of spatial frequency, its mean 1; and the share of the variance that is left when one of two frames has
    been resampled."""
    left = samples.left[_flattest(samples)]
    window = np.sin(np.pi * (np.arange(SIDE) + 0.5) / SIDE).astype(np.float32)
    seen = left * (window[:, None] * window[None, :])[None, :, :, None]
    power = (np.abs(np.fft.fft2(seen, axes=(1, 2))) ** 2).mean(axis=(0, 3))
    passed = (1 + _passed()) / 2
    f = np.fft.fftfreq(SIDE)
    radius = np.hypot(f[:, None], f[None, :])
    # Light was taken off as a whole: the coarsest has gone with it.
    inside = radius > 0.5 / SIDE * 1.5
    middles = (np.arange(RINGS) + 0.5) * 0.5 / RINGS
    places = np.arange(2, SIDE // 2 + 1) / SIDE
    rings = [np.abs(radius - place) < 0.5 / SIDE for place in places]
    level = np.array([float((power / passed)[ring & inside].mean()) for ring in rings])
    out = np.exp(np.interp(middles, places, np.log(np.maximum(level, 1e-9))))
    kept = float(power[inside].sum() / (power / passed)[inside].sum())
    return [float(v) for v in out / max(float(out.mean()), 1e-12)], kept


@lru_cache(maxsize=1)
def _passed() -> F64:
    """(side, side) power that resampling lets through at each frequency, over all places between pixels."""
    size, places = 33, np.linspace(0, 1, 17)[:-1]
    point = np.zeros((size, size), np.float32)
    point[size // 2, size // 2] = 1
    total = np.zeros(SIDE)
    f = np.fft.fftfreq(SIDE)
    for place in places:
        x, y = np.meshgrid(np.arange(size, dtype=np.float32) + np.float32(place), np.arange(size, dtype=np.float32))
        row = cv2.remap(point, x, y, cv2.INTER_LANCZOS4)[size // 2]
        total += np.abs((row[None] * np.exp(-2j * np.pi * f[:, None] * np.arange(size))).sum(axis=1)) ** 2
    one = total / len(places)
    return np.asarray(one[:, None] * one[None, :])


@lru_cache(maxsize=64)
def _softness_table() -> tuple[F64, F64]:
    middles = (np.arange(RINGS) + 0.5) * 0.5 / RINGS
    sd = np.linspace(0, 3, 121)
    shapes = np.exp(-((2 * np.pi * sd[:, None] * middles) ** 2))
    return sd, np.asarray(shapes / shapes.mean(axis=1, keepdims=True))


def softness_of(spectrum: Sequence[float]) -> float:
    """SD in pixels of the blur that gives white noise a spectrum in `RINGS`."""
    sd, shapes = _softness_table()
    given = np.array(spectrum) / max(float(np.mean(spectrum)), 1e-9)
    return float(sd[int(np.argmin(((shapes - given) ** 2).sum(axis=1)))])
