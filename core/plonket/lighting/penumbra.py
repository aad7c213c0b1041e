"""How wide the main light is, told by how softly the shadows of known things end.

A shadow's edge is as wide as the light looks from there: it grows with the way from what throws it. Profiles across the edge
of the shadow
that is thrown are laid on each other where they cross the middle, so that it need not lie quite where the real one does.
"""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from plonket.base.conventions import F32, F64
from plonket.lighting.cast_shadows import telling
from plonket.lighting.ground_view import Caster, GroundView
from plonket.room.camera import RoomCamera

REACH = 24
"""Cells on either side of an edge that are looked at."""
ALONG = 31
"""Profiles side by side that are averaged before the edge is looked for."""
TRIED_DEG = 0.3 * 1.35 ** np.arange(16)
SHARP_PX = 2.6
"""How wide the edge of a hard light looks in a picture."""
SHARP_CELLS = 1.6
SHIFT_CELLS = 12
"""Cells by which the real edge may lie beside the one that is thrown."""
STEP_CELLS = 7
"""Cells on either side of an edge whose brightness tells where it is."""
JUMP = 0.25
"""What a step of one cell from one place of an edge to the next costs, in logarithms of light."""
JUMPS = 2.0
"""The same as a multiple of how much the ground's own pattern changes."""
END_CELLS = 2
LEAST_PROFILES = 5


