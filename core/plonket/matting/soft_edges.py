"""The soft edge of a thing of which a rough mask is known."""

from __future__ import annotations

from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.colour import encode_8bit
from plonket.base.conventions import F32, U8
from plonket.matting.calm import calmed
from plonket.matting.guesses import COUNTS, colour_cells, disc, smooth_counts
from plonket.matting.mix import Mix, explained

APART, FAR_APART = 0.9, 2.2
"""How far the colours of two sides are from each other, in what each varies itself, to be told apart at all, and surely."""


LIKELIER, EVEN = 1.5, 2.0
"""Logarithm of how much likelier a colour is on one side, from which on it belongs there; and pixels over which that is
evened."""
LEAST_KNOWN = 200
"""Pixels that must be sure on either side for their colours to be known."""


def put_right(light: F32, mask: U8, inward: int, outward: int) -> U8:
    """A rough mask (h, w), 0 or 255, whose end may lie so many pixels too far out or in, put right by what is surely on either
    side: there, what has the colours of the other side goes over to it. light : linear (h, w, 3)."""
    core, beyond = cv2.erode(mask, disc(inward), borderValue=255) > 0, cv2.dilate(mask, disc(outward)) == 0
    if core.sum() < LEAST_KNOWN or beyond.sum() < LEAST_KNOWN:
        return mask
    lab = cv2.cvtColor(encode_8bit(np.clip(light, 0, 1)), cv2.COLOR_RGB2LAB).astype(np.float32)
    cells = colour_cells(lab)
    one, two = (smooth_counts(np.bincount(cells[side], minlength=COUNTS).astype(np.float32)) for side in (core, beyond))
    told = np.asarray(np.log((one + 1e-4) / (two + 1e-4)), np.float32)[cells]
    likely = cv2.GaussianBlur(told, (0, 0), EVEN)
    open_ = ~core & ~beyond
    out = np.where(open_ & (likely < -LIKELIER), 0, np.where(open_ & (likely > LIKELIER), 255, mask)).astype(np.uint8)
    return np.asarray(cv2.medianBlur(out, 5), np.uint8)


@dataclass(frozen=True, slots=True)
class Sides:
    """What lies on both sides of an edge: mean light (h, w, 3) near each place in front and behind, and how well their colours
    tell them apart, 0 to 1 (h, w)."""

    front: F32
    rear: F32
    apart: F32


def sides_of(light: F32, inside: NDArray[np.bool_], outside: NDArray[np.bool_], reach: float) -> Sides:
    """Of what is surely inside and outside (h, w) in linear light (h, w, 3), within about `reach` pixels."""
    codes = np.sqrt(np.clip(light, 0, 1))
    means, spreads = [], []
    for side in (inside, outside):
        weight = side.astype(np.float32)
        there = np.maximum(cv2.GaussianBlur(weight, (0, 0), reach), 1e-5)[..., None]
        mean = np.asarray(cv2.GaussianBlur(codes * weight[..., None], (0, 0), reach) / there, np.float32)
        square = cv2.GaussianBlur((codes * codes) * weight[..., None], (0, 0), reach) / there
        means.append(mean)
        spreads.append(np.sqrt(np.maximum(square - mean * mean, 0).sum(axis=2)))
    front, rear = means
    far = np.sqrt(((front - rear) ** 2).sum(axis=2)) / (spreads[0] + spreads[1] + 0.01)
    apart = np.asarray(np.clip((far - APART) / (FAR_APART - APART), 0, 1), np.float32)
    return Sides(front * front, rear * rear, apart)


def soft_edges(
    light: F32, mask: U8, band_px: float, firm: float, unsure: NDArray[np.bool_] | None = None
) -> Mix | None:
    """The matte (h, w) of a frame, linear (h, w, 3), under a rough mask (h', w') of another size; None: the mask is empty.

    In a band of `band_px` along the cut each pixel is explained as a mix of what the thing and what its surroundings show
    nearby; what explains it well counts, else the cut itself does, by as much as `firm` (0 to 1) says. So is what is `unsure`
    (h, w) besides.
    """
    ys, xs = np.nonzero(mask > 127)
    h, w = light.shape[:2]
    if not len(ys):
        return None
    scale = w / mask.shape[1]
    band = max(1, round(band_px))
    # Only what lies near the thing is looked at.
    pad = 4 * band + round(4 * scale)
    y0, y1 = max(0, int(ys.min() * scale) - pad), min(h, int((ys.max() + 1) * scale) + pad)
    x0, x1 = max(0, int(xs.min() * scale) - pad), min(w, int((xs.max() + 1) * scale) + pad)
    big = cv2.resize(mask, (w, h), interpolation=cv2.INTER_CUBIC)[y0:y1, x0:x1].astype(np.float32) / 255
    rough = np.clip(cv2.GaussianBlur(big, (0, 0), max(0.5 * scale, 0.5)) * 2 - 0.5, 0, 1)
    hard = (rough > 0.5).astype(np.uint8)
    if not hard.any():
        return None
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * band + 1, 2 * band + 1))
    inside, outside = cv2.erode(hard, disc, borderValue=1), 1 - cv2.dilate(hard, disc)
    if unsure is not None:
        known = np.where(unsure[y0:y1, x0:x1], 0, 1).astype(np.uint8)
        inside, outside = inside * known, outside * known
    part = np.ascontiguousarray(light[y0:y1, x0:x1])
    reaches = (band * 0.8, band * 2.0) if unsure is None else (band * 0.8, band * 2.0, band * 4.0)
    mix = explained(part, np.asarray(inside, np.uint8), np.asarray(outside, np.uint8), reaches,
                    np.asarray(rough, np.float32), firm, alone=unsure is not None)  # fmt: skip
    alpha = calmed(mix.alpha, np.asarray(part.mean(axis=2), np.float32), 1.5)
    alpha[inside > 0] = 1
    alpha[outside > 0] = 0
    whole, behind = np.zeros((h, w), np.float32), light.copy()
    whole[y0:y1, x0:x1] = alpha
    behind[y0:y1, x0:x1] = mix.behind
    return replace(mix, alpha=whole, behind=behind, trust=np.zeros_like(whole))
