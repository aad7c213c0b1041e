"""What every key's matte may need: specks and holes taken away, its edge moved and softened."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, FAST, U8
from plonket.base.fields import Number, number
from plonket.document.bases import KeyBase
from plonket.keying.common import held

MATTE = "Matte"
GONE = 0.02
"""What is thinner than this shows what is behind, and nothing else."""
NEAR = 1 / 60
"""How far what is behind is looked for, of the picture's width."""
MISFIT = 0.05
"""How far a mix may be from what is seen, of the difference of its two sides, to be believed."""


class ShapedKey(KeyBase):
    """A key whose matte is put right by the same few settings, all in pixels of the picture that is keyed."""

    choke: Number = number(0, label="Edge in", low=-10, high=10, step=0.1, unit="px", group=MATTE,
                           help="Moves the edge in, or out when negative, by parts of a pixel.")  # fmt: skip
    soften: Number = number(0, label="Soften", low=0, high=20, step=0.1, unit="px", group=MATTE)
    specks: Number = number(0, label="Specks off", low=0, high=12, step=1, unit="px", group=MATTE,
                            help="Takes away lone specks up to this size.")  # fmt: skip
    lone: Number = number(0, label="Marks off", low=0, high=300, step=5, unit="px", group=MATTE,
                          help="Takes away pieces that stand alone and are no wider: tape crosses, stands, wires.")  # fmt: skip
    holes: Number = number(0, label="Holes shut", low=0, high=12, step=1, unit="px", group=MATTE,
                           help="Closes holes in the subject up to this size.")  # fmt: skip


class UnmixedKey(ShapedKey):
    """A shaped key that has to guess what light shows through its soft edges."""

    clean: Number = number(100, label="Clean colours", low=0, high=100, step=1, unit="%", group=MATTE,
                           help="How much of what is behind is taken off soft edges.")  # fmt: skip


def unmixed(light: F32, alpha: F32, key: UnmixedKey) -> F32:
    """Premultiplied (h, w, 4) of linear light (h, w, 3) under a rough matte.

    Its edges are told by what they are mixed of, shaped, and freed of what is behind them.
    """
    if held(key.clean) <= 0:
        alpha = shaped(alpha, key)
        return np.dstack([light * alpha[..., None], alpha]).astype(np.float32)
    around = np.ones((3, 3), np.uint8)
    inside = cv2.erode((alpha > 1 - GONE).astype(np.uint8), around, borderValue=1)
    outside = cv2.erode((alpha < GONE).astype(np.uint8), around, borderValue=1)
    near = max(2.0, NEAR * light.shape[1])
    sides = np.asarray(inside, np.uint8), np.asarray(outside, np.uint8)
    mix = explained(light, *sides, (0.4 * near, near), alpha, 0, alone=True)
    return unmix(light, shaped(mix.alpha, key), mix.behind, mix.trust * np.float32(held(key.clean) / 100))


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
        front, there = nearby(light, inside, sigma)
        rear, here = nearby(light, outside, sigma)
        found = np.clip(there[ys, xs] * 20, 0, 1)
        # What stands far from anything solid is taken to be of the usual colour.
        f, b = usual + found[:, None] * (front[ys, xs] - usual), rear[ys, xs]
        way = f - b
        size = np.maximum((way * way).sum(axis=1), 1e-6)
        a = np.clip(((own - b) * way).sum(axis=1) / size, 0, 1)
        off = np.sqrt(((b + a[:, None] * way - own) ** 2).sum(axis=1) / size)
        # Where both sides look alike, nothing can be told.
        apart = size / (size + 0.0004)
        rear_seen = np.clip(here[ys, xs] * 20, 0, 1)
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


