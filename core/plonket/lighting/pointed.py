"""A shadow that someone points at: how much of the light it takes away, and in which colour."""

from __future__ import annotations

import cv2
import numpy as np

from plonket.base.conventions import F32, F64
from plonket.base.errors import Degenerate

NO_SHADOW = (
    "Beside this place nothing looks the same, only brighter. Point into a shadow that lies on an even surface, not far from"
    " its edge."
)
LEAST_STEP = 0.15
"""Logarithm of light by which the ground beside a shadow must be brighter."""
LOOKED_AT = 0.22
"""How far round the place is looked, as a share of the picture's width."""


def pointed_shadow(light: F32, at: tuple[float, float]) -> F64:
    """(3,) share of the light that is missing in a shadow, by the ground of the same kind that lies in the light beside it.

    Parameters
    ----------
    light : linear (h, w, 3). at : x, y of a pixel in the shadow.

    Raises
    ------
    Degenerate
        Nothing beside it is the same, only brighter.
    """
    h, w = light.shape[:2]
    x, y = int(at[0]), int(at[1])
    if not (0 <= x < w and 0 <= y < h):
        raise Degenerate("light.outside", "This place is outside the picture.")
    reach, grit = max(24, round(LOOKED_AT * w)), max(1.5, 0.008 * w)
    left, top = max(x - reach, 0), max(y - reach, 0)
    logs = np.log(np.maximum(light[top : y + reach + 1, left : x + reach + 1], 1e-3))
    calm = cv2.GaussianBlur(logs, (0, 0), grit)
    tone = calm.mean(axis=2)
    # A shadow is bluer than the light beside it, but not by any amount: what has another colour is another thing.
    tint = calm - tone[..., None]
    same = np.abs(tint - tint[y - top, x - left]).max(axis=2) < 0.4
    split = _split(tone[same]) if same.sum() > 200 else None
    if split is None or tone[y - top, x - left] > split:
        raise Degenerate("light.pointed", NO_SHADOW)
    _, parts = cv2.connectedComponents((same & (tone <= split)).astype(np.uint8))
    dark = (parts == parts[y - top, x - left]).astype(np.uint8)
    edge, beside = (cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * n + 1, 2 * n + 1))
                    for n in (round(2.5 * grit), round(9 * grit)))  # fmt: skip
    # Bright grit in the shadow belongs to it, dark grit in the light to that: else both would be told too far apart.
    dark = cv2.morphologyEx(dark, cv2.MORPH_CLOSE, edge)
    core = cv2.erode(dark, edge) > 0
    core = core if core.sum() > 50 else dark > 0
    open_ = cv2.GaussianBlur(tone, (0, 0), 3 * grit) > split
    lit = (cv2.dilate(dark, beside) > 0) & (cv2.dilate(dark, edge) == 0) & same & open_
    if lit.sum() < 100:
        raise Degenerate("light.pointed", NO_SHADOW)
    apart = np.median(calm[lit], axis=0) - np.median(calm[core], axis=0)
    if float(apart.mean()) < LEAST_STEP:
        raise Degenerate("light.pointed", NO_SHADOW)
    return np.asarray(np.clip(1 - np.exp(-apart), 0.02, 0.97), np.float64)


def _split(tone: F32) -> float | None:
    """The tone that parts dark from bright best (N. Otsu, 1979); None where there is but one heap."""
    if float(np.ptp(tone)) < LEAST_STEP:
        return None
    counts, edges = np.histogram(tone, bins=96)
    middles = (edges[:-1] + edges[1:]) / 2
    low = np.cumsum(counts)
    high = low[-1] - low
    sums = np.cumsum(counts * middles)
    with np.errstate(divide="ignore", invalid="ignore"):
        apart = (sums[-1] - sums) / high - sums / low
        between = np.where((low > 0) & (high > 0), low * high * apart**2, 0)
    k = int(np.argmax(between))
    total = float(np.var(tone)) * float(low[-1]) ** 2
    # Two heaps explain most of how much it varies.
    return float(edges[k + 1]) if between[k] > 0.5 * total and apart[k] > LEAST_STEP else None
