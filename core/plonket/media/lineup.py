"""Two recordings of the same thing lined up: by their sound, or by how their pictures change."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np

from plonket.base.conventions import F64, U8
from plonket.base.errors import BadInput
from plonket.base.progress import Work
from plonket.media.sound import Sound

HOP_S = 0.005
"""Sound is first compared by its onsets, this finely."""
SURE = 5.0
"""How many SDs the best place must stand out from all others."""
QUITE_SURE, CERTAIN = 8.0, 12.0
"""From where on it says so."""
THUMB = (24, 14)


@dataclass(frozen=True, slots=True, kw_only=True)
class LinedUp:
    """`frames` later than the first recording the second one's frame 0 lies; `sure`: how far the place stands out, in SDs."""

    frames: float
    sure: float

    @property
    def says(self) -> str:
        """How sure it is, in words."""
        return "certain" if self.sure >= CERTAIN else "quite sure" if self.sure >= QUITE_SURE else "not very sure: look at it"


def line_up_sound(first: Sound, second: Sound, rate: float) -> LinedUp:
    """Where the second recording begins in the first, by sound, to a fraction of a frame.

    Raises `BadInput` when nothing in them is alike.
    """
    shift, sure = _best(_onsets(first), _onsets(second))
    if sure < SURE:
        raise BadInput("lineup.sound", "Nothing in the sound of the two is alike. Try to line them up by the picture.")
    return LinedUp(frames=shift * HOP_S * rate, sure=sure)


def line_up_pictures(
    first: Callable[[int], U8], frames_first: int, second: Callable[[int], U8], frames_second: int, *, ratio: float = 1.0,
    work: Work | None = None,
) -> LinedUp:  # fmt: skip
    """The same by the picture: how each changes from frame to frame, place by place.

    `ratio` is the second's rate by the first's.
    """
    work = work or Work()
    others = int(frames_second / ratio)
    a = _changes(first, frames_first, 1.0, work, 0, frames_first + others)
    b = _changes(second, others, ratio, work, frames_first, frames_first + others)
    shift, sure = _best(a, b)
    if sure < SURE:
        raise BadInput("lineup.picture", "The two pictures do not change alike anywhere.")
    return LinedUp(frames=shift, sure=sure)


def _onsets(sound: Sound) -> F64:
    """(n, 1) how much louder it gets, every `HOP_S`: the same whatever microphone it was."""
    hop = max(1, round(sound.rate * HOP_S))
    mono = sound.samples.astype(np.float64).mean(axis=1)
    n = len(mono) // hop
    if n < 40:
        raise BadInput("lineup.short", "The sound is too short to line anything up by.")
    power = (mono[: n * hop].reshape(n, hop) ** 2).mean(axis=1)
    level = np.log(power + np.median(power) * 0.1 + 1.0)
    return np.maximum(np.diff(level, prepend=level[0]), 0)[:, None]


def _changes(rgb: Callable[[int], U8], frames: int, ratio: float, work: Work, done: int, total: int) -> F64:
    """(n, k) what changes between frames in a picture of few pixels, in units of what each of them usually changes."""
    thumbs = []
    for i in range(frames):
        work.check_cancelled()
        grey = cv2.cvtColor(rgb(int(i * ratio)), cv2.COLOR_RGB2GRAY)
        thumbs.append(cv2.resize(grey, THUMB, interpolation=cv2.INTER_AREA).astype(np.float64).ravel())
        work.progress(done + i + 1, total)
    change = np.diff(np.array(thumbs), axis=0, prepend=np.array(thumbs[:1]))
    return np.asarray(change / (change.std(axis=0) + 1.0))


def _best(a: F64, b: F64) -> tuple[float, float]:
    """The shift of `b` (m, k) in `a` (n, k) where they agree best, and how far that stands out."""
    n = 1 << int(np.ceil(np.log2(len(a) + len(b))))
    fa, fb = (np.fft.rfft(v - v.mean(axis=0), n, axis=0) for v in (a, b))
    score = np.fft.irfft(fa * np.conj(fb), n, axis=0).sum(axis=1)
    shifts = np.arange(n)
    shifts[shifts > n // 2] -= n
    # A tenth of the shorter one must lie over the other, or chance decides.
    least = max(4, min(len(a), len(b)) // 10)
    over = np.minimum(len(a), shifts + len(b)) - np.maximum(0, shifts)
    score = np.where(over >= least, score / np.sqrt(np.maximum(over, least)), -np.inf)
    k = int(np.argmax(score))
    ok = np.isfinite(score)
    rest = score[ok & (np.abs(shifts - shifts[k]) > 3)]
    sure = float((score[k] - rest.mean()) / max(float(rest.std()), 1e-9)) if len(rest) > 10 else 0.0
    left, right = score[(k - 1) % n], score[(k + 1) % n]
    bend = left - 2 * score[k] + right
    part = 0.5 * (left - right) / bend if np.isfinite(bend) and bend < -1e-12 else 0.0
    return float(shifts[k] + np.clip(part, -0.5, 0.5)), sure
