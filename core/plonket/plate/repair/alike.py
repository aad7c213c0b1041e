"""Finding more of what one outline shows: further marks from one example."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from plonket.base.conventions import F64, U8
from plonket.base.errors import Degenerate
from plonket.base.homography import rotation_scale, translation
from plonket.base.outlines import carry, inside

LOOKED_AT_PX = 22.0
"""The shorter side of the example where it is looked for; larger ones are looked for in a reduced picture."""
TURNS = tuple(range(-90, 90, 15))
SIZES = (0.72, 0.85, 1.0, 1.18, 1.4)
LEAST = 0.7
"""Correlation with the example, from which a place counts as alike."""
ROOM = 0.35
"""How much of the example's surroundings belongs to it, of its size: a mark is told by its contrast with the ground."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Alike:
    """A place that looks like the example.

    Attributes
    ----------
    matrix : (3, 3) from the example's pixels to the place's, both in the same frame. likeness : correlation, up to 1.
    """

    matrix: F64
    likeness: float


def find_alike(rgb: U8, polygon: F64, *, most: int = 40, least: float = LEAST) -> list[Alike]:
    """Places in a frame that look like what a polygon shows, the likest first; the example itself is not among them.

    Parameters
    ----------
    rgb : 8-bit (h, w, 3). polygon : (m, 2) pixels. most : how many at most. least : see `LEAST`.

    Raises
    ------
    Degenerate
        When the example lies outside the picture or shows nothing to go by.
    """
    h, w = rgb.shape[:2]
    low, high = polygon.min(axis=0), polygon.max(axis=0)
    side = float((high - low).max())
    room = ROOM * side
    x0, y0 = max(0, int(low[0] - room)), max(0, int(low[1] - room))
    x1, y1 = min(w, int(high[0] + room) + 1), min(h, int(high[1] + room) + 1)
    if x1 - x0 < 5 or y1 - y0 < 5:
        raise Degenerate("alike.outside", "The example lies outside the picture. Draw it round one of the things.")
    scale = min(1.0, LOOKED_AT_PX / max(float((high - low).min()), 1.0))
    small = cv2.resize(rgb, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA) if scale < 1 else rgb
    picture = small.astype(np.float32)
    scale_x, scale_y = small.shape[1] / w, small.shape[0] / h
    patch = picture[int(y0 * scale_y) : int(np.ceil(y1 * scale_y)), int(x0 * scale_x) : int(np.ceil(x1 * scale_x))]
    if float(patch.std(axis=(0, 1)).max()) < 3:
        raise Degenerate("alike.flat", "The example looks like its surroundings. Draw it round something that stands out.")
    grid = np.diag([scale_x, scale_y, 1.0])
    middle = (low + high) / 2
    own = polygon - middle
    found: list[tuple[float, F64]] = []
    for size in SIZES:
        for turn in TURNS:
            change = rotation_scale(turn, size)
            found += _places(picture, middle, own, change, grid, side * size, least - 0.12)
    found.sort(key=lambda f: -f[0])
    out: list[Alike] = []
    taken = [middle]
    for _, matrix in found:
        at = carry(middle[None], matrix)[0]
        if any(float(np.hypot(*(at - t))) < 0.6 * side for t in taken):
            continue
        taken.append(at)
        better = _refined(picture, middle, own, matrix, grid, side)
        if better is not None and better.likeness >= least:
            out.append(better)
        if len(out) >= most or len(taken) > 4 * most:
            break
    return sorted(out, key=lambda a: -a.likeness)


def _template(
    picture: np.ndarray, middle: F64, own: F64, change: F64, grid: F64, side: float
) -> tuple[np.ndarray, U8, int] | None:
    """The example turned and sized, about its middle, with what of it counts; and half its side."""
    half = int(np.ceil((side * (0.5 + ROOM)) * grid[0, 0])) + 1
    into = translation(half + 0.5, half + 0.5) @ grid @ change @ translation(*-middle) @ np.linalg.inv(grid)
    centre = np.array([[1, 0, -0.5], [0, 1, -0.5], [0, 0, 1.0]])
    matrix = centre @ into @ np.linalg.inv(centre)
    size = (2 * half + 1, 2 * half + 1)
    patch = cv2.warpPerspective(picture, matrix, size, flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    shape = carry(own, translation(half + 0.5, half + 0.5) @ grid @ change)
    mask = inside(shape, size).astype(np.uint8)
    reach = max(1, round(ROOM * side * grid[0, 0]))
    counted = cv2.dilate(mask, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * reach + 1,) * 2))
    return (patch, np.asarray(counted, np.uint8), half) if counted.sum() > 12 else None


