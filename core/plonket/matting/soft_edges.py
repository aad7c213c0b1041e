"""The soft edge of a thing of which a rough mask is known."""

from __future__ import annotations

from dataclasses import dataclass, replace

import cv2
import numpy as np

from plonket.base.conventions import F32, U8
from plonket.matting.calm import calmed
from plonket.matting.mix import Mix, explained

APART, FAR_APART = 0.9, 2.2
"""How far the colours of two sides are from each other, in what each varies itself, to be told apart at all, and surely."""


@dataclass(frozen=True, slots=True)
class Sides:
    """What lies on both sides of an edge: mean light (h, w, 3) near each place in front and behind, and how well their colours
    tell them apart, 0 to 1 (h, w)."""

    front: F32
    rear: F32
    apart: F32


def sides_of(light: F32, mask: U8, reach: float) -> Sides:
    """Of a mask (h, w), 0 or 255, over linear light (h, w, 3), within about `reach` pixels."""
    codes = np.sqrt(np.clip(light, 0, 1))
    means, spreads = [], []
    for side in (mask > 127, mask <= 127):
        weight = side.astype(np.float32)
        there = np.maximum(cv2.GaussianBlur(weight, (0, 0), reach), 1e-4)[..., None]
        mean = np.asarray(cv2.GaussianBlur(codes * weight[..., None], (0, 0), reach) / there, np.float32)
        square = cv2.GaussianBlur((codes * codes) * weight[..., None], (0, 0), reach) / there
        means.append(mean)
        spreads.append(np.sqrt(np.maximum(square - mean * mean, 0).sum(axis=2)))
    front, rear = means
    far = np.sqrt(((front - rear) ** 2).sum(axis=2)) / (spreads[0] + spreads[1] + 0.01)
    apart = np.asarray(np.clip((far - APART) / (FAR_APART - APART), 0, 1), np.float32)
    return Sides(front * front, rear * rear, apart)


def soft_edges(light: F32, mask: U8, band_px: float, firm: float) -> Mix | None:
    """The matte (h, w) of a frame, linear (h, w, 3), under a rough mask (h', w') of another size; None: the mask is empty.

    In a band of `band_px` along the cut each pixel is explained as a mix of what the thing and what its surroundings show
    nearby; what explains it well counts, else the cut itself does, by as much as `firm` (0 to 1) says.
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
    part = np.ascontiguousarray(light[y0:y1, x0:x1])
    mix = explained(part, np.asarray(inside, np.uint8), np.asarray(outside, np.uint8), (band * 0.8, band * 2.0),
                    np.asarray(rough, np.float32), firm)  # fmt: skip
    alpha = calmed(mix.alpha, np.asarray(part.mean(axis=2), np.float32), 1.5)
    alpha[inside > 0] = 1
    alpha[outside > 0] = 0
    whole, behind = np.zeros((h, w), np.float32), light.copy()
    whole[y0:y1, x0:x1] = alpha
    behind[y0:y1, x0:x1] = mix.behind
    return replace(mix, alpha=whole, behind=behind, trust=np.zeros_like(whole))