def softness(
    view: GroundView, caster: Caster, shadow: F32, way: F64, camera: RoomCamera, frames: Sequence[int], scale: float
) -> float | None:
    """Half angle of the light in degrees; None where no edge tells.

    Parameters
    ----------
    shadow : (h, w) of the view, 1 where the ground lies in the shadow of a hard light. way : (3,) towards the light.
    frames : those that the view was made of, `scale` times
        the size of the clip's.
    """
    weights = telling(view, shadow)
    edges = _edges(view, shadow)
    if edges is None or weights is None:
        return None
    places, normals, runs = edges
    tone = np.asarray(np.log(np.maximum(view.light, 1e-3)) @ weights.astype(np.float32), np.float32)
    offsets = np.arange(-REACH, REACH + 1)
    at = places[:, None] + offsets[None, :, None] * normals[:, None]
    maps = at.astype(np.float32)
    lines = cv2.remap(tone, maps[..., 0], maps[..., 1], cv2.INTER_LINEAR)
    held = cv2.remap((view.seen > 0).astype(np.float32), maps[..., 0], maps[..., 1], cv2.INTER_LINEAR) > 0.99
    # How wide an edge a light of one degree would draw there, in cells.
    unit = _unit_width(view, caster, places, normals, way)
    sharp = _sharpness(view, places, normals, camera, frames, scale)
    costs = np.zeros(len(TRIED_DEG))
    count = 0
    start = 0
    for length in runs:
        run = slice(start, start + length)
        start += length
        shifts = _followed(lines[run], held[run])
        for k in range(0, length - ALONG + 1, ALONG // 2):
            part = slice(run.start + k, run.start + k + ALONG)
            ones = unit[part][unit[part] > 0]
            if len(ones) < ALONG // 2:
                continue
            columns = np.arange(2 * REACH + 1)[None, :] + shifts[k : k + ALONG, None]
            inside = (columns >= 0) & (columns <= 2 * REACH)
            columns = np.clip(columns, 0, 2 * REACH)
            weight = (np.take_along_axis(held[part], columns, axis=1) & inside).astype(np.float64)
            known = weight.mean(axis=0) > 0.5
            if known.sum() < REACH:
                continue
            moved = np.take_along_axis(lines[part], columns, axis=1)
            line = (moved * weight).sum(axis=0) / np.maximum(weight.sum(axis=0), 1e-9)
            spread, blur = float(np.median(ones)), float(np.median(sharp[part]))
            cost = _costs(line[known], offsets[known].astype(np.float64), spread, blur)
            if cost is not None:
                costs += cost
                count += 1
    if count < LEAST_PROFILES:
        return None
    best = int(np.argmin(costs))
    if not 0 < best < len(costs) - 1:
        return float(TRIED_DEG[best])
    # Between what was tried, by the parabola through the best and its neighbours.
    low, mid, high = costs[best - 1 : best + 2]
    shift = 0.5 * (low - high) / max(low - 2 * mid + high, 1e-12)
    step = np.log(TRIED_DEG[best + 1] / TRIED_DEG[best])
    return float(TRIED_DEG[best] * np.exp(np.clip(shift, -0.5, 0.5) * step))


def _edges(view: GroundView, shadow: F32) -> tuple[F64, F64, list[int]] | None:
    """Places (n, 2) along the shadow's edge in cells, unit normals (n, 2) out of the shadow, and how long each run is."""
    outlines, _ = cv2.findContours((shadow > 0.5).astype(np.uint8), cv2.RETR_LIST, cv2.CHAIN_APPROX_NONE)
    places = [one[:, 0].astype(np.float64) for one in outlines if len(one) > 3 * ALONG]
    if not places:
        return None
    soft = cv2.GaussianBlur(shadow, (0, 0), 3.0)
    gx, gy = cv2.Sobel(soft, cv2.CV_32F, 1, 0), cv2.Sobel(soft, cv2.CV_32F, 0, 1)
    at = np.concatenate(places)
    x, y = at.astype(int).T
    normals = -np.stack([gx[y, x], gy[y, x]], axis=1).astype(np.float64)
    length = np.linalg.norm(normals, axis=1)
    on = length > 1e-4
    runs = [int(part.sum()) for part in np.split(on, np.cumsum([len(one) for one in places])[:-1])]
    return at[on], normals[on] / length[on, None], runs


def _sharpness(
    view: GroundView, places: F64, normals: F64, camera: RoomCamera, frames: Sequence[int], scale: float
) -> F64:
    """(n,) cells over which the pictures spread an edge that is sharp."""

    def world(cells: F64) -> F64:
        flat = cells * view.cell + np.array(view.corner)
        return np.column_stack([flat[:, 0], np.zeros(len(flat)), flat[:, 1]])

    here, beside = world(places), world(places + normals)
    one = [np.linalg.norm(camera.project(f, beside) - camera.project(f, here), axis=1) for f in frames]
    a_cell = np.nan_to_num(np.nanmedian(np.array(one), axis=0), nan=1.0) * scale
    return np.asarray(np.hypot(SHARP_PX / np.maximum(a_cell, 0.05), SHARP_CELLS))


def _unit_width(view: GroundView, caster: Caster, places: F64, normals: F64, way: F64) -> F64:
    """(n,) cells over which the edge spreads for a light of one degree to either side; 0 where what throws it is not known."""
    tri = np.maximum(caster.triangles, [-np.inf, 0.0, -np.inf])
    part = np.linspace(0, 1, 7)[:, None]
    sides = [a[None] * (1 - part) + b[None] * part for t in tri for a, b in zip(t, np.roll(t, 1, axis=0), strict=True)]
    sides += [np.column_stack([np.full(7, p[0]), part[:, 0] * p[1], np.full(7, p[2])]) for t in tri for p in t]
    every = np.concatenate(sides).reshape(-1, 3)
    landed = view.cells(every - np.maximum(every[:, 1], 0)[:, None] / max(float(way[1]), 0.02) * way)
    gap, which = cKDTree(landed).query(places)
    along = every[which, 1] / max(float(way[1]), 0.02) / view.cell
    flat = way[[0, 2]] / max(float(np.linalg.norm(way[[0, 2]])), 1e-9)
    run = np.abs(normals @ flat)
    stretch = np.sqrt(1 - run**2 + (run / max(float(way[1]), 0.05)) ** 2)
    return np.asarray(np.where(gap < 4, 2 * along * np.tan(np.radians(1.0)) * stretch, 0))


def _followed(lines: F32, held: NDArray[np.bool_]) -> NDArray[np.int_]:
    """(n,) how many cells beyond each place of a run (n, k) the edge really lies: the steepest way along it that goes on
    without jumps."""
    n = len(lines)
    shifts = np.arange(-SHIFT_CELLS, SHIFT_CELLS + 1)
    sums = np.concatenate([np.zeros((n, 1)), np.cumsum(lines * held, axis=1)], axis=1)
    counts = np.concatenate([np.zeros((n, 1)), np.cumsum(held, axis=1)], axis=1)
    middle = REACH + shifts

    def mean(low: NDArray[np.int_], high: NDArray[np.int_]) -> tuple[F64, F64]:
        c = counts[:, high] - counts[:, low]
        return (sums[:, high] - sums[:, low]) / np.maximum(c, 1), c
    outer, there = mean(middle + 1, middle + 1 + STEP_CELLS)
    inner, here = mean(middle - STEP_CELLS, middle)
    gain = np.where((there > STEP_CELLS // 2) & (here > STEP_CELLS // 2), outer - inner, 0.0)
    best = gain[0].copy()
    came = np.zeros((n, len(shifts)), int)
    grit = float(np.std(gain[gain != 0])) if (gain != 0).any() else 0.0
    price = max(JUMP, JUMPS * grit) * np.abs(shifts[:, None] - shifts[None, :])
    for k in range(1, n):
        ways = best[None, :] - price
        came[k] = ways.argmax(axis=1)
        best = ways.max(axis=1) + gain[k]
    out = np.zeros(n, int)
    at = int(best.argmax())
    for k in range(n - 1, -1, -1):
        out[k] = shifts[at]
        at = int(came[k, at])
    return out


def _costs(line: F64, offsets: F64, unit: float, sharp: float) -> F64 | None:
    """(tried,) share of a profile's spread that a ramp as wide as each light would draw leaves over; None: no step is there.

    Parameters
    ----------
    line : (k,) tone at `offsets` cells out of the shadow. unit : cells that a light of one degree spreads over.
    """
    about = line - line.mean()
    power = float(about @ about)
    if power < 1e-6:
        return None
    widths = np.sqrt((TRIED_DEG * unit) ** 2 + sharp**2)
    shifts = np.arange(-END_CELLS, END_CELLS + 0.5, 0.5)
    ramps = np.clip((offsets - shifts[None, :, None]) / widths[:, None, None] + 0.5, 0, 1)
    ramps -= ramps.mean(axis=2, keepdims=True)
    taken = 2 * (ramps @ about) - (ramps**2).sum(axis=2)
    best = taken.max(axis=1)
    return None if best.max() < 0.4 * power else np.asarray(1 - best / power)
