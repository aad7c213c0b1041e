"""How a particle flies in a room, in closed form, and meets the ground."""

from __future__ import annotations

import numpy as np

from plonket.base.conventions import F64

BOUNCES, HALVINGS = 4, 26
SPRINGS, ROUGH = 0.45, 0.7
"""What is left of its speed upwards and along as one bounces."""


def flight(begins: F64, speed: F64, fall: F64, drag: F64, age: F64, lands: str) -> F64:
    """(n, 3) where particles are at an age (n,), the ground at nought.

    begins, speed : (n, 3) in the room, metres and metres a frame. fall, drag : (n,). lands : `no`, `bounces` or `lies`.
    """

    def gone(v: F64, a: F64) -> tuple[F64, F64]:
        return gone_by(v, fall, drag, a)

    at = begins + gone(speed, age)[0]
    if lands == "no":
        return at
    left, start, fast = age.copy(), begins.copy(), speed.copy()
    going = begins[:, 1] >= 0
    for _ in range(BOUNCES if lands == "bounces" else 1):
        hits = going & (at[:, 1] < 0)
        if not hits.any():
            return at
        # From above to below there is one moment at which it meets the ground: halved until it is found.
        low, high = _highest(fast[:, 1], fall, drag, left), left.copy()
        for _ in range(HALVINGS):
            middle = (low + high) / 2
            above = start[:, 1] + gone(fast, middle)[0][:, 1] > 0
            low, high = np.where(above, middle, low), np.where(above, high, middle)
        way, then = gone(fast, high)
        start = np.where(hits[:, None], start + way, start)
        start[hits, 1] = 0
        fast = np.where(hits[:, None], then * [ROUGH, -SPRINGS, ROUGH], fast)
        left = np.where(hits, left - high, left)
        if lands == "lies":
            fast[hits] = 0
        at = np.where(hits[:, None], start + gone(fast, left)[0], at)
        if lands == "lies":
            at[hits] = start[hits]
    at[going, 1] = np.maximum(at[going, 1], 0)
    return at


def gone_by(speed: F64, fall: F64, drag: F64, age: F64) -> tuple[F64, F64]:
    """How far (n, 3) what began with a speed (n, 3) has gone at an age (n,), and how fast (n, 3) it is then."""
    keeps = np.exp(-drag * age)
    slowed = (1 - keeps) / drag
    way, fast = speed * slowed[:, None], speed * keeps[:, None]
    way[:, 1] -= fall * (age - slowed) / drag
    fast[:, 1] -= fall * slowed
    return way, fast


def _highest(up: F64, fall: F64, drag: F64, most: F64) -> F64:
    """(n,) the age at which each is highest."""
    g = np.maximum(fall, 1e-12)
    return np.asarray(np.where(up > 0, np.clip(np.log1p(np.maximum(up, 0) * drag / g) / drag, 0, most), 0.0))
