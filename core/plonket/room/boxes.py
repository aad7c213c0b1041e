"""A box on the ground round points of a room."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from plonket.base.conventions import F64
from plonket.base.errors import Degenerate

STEPS = 180
"""Headings that are tried over a quarter turn, before the best is narrowed down."""
TIGHT = 0.05
"""How much a smaller footprint counts against how near the points lie to the box's surface."""
THIN = 0.15
"""A footprint this much narrower than long comes from one side alone: how deep the thing is was not seen."""


class Boxed(NamedTuple):
    """A box that stands on the ground: its foot's middle (3,), the heading in degrees of a spot there, and its size in metres
    (wide, tall, deep)."""

    foot: F64
    heading: float
    size: F64


def box_round(points: F64, eye: F64) -> Boxed:
    """The box on the ground y = 0 on whose seen sides the points lie best, as small as it can be while holding all.

    Parameters
    ----------
    points : (n >= 3, 3) metres in the room, on the thing's sides or top. eye : (3,) a camera's place: the box's front is the
        side that faces it most. Where only one side has points, the box goes back from it, as deep as it is wide.

    Raises
    ------
    Degenerate
        Fewer than three points, all on the ground or below it, or all above each other.

    Notes
    -----
    The smallest box alone would turn with the few outermost points: details seldom reach a thing's edges. That most of
    them lie flat on its sides says how it is turned.
    """
    if len(points) < 3:
        raise Degenerate("room.box", "A box needs three details or more on the thing's sides or top.")
    flat = points[:, [0, 2]]
    reach = float(np.ptp(flat, axis=0).max())
    tall = float(points[:, 1].max())
    if tall <= 0.01 * max(reach, 1e-9):
        raise Degenerate("room.box", "These details lie on the ground or below it. Pick some on the thing's sides or top.")
    if reach < 1e-3 * tall:
        raise Degenerate("room.box", "These details lie above each other: how wide the thing is cannot be told from them.")
    heading = _narrowed(points, eye, np.linspace(0, np.pi / 2, STEPS, endpoint=False), np.pi / 2 / STEPS)
    middle = flat.mean(axis=0)
    to_eye = np.array([eye[0], eye[2]]) - middle
    # Of the four ways that the box may be said to face, the one towards the camera.
    turns = heading + np.arange(4) * (np.pi / 2)
    heading = float(turns[np.argmax(np.stack([np.sin(turns), np.cos(turns)], axis=1) @ to_eye)])
    right, front = _axes(heading)
    low, high = (np.array([f(flat @ right), f(flat @ front)]) for f in (np.min, np.max))
    wide, deep = high - low
    if deep < THIN * wide:
        low[1], deep = high[1] - wide, wide
    elif wide < THIN * deep:
        # A side that is seen from its end: the thing lies behind it, away from the camera.
        if to_eye @ right > 0:
            low[0] = high[0] - deep
        else:
            high[0] = low[0] + deep
        wide = deep
    along, back = (low + high) / 2
    at = along * right + back * front
    degrees = (np.degrees(heading) + 180) % 360 - 180
    return Boxed(np.array([at[0], 0.0, at[1]]), float(degrees), np.array([wide, tall, deep]))


def _axes(heading: float) -> tuple[F64, F64]:
    """Right and front (2,) on the ground, as (x, z), of a spot that is turned so."""
    c, s = np.cos(heading), np.sin(heading)
    return np.array([c, -s]), np.array([s, c])


def _narrowed(points: F64, eye: F64, tried: F64, step: float) -> float:
    """The heading in radians that fits best, of those tried and then of finer ones beside it."""
    flat = points[:, [0, 2]]
    below = points[:, 1].max() - points[:, 1]
    while step > 1e-6:
        beside = below[:, None]
        area = np.ones(len(tried))
        for turned in (tried, tried + np.pi / 2):
            way = np.stack([np.sin(turned), np.cos(turned)])
            at, from_eye = flat @ way, np.array([eye[0], eye[2]]) @ way
            low, high = at.min(axis=0), at.max(axis=0)
            # Details lie on what is seen: on the top, or on a side that faces the camera.
            beside = np.minimum(beside, np.where(from_eye > high, high - at, np.where(from_eye < low, at - low, np.inf)))
            area = area * (high - low)
        best = float(tried[np.argmin(beside.mean(axis=0) + TIGHT * np.sqrt(area))])
        tried = best + step * np.linspace(-1, 1, 41)
        step /= 20
    return best
