"""Frame times: from what a phone stored to one constant rate."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from plonket.base.conventions import F64
from plonket.base.errors import MediaError

STANDARD_RATES = [
    Fraction(24000, 1001),
    *(Fraction(r) for r in (10, 12, 15, 24, 25)),
    Fraction(30000, 1001),
    *(Fraction(r) for r in (30, 48, 50)),
    Fraction(60000, 1001),
    *(Fraction(r) for r in (60, 90, 100, 120, 240)),
]
UNEVEN_S = 0.0006
"""Frame times further than this from an even grid make a clip variable (half a clock tick is less)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class TimeMap:
    """Which stored frame each conformed frame shows.

    Attributes
    ----------
    rate : the constant rate. start : time of conformed frame 0 in the stored time line, seconds.
    source : for each conformed frame the index of the stored frame nearest in time.
    variable : whether stored times are uneven.
    """

    rate: Fraction
    start: Fraction
    source: tuple[int, ...]
    variable: bool


MOST_FRAMES = 250_000
"""An hour at 60 frames a second, and some."""
LONGEST_GAP_S = 300
"""A frame that is held for longer than this has a damaged time stamp after it."""
FASTEST = 2000
"""Frames a second beyond which time stamps mean something else."""


def conform_times(times: list[Fraction], stated: Fraction | None, name: str = "The clip") -> TimeMap:
    """Choose a constant rate for presentation times and map frames to it.

    Parameters
    ----------
    times : sorted presentation times in seconds, one per stored frame.
    stated : the average rate the container states, used when the times agree with it.
    name : of the clip, for what is said of it.

    Raises
    ------
    MediaError
        When the times would make far more frames than are stored: one held for minutes, or more than `MOST_FRAMES`.

    Notes
    -----
    The rate is the stated one if stored times lie on its grid, else the standard rate within 1 %
    of the measured one, else the measured one itself. Each conformed frame shows the stored frame
    nearest in time, so dropped frames are held and doubled ones skipped.
    """
    n = len(times)
    _check_times(times, name)
    if n == 1:
        return TimeMap(rate=stated or Fraction(25), start=times[0], source=(0,), variable=False)
    span = times[-1] - times[0]
    if span <= 0:
        rate = stated or Fraction(25)
        return TimeMap(rate=rate, start=times[0], source=tuple(range(n)), variable=True)
    seconds = np.array([float(t - times[0]) for t in times])
    if stated and _on_grid(seconds, stated):
        return TimeMap(rate=stated, start=times[0], source=tuple(range(n)), variable=False)
    measured = _measured_rate(seconds)
    if not 0 < measured <= FASTEST:
        raise _too_many(name, float(seconds[-1]), measured)
    near = min(STANDARD_RATES, key=lambda r: abs(float(r) / measured - 1))
    rate = near if abs(float(near) / measured - 1) < 0.01 else Fraction(measured).limit_denominator(1001)
    if _on_grid(seconds, rate):
        return TimeMap(rate=rate, start=times[0], source=tuple(range(n)), variable=False)
    # The grid's phase is the median offset, so that jitter on the first frame shifts nothing.
    offset = float(np.median(seconds - np.round(seconds * float(rate)) / float(rate)))
    if (seconds[-1] - offset) * float(rate) >= MOST_FRAMES:
        raise _too_many(name, float(seconds[-1]), float(rate))
    count = int(round((seconds[-1] - offset) * float(rate))) + 1
    grid = np.arange(count) / float(rate) + offset
    right = np.clip(np.searchsorted(seconds, grid), 1, n - 1)
    source = np.where(grid - seconds[right - 1] <= seconds[right] - grid, right - 1, right)
    start = times[0] + Fraction(offset).limit_denominator(90000)
    return TimeMap(rate=rate, start=start, source=tuple(int(s) for s in source), variable=True)


def _check_times(times: list[Fraction], name: str) -> None:
    if len(times) > MOST_FRAMES:
        raise MediaError("media.frames", f"{name} has {len(times)} frames; up to {MOST_FRAMES} can be used. Cut it first.")
    for k, (before, after) in enumerate(zip(times[:-1], times[1:], strict=True)):
        if after - before > LONGEST_GAP_S:
            raise MediaError(
                "media.gap",
                f"{name} shows nothing new for {_spoken(float(after - before))} after frame {k}: its time stamps are damaged."
                " Export it again, or cut that piece off.",
            )


def _too_many(name: str, seconds: float, rate: float) -> MediaError:
    return MediaError(
        "media.frames",
        f"{name} would have {seconds * rate:.3g} frames, {_spoken(seconds)} at {rate:.6g} a second: its time stamps are"
        f" damaged, or it is too long. Up to {MOST_FRAMES} frames can be used.",
    )


def _spoken(seconds: float) -> str:
    if seconds < 3600:
        return f"{seconds / 60:.3g} minutes" if seconds >= 60 else f"{seconds:.3g} s"
    return f"{seconds / 3600:.3g} hours" if seconds < 86400 else f"{seconds / 86400:.3g} days"


def _measured_rate(seconds: F64) -> float:
    """Frames per second, not misled by dropped frames: gaps are counted in whole frames first."""
    gaps = np.diff(seconds)
    usual = float(np.median(gaps[gaps > 0])) if (gaps > 0).any() else 0.04
    index = np.concatenate([[0], np.cumsum(np.maximum(np.round(gaps / usual), 0))])
    if index[-1] == 0:
        return 1 / usual
    return float(np.polyfit(seconds, index, 1)[0]) if len(seconds) > 2 else float(index[-1] / seconds[-1])


def _on_grid(seconds: F64, rate: Fraction) -> bool:
    grid = np.arange(len(seconds)) / float(rate)
    # Containers with millisecond clocks round; half a millisecond on either side is still even.
    return bool(np.abs(seconds - grid).max() <= UNEVEN_S)
