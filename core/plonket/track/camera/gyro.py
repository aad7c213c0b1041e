"""What a gyroscope says of the turning of a camera, laid on what the pictures say of it."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import permutations, product

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from plonket.base.conventions import F64
from plonket.media.gyroscope import Gyroscope

LEAST_PAIRS = 8
"""Neighbouring frames of which the pictures must know how the camera turned from one to the next."""
LEAST_TURN = np.radians(0.02)
"""By frame, root mean square: a camera that turns less gives nothing to compare."""
EXPLAINED = 0.8
"""Share of the seen turning that the gyroscope must explain."""
LATEST_S, LATE_STEP_S = 0.12, 0.004
"""Its clock may be off the picture's by so much."""
TIED = 0.02
"""Ways to lay its axes that explain the turning nearly as well are not told apart."""
TIED_APART = np.radians(0.3)
"""How far apart those may put the camera for it to be told all the same."""
CROOKED = np.radians(12)
"""What an axis may be off the picture's: sensors are soldered by hand, not by eye."""
BEYOND_S = 0.2
"""Seconds outside of its record over which its last rates are held."""

AXES = np.array([
    m for m in (np.eye(3)[list(p)] * np.array(s)[:, None] for p in permutations(range(3)) for s in product((1, -1), repeat=3))
    if np.linalg.det(m) > 0
])  # fmt: skip
"""(24, 3, 3) ways to lay the axes of a device on those of its picture."""


@dataclass(frozen=True, slots=True, kw_only=True)
class FittedGyroscope:
    """
    Attributes
    ----------
    bases : (ways, 3, 3) camera axes from the device's; more than one where the pictures do not tell which.
    bias : (ways, 3) radians a second, in camera axes. late : seconds by which the picture's clock is ahead.
    explained : share of the seen turning that it explains.
    """

    record: Gyroscope
    bases: F64
    bias: F64
    late: float
    explained: float

    def turned(self, a: int, b: int) -> F64 | None:
        """(3, 3) the camera at frame `a` from the camera at frame `b`, or None where that is not told."""
        times = self.record.times
        start, stop = (float(self.record.frame_times[k]) + self.late for k in (a, b))
        low, high = min(start, stop), max(start, stop)
        if low < times[0] - BEYOND_S or high > times[-1] + BEYOND_S:
            return None
        inside = times[(times > low) & (times < high)]
        at = np.concatenate([[low], inside, [high]])
        rates = np.stack([np.interp(at, times, self.record.rates[:, k]) for k in range(3)], axis=1)
        middle, span = (rates[1:] + rates[:-1]) / 2, np.diff(at)[:, None]
        found = []
        for basis, bias in zip(self.bases, self.bias, strict=True):
            turn = np.eye(3)
            for step in Rotation.from_rotvec((middle @ basis.T - bias) * span).as_matrix():
                turn = turn @ step
            found.append(turn if start <= stop else turn.T)
        if any(np.linalg.norm(Rotation.from_matrix(found[0].T @ one).as_rotvec()) > TIED_APART for one in found[1:]):
            return None
        return found[0]


def fit_gyroscope(record: Gyroscope, frames: NDArray[np.int64], turns: F64) -> FittedGyroscope | None:
    """Find how the device lies behind its picture, how late its clock is, and by how much it drifts.

    Parameters
    ----------
    frames : (k,) rising. turns : (k, 3, 3), world from camera, as the pictures tell it.

    Returns
    -------
    None where it does not fit what is seen, or too little is seen to say so.
    """
    pairs = np.flatnonzero(np.diff(frames) == 1)
    pairs = pairs[frames[pairs + 1] < len(record.frame_times)]
    if len(pairs) < LEAST_PAIRS:
        return None
    seen = Rotation.from_matrix(np.swapaxes(turns[pairs], 1, 2) @ turns[pairs + 1]).as_rotvec()
    begin, end = record.frame_times[frames[pairs]], record.frame_times[frames[pairs + 1]]
    if record.times[0] > begin[0] + BEYOND_S or record.times[-1] < end[-1] - BEYOND_S:
        return None
    span = (end - begin)[:, None]
    held = seen - span * (seen.sum(axis=0) / span.sum())
    total = float((held**2).sum())
    if np.sqrt(total / len(pairs)) < LEAST_TURN:
        return None
    step = np.diff(record.times)[:, None]
    whole = np.concatenate([np.zeros((1, 3)), np.cumsum((record.rates[1:] + record.rates[:-1]) / 2 * step, axis=0)])

    def recorded(late: float) -> F64:
        """(pairs, 3) radians from each frame to the next, about the device's axes."""
        return np.stack([np.interp(end + late, record.times, whole[:, k]) - np.interp(begin + late, record.times, whole[:, k])
                         for k in range(3)], axis=1)  # fmt: skip

    def steadied(late: float) -> F64:
        """The same less its mean rate: drift has no say."""
        out = recorded(late)
        return np.asarray(out - span * (out.sum(axis=0) / span.sum()))

    def explained(late: float) -> F64:
        """(24,) share of the seen turning that each way to lay the axes explains."""
        told_now = steadied(late)
        along = np.einsum("nij,ij->n", AXES, held.T @ told_now)
        return np.asarray((2 * along - (told_now**2).sum()) / total)

    lates = np.arange(-LATEST_S, LATEST_S + LATE_STEP_S / 2, LATE_STEP_S)
    best = np.array([explained(late).max() for late in lates])
    k = int(best.argmax())
    late = float(lates[k])
    if 0 < k < len(lates) - 1:
        bend = best[k - 1] - 2 * best[k] + best[k + 1]
        late += float(LATE_STEP_S * 0.5 * (best[k - 1] - best[k + 1]) / bend) if bend < 0 else 0.0
    shares = explained(late)
    if shares.max() < EXPLAINED:
        return None
    ways = np.flatnonzero(shares > shares.max() - TIED)
    bases = AXES[ways[np.argsort(-shares[ways], kind="stable")]]
    u, s, vt = np.linalg.svd(held.T @ steadied(late))
    straight = u @ np.diag([1, 1, np.sign(np.linalg.det(u @ vt))]) @ vt
    off = np.linalg.norm(Rotation.from_matrix(bases[0].T @ straight).as_rotvec())
    if len(bases) == 1 and s[1] > 0.02 * s[0] and off < CROOKED:
        bases = straight[None]
    bias = np.stack([((recorded(late) @ basis.T - seen).sum(axis=0) / span.sum()) for basis in bases])
    return FittedGyroscope(record=record, bases=bases, bias=bias, late=late, explained=float(shares.max()))
