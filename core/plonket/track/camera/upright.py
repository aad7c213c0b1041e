"""Which way is up in a solved set: by how the camera was held, and by lines of walls, shelves and posts over the whole clip."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64, U8

LOOKS = 8
"""Frames whose lines are looked at."""
WIDTH = 960
SHORTEST = 0.035
"""Of lines, as a share of the picture's shorter side."""
MOST_LINES = 900
WITHIN_DEG = 1.0
"""How far a line may lie beside the direction it is taken to run in."""
PITCH_DEG, ROLL_DEG = 24.0, 3.0
"""SD of how a camera in a hand leans: up or down, and sideways."""
PITCHES, ROLLS = np.arange(-66.0, 66.1, 1.5), np.arange(-9.0, 9.1, 1.5)
HEADINGS = np.arange(0.0, 90.0, 2.0)
ENOUGH = 0.18
"""Share of all lines that must run upright or level, beyond what chance makes of them, for lines to tell."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Upright:
    """The upright (3,) in the world of the poses, and how sure: 0 as the camera was held, 1 as many lines say."""

    up: F64
    sure: float


def upright(luma: Callable[[int], U8], frames: NDArray[np.int64], rotation: F64, focal: F64) -> Upright:
    """The upright of a set.

    Parameters
    ----------
    luma : frame -> 8-bit (h, w). frames : (n,) their numbers. rotation : (n, 3, 3) local-to-world (x right, y up, z back).
    focal : (n,) pixels.

    Lines of a built set run in three directions, square to each other, one of them upright (J. Coughlan and A. Yuille,
    1999, doi:10.1109/ICCV.1999.790349): of all uprights that a hand may hold the camera to, the one is taken that most of
    them agree with.
    """
    held, right = _held(rotation)
    normals, weights = _lines(luma, frames, rotation, focal)
    if len(normals) < 20:
        return Upright(up=held, sure=0.0)
    best, share = _best(normals, weights, held, right)
    for span in (1.0, 0.4, 0.15):
        best, share = _refined(normals, weights, best, span, held, right)
    sure = float(np.clip((share - ENOUGH) / ENOUGH, 0, 1))
    return Upright(up=best if sure > 0 else held, sure=sure)


def _held(rotation: F64) -> tuple[F64, F64]:
    """The upright by how the camera was held, and what is to its right."""
    up = rotation[:, :, 1].mean(axis=0)
    right = rotation[:, :, 0]
    _, spread, axes = np.linalg.svd(right, full_matrices=True)
    # What a hand holds leans little sideways: upright is what no camera's right points along.
    if len(spread) == 3 and spread[2] < 0.2 * spread[1] and spread[1] > 0.17 * spread[0]:
        up = axes[2] * np.sign(axes[2] @ up)
    up = up / np.linalg.norm(up)
    across = right.mean(axis=0)
    across = across - up * (across @ up)
    return up, across / np.linalg.norm(across)


def _lines(luma: Callable[[int], U8], frames: NDArray[np.int64], rotation: F64, focal: F64) -> tuple[F64, F64]:
    """Normals (k, 3) in the world of the planes through the camera and each straight line it sees, and their lengths (k,)."""
    finder = cv2.createLineSegmentDetector()
    normals, weights = [], []
    for k in np.unique(np.linspace(0, len(frames) - 1, LOOKS).round().astype(int)):
        grey = luma(int(frames[k]))
        scale = min(1.0, WIDTH / max(grey.shape))
        size = (round(grey.shape[1] * scale), round(grey.shape[0] * scale))
        small = np.asarray(cv2.resize(grey, size, interpolation=cv2.INTER_AREA))
        found = finder.detect(small)[0]
        if found is None:
            continue
        ends = found.reshape(-1, 2, 2).astype(np.float64) + 0.5
        length = np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1)
        kept = np.flatnonzero(length > SHORTEST * min(size))
        kept = kept[np.argsort(-length[kept])][: MOST_LINES // LOOKS]
        middle = np.array(size) / 2
        rays = np.dstack([(ends[kept] - middle) / (focal[k] * scale), np.ones((len(kept), 2))]) * np.array([1, -1, -1])
        normal = np.cross(rays[:, 0], rays[:, 1]) @ rotation[k].T
        normals.append(normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12))
        weights.append(np.sqrt(length[kept]))
    if not normals:
        return np.zeros((0, 3)), np.zeros(0)
    return np.concatenate(normals), np.concatenate(weights)


def _turned(up: F64, right: F64, pitch_deg: F64, roll_deg: F64) -> F64:
    """(k, 3) uprights leant from the one that is held: about the camera's right, and about what it looks at."""
    ahead = np.cross(up, right)
    p, r = np.radians(pitch_deg), np.radians(roll_deg)
    leant = np.cos(p)[:, None] * up + np.sin(p)[:, None] * ahead
    return np.asarray(np.cos(r)[:, None] * leant + np.sin(r)[:, None] * right)