def nearby(light: F32, where: U8, sigma: float) -> tuple[F32, F32]:
    """What is seen nearby under a mask: its mean light (h, w, 3), and how much of it there is (h, w)."""
    k = max(1, round(sigma / 3))
    h, w = light.shape[:2]
    small = (max(1, w // k), max(1, h // k))
    weight = where.astype(np.float32)
    share = cv2.resize(weight, small, interpolation=cv2.INTER_AREA)
    mean = cv2.resize(light * weight[..., None], small, interpolation=cv2.INTER_AREA)
    share, mean = (cv2.GaussianBlur(p, (0, 0), max(sigma / k, 0.5)) for p in (share, mean))
    out = cv2.resize(mean / np.maximum(share, 1e-6)[..., None], (w, h), interpolation=cv2.INTER_LINEAR)
    return np.asarray(out, np.float32), np.asarray(cv2.resize(share, (w, h), interpolation=cv2.INTER_LINEAR), np.float32)


def shaped(alpha: F32, key: ShapedKey) -> F32:
    """A matte (h, w) without specks and holes, its edge moved by parts of a pixel and softened, as a key is set."""
    out = alpha
    specks, holes, choke, soften = held(key.specks), held(key.holes), held(key.choke), held(key.soften)
    if specks >= 1:
        size = 2 * round(specks) + 1
        disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size))
        # What survives an opening grows back to its own shape: thin hair that hangs on something stays.
        kept = cv2.dilate(cv2.erode(out, disc), cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (6 * size + 1, 6 * size + 1)))
        out = np.minimum(out, np.asarray(kept, np.float32))
    if held(key.lone) >= 1:
        out = without_lone(out, held(key.lone))
    if holes >= 1:
        out = without_holes(out, 2 * holes)
        size = 2 * round(holes) + 1
        disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size))
        shut = cv2.erode(cv2.dilate(out, disc), disc) * (cv2.erode(out, np.ones((3, 3))) > 0.02)
        out = np.maximum(out, np.asarray(shut, np.float32))
    if choke:
        out = moved_edge(out, choke)
    if soften > 0:
        out = np.asarray(cv2.GaussianBlur(out, (0, 0), soften / 2), np.float32)
    return out


def without_lone(alpha: F32, widest_px: float) -> F32:
    """A matte without pieces that stand alone and are no wider than `widest_px` either way."""
    seen = (alpha > 0.12).astype(np.uint8)
    count, labels, boxes, _ = cv2.connectedComponentsWithStats(seen, connectivity=8)
    small = (boxes[:, cv2.CC_STAT_WIDTH] <= widest_px) & (boxes[:, cv2.CC_STAT_HEIGHT] <= widest_px)
    small[0] = False
    if count < 2 or not small.any():
        return alpha
    marks = np.empty_like(seen)
    _marked(labels, small, marks)
    out = np.empty_like(alpha)
    # Their faint rims go too.
    _without(alpha, seen, marks, np.asarray(cv2.dilate(marks, np.ones((7, 7), np.uint8)), np.uint8), out)
    return out


@numba.njit(parallel=True, cache=True)  # type: ignore[misc]
def _marked(labels: NDArray[np.int32], small: NDArray[np.bool_], out: U8) -> None:
    """1 where a pixel's piece is a small one."""
    for y in numba.prange(labels.shape[0]):
        for x in range(labels.shape[1]):
            out[y, x] = small[labels[y, x]]


@numba.njit(parallel=True, cache=True)  # type: ignore[misc]
def _without(alpha: F32, seen: U8, marks: U8, wider: U8, out: F32) -> None:
    """The matte without what is marked, and round that without all but what is seen of other pieces."""
    for y in numba.prange(alpha.shape[0]):
        for x in range(alpha.shape[1]):
            gone = wider[y, x] > 0 and (marks[y, x] > 0 or seen[y, x] == 0)
            out[y, x] = np.float32(0.0) if gone else alpha[y, x]


def without_holes(alpha: F32, widest_px: float) -> F32:
    """A matte whose holes, whole rounded by the subject and no wider than `widest_px` either way, are shut."""
    count, labels, boxes, _ = cv2.connectedComponentsWithStats((alpha < 0.5).astype(np.uint8), connectivity=4)
    small = (boxes[:, cv2.CC_STAT_WIDTH] <= widest_px) & (boxes[:, cv2.CC_STAT_HEIGHT] <= widest_px)
    small &= (boxes[:, cv2.CC_STAT_LEFT] > 0) & (boxes[:, cv2.CC_STAT_TOP] > 0)
    small[0] = False
    if count < 2 or not small.any():
        return alpha
    # Their soft rims shut too.
    shut = cv2.dilate(small[labels].astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
    return np.where(shut & (cv2.blur((alpha > 0.5).astype(np.float32), (9, 9)) > 0.3), 1, alpha).astype(np.float32)


def moved_edge(alpha: F32, inwards_px: float) -> F32:
    """The matte eroded (or, negative, spread) by parts of a pixel: between whole steps it is mixed."""
    whole, part = int(abs(inwards_px)), abs(inwards_px) % 1
    step = cv2.erode if inwards_px > 0 else cv2.dilate

    def by(px: int) -> F32:
        if px == 0:
            return alpha
        disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * px + 1, 2 * px + 1))
        return np.asarray(step(alpha, disc), np.float32)

    a = by(whole)
    return a if part < 1e-6 else np.asarray(a + np.float32(part) * (by(whole + 1) - a), np.float32)
