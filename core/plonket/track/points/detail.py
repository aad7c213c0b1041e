"""Is there something to hold on to? Details, edges and flat areas round a click."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import cv2
import numpy as np

from plonket.base.conventions import U8

Grade = Literal["good", "edge", "flat"]

FLAT_BELOW = 2.2
"""Smaller eigenvalue's root, in code values per pixel, under which noise would win."""
EDGE_RATIO = 0.16


@dataclass(frozen=True, slots=True, kw_only=True)
class Detail:
    """What lies at a spot, and the nearest spot that is better.

    Attributes
    ----------
    grade : "good" for a detail, "edge" when it can slide along a line, "flat" when nothing is there.
    strength : root of the structure tensor's smaller eigenvalue, code values per pixel.
    better : (x, y) of the nearest good detail within the radius searched, or None.
    message : a sentence for the creator.
    """

    grade: Grade
    strength: float
    better: tuple[float, float] | None
    message: str


def judge(luma: U8, x: float, y: float, *, pattern_px: float, radius_px: float = 60) -> Detail:
    """Judge the spot (x, y) in pixels, and look for the nearest good detail round it."""
    outside = Detail(grade="flat", strength=0.0, better=None, message="This is outside the picture.")
    if not np.isfinite([x, y]).all():
        return outside
    pad = int(radius_px + pattern_px)
    x0, y0 = max(0, int(x) - pad), max(0, int(y) - pad)
    window = luma[y0 : int(y) + pad + 1, x0 : int(x) + pad + 1].astype(np.float32)
    if min(window.shape) < 5:
        return outside
    weak, strong = _eigenvalues(window, pattern_px)
    cy, cx = min(int(y) - y0, window.shape[0] - 1), min(int(x) - x0, window.shape[1] - 1)
    # A click is a little off: what counts is the best spot within a quarter of the pattern.
    slack = max(1, int(pattern_px / 4))
    near = np.s_[max(0, cy - slack) : cy + slack + 1, max(0, cx - slack) : cx + slack + 1]
    best = int(np.argmax(weak[near]))
    strength, edge = float(weak[near].ravel()[best]), float(strong[near].ravel()[best])
    grade: Grade = "good"
    if strength < FLAT_BELOW:
        grade = "edge" if edge > 3 * FLAT_BELOW else "flat"
    elif strength < EDGE_RATIO * edge:
        grade = "edge"
    if grade == "good":
        return Detail(grade=grade, strength=strength, better=None, message="A good detail.")
    better = _nearest_good(weak, strong, cx, cy, radius_px)
    spot = (better[0] + x0 + 0.5, better[1] + y0 + 0.5) if better else None
    what = "The picture is flat here: a point would slide." if grade == "flat" else (
        "This is an edge: a point could slide along it.")  # fmt: skip
    advice = " The nearest good detail is marked." if spot else " There is no good detail near; try elsewhere."
    return Detail(grade=grade, strength=strength, better=spot, message=what + advice)


def _eigenvalues(window: np.ndarray, pattern_px: float) -> tuple[np.ndarray, np.ndarray]:
    """Roots of both structure-tensor eigenvalues (C. Harris and M. Stephens, 1988; J. Shi and C. Tomasi, 1994)."""
    smooth = cv2.GaussianBlur(window, (0, 0), 1.0)
    gx = cv2.Sobel(smooth, cv2.CV_32F, 1, 0, ksize=3, scale=1 / 8)
    gy = cv2.Sobel(smooth, cv2.CV_32F, 0, 1, ksize=3, scale=1 / 8)
    sigma = max(1.5, pattern_px / 4)
    xx, yy, xy = (cv2.GaussianBlur(p, (0, 0), sigma) for p in (gx * gx, gy * gy, gx * gy))
    middle, spread = (xx + yy) / 2, np.sqrt(((xx - yy) / 2) ** 2 + xy**2)
    return np.sqrt(np.maximum(middle - spread, 0)), np.sqrt(middle + spread)


def _nearest_good(
    weak: np.ndarray, strong: np.ndarray, cx: int, cy: int, radius: float
) -> tuple[int, int] | None:
    peak = cv2.dilate(weak, np.ones((7, 7), np.uint8))
    good = (weak >= peak) & (weak >= FLAT_BELOW * 1.3) & (weak >= EDGE_RATIO * strong)
    ys, xs = np.nonzero(good)
    if len(xs) == 0:
        return None
    distance = np.hypot(xs - cx, ys - cy)
    # Nearer is better, but a clearly stronger detail a little further off wins.
    score = distance / np.sqrt(weak[ys, xs])
    score[distance > radius] = np.inf
    k = int(np.argmin(score))
    return (int(xs[k]), int(ys[k])) if np.isfinite(score[k]) else None