def _agreeing(normals: F64, weights: F64, ups: F64) -> F64:
    """(k,) for each upright how much of all lines runs along it or level in the best pair of headings."""
    width = np.sin(np.radians(WITHIN_DEG))
    total = weights.sum()
    angles = np.radians(HEADINGS)
    out = np.zeros(len(ups))
    for k, up in enumerate(ups):
        a = np.cross(up, [0.0, 0.0, 1.0] if abs(up[2]) < 0.9 else [1.0, 0.0, 0.0])
        a = a / np.linalg.norm(a)
        b = np.cross(up, a)
        level = np.concatenate([np.cos(angles)[:, None] * a + np.sin(angles)[:, None] * b,
                                -np.sin(angles)[:, None] * a + np.cos(angles)[:, None] * b])  # fmt: skip
        along = np.maximum(1 - (normals @ np.vstack([level, up]).T / width) ** 2, 0)
        n = len(angles)
        # A line counts once: where it fits best.
        upright_ = along[:, -1:]
        pairs = np.maximum(np.maximum(along[:, :n], along[:, n : 2 * n]), upright_)
        out[k] = (weights @ pairs).max() / total
    return out


def _prior(ups: F64, held: F64, right: F64) -> F64:
    ahead = np.cross(held, right)
    roll = np.degrees(np.arcsin(np.clip(ups @ right, -1, 1)))
    pitch = np.degrees(np.arctan2(ups @ ahead, ups @ held))
    return np.asarray(np.exp(-((roll / ROLL_DEG) ** 2 + (pitch / PITCH_DEG) ** 2) / 2))


def _best(normals: F64, weights: F64, held: F64, right: F64) -> tuple[F64, float]:
    pitch, roll = (grid.ravel() for grid in np.meshgrid(PITCHES, ROLLS))
    ups = _turned(held, right, pitch, roll)
    share = _agreeing(normals, weights, ups)
    # Whatever is taken for upright, some lines agree by chance: what counts is how many more do.
    beyond = np.maximum(share - np.median(share), 0)
    k = int(np.argmax(beyond * (0.25 + _prior(ups, held, right))))
    return ups[k], float(beyond[k])


def _refined(normals: F64, weights: F64, up: F64, span_deg: float, held: F64, right: F64) -> tuple[F64, float]:
    """The best upright near one, and its share of lines beyond what chance makes."""
    across = right - up * (right @ up)
    across = across / np.linalg.norm(across)
    steps = np.linspace(-span_deg, span_deg, 7)
    pitch, roll = (grid.ravel() for grid in np.meshgrid(steps, steps))
    ups = _turned(up, across, pitch, roll)
    share = _agreeing(normals, weights, ups)
    aside = _agreeing(normals, weights, _turned(held, right, PITCHES[::6], np.full(len(PITCHES[::6]), 6.0)))
    k = int(np.argmax(share * (0.5 + _prior(ups, held, right))))
    return ups[k] / np.linalg.norm(ups[k]), float(share[k] - np.median(aside))