def _scores(picture: np.ndarray, template: np.ndarray, mask: U8) -> F64:
    weights = np.repeat(mask[..., None].astype(np.float32), 3, axis=2)
    scores = cv2.matchTemplate(picture, template, cv2.TM_CCOEFF_NORMED, mask=weights)
    # Where the picture is flat the correlation means nothing.
    return np.asarray(np.where(np.isfinite(scores) & (np.abs(scores) <= 1.0001), scores, 0), np.float64)


def _places(
    picture: np.ndarray, middle: F64, own: F64, change: F64, grid: F64, side: float, least: float
) -> list[tuple[float, F64]]:
    """The local maxima above `least` for one turn and size: likeness and matrix."""
    made = _template(picture, middle, own, change, grid, side)
    if made is None or min(picture.shape[:2]) <= made[0].shape[0]:
        return []
    template, mask, half = made
    scores = _scores(picture, template, mask)
    reach = 2 * max(1, half // 2) + 1
    peaks = (scores == cv2.dilate(scores, np.ones((reach, reach)))) & (scores > least)
    out = []
    for y, x in zip(*np.nonzero(peaks), strict=True):
        at = np.linalg.inv(grid) @ np.array([x + half + 0.5, y + half + 0.5, 1.0])
        out.append((float(scores[y, x]), translation(*at[:2]) @ change @ translation(*-middle)))
    return out


def _refined(picture: np.ndarray, middle: F64, own: F64, matrix: F64, grid: F64, side: float) -> Alike | None:
    """The likest turn, size and place near one: in finer steps, to a part of a pixel."""
    best: Alike | None = None
    at = (grid @ np.array([*carry(middle[None], matrix)[0], 1.0]))[:2]
    for turn in (-10.0, -5.0, 0.0, 5.0, 10.0):
        for size in (0.92, 1.0, 1.08):
            change = matrix.copy()
            change[:2, 2] = 0
            change = rotation_scale(turn, size) @ change
            made = _template(picture, middle, own, change, grid, side * float(np.sqrt(abs(np.linalg.det(change)))))
            if made is None:
                continue
            template, mask, half = made
            x0, y0 = round(at[0] - 0.5) - half - 3, round(at[1] - 0.5) - half - 3
            x1, y1 = x0 + 2 * half + 7, y0 + 2 * half + 7
            if x0 < 0 or y0 < 0 or x1 > picture.shape[1] or y1 > picture.shape[0]:
                continue
            scores = _scores(np.ascontiguousarray(picture[y0:y1, x0:x1]), template, mask)
            y, x = (int(v) for v in np.unravel_index(np.argmax(scores), scores.shape))
            if best is not None and scores[y, x] <= best.likeness:
                continue
            dx, dy = _peak(scores, x, y)
            place = np.linalg.inv(grid) @ np.array([x0 + x + dx + half + 0.5, y0 + y + dy + half + 0.5, 1.0])
            best = Alike(matrix=translation(*place[:2]) @ change @ translation(*-middle), likeness=float(scores[y, x]))
    return best


def _peak(scores: F64, x: int, y: int) -> tuple[float, float]:
    """Where a parabola through a maximum and its neighbours has its top, from that maximum."""
    out = []
    for line, k in ((scores[y], x), (scores[:, x], y)):
        if 0 < k < len(line) - 1:
            a, b, c = line[k - 1], line[k], line[k + 1]
            bend = a - 2 * b + c
            out.append(float(np.clip((a - c) / (2 * bend), -0.5, 0.5)) if bend < -1e-9 else 0.0)
        else:
            out.append(0.0)
    return out[0], out[1]
