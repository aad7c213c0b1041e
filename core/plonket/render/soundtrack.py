"""The sound of a finished shot: the clip's own, as loud as the document says at every moment."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
from scipy.signal import resample_poly

from plonket.base.conventions import F64
from plonket.base.fields import value_at
from plonket.document.shot import Shot
from plonket.media.loudness import loudness_of, peak_of
from plonket.media.sound import Sound
from plonket.media.stretch import run_along

HIGHEST_PEAK = -1.0
"""dB below full scale that coding needs."""


def soundtrack(shot: Shot, sound: Sound | None, start: int, stop: int) -> Sound | None:
    """The sound of frames start..stop-1 of a shot; None where there is none, or it is left out.

    `sound` is the whole clip's. What is brought to a loudness is made no louder than its peaks allow.
    """
    if sound is None or shot.footage is None or shot.sound.muted or not shot.delivery.sound:
        return None
    rate = shot.footage.fps
    piece = heard(shot, sound, start, stop)
    gains = gains_of(shot, start, stop)
    if (gains != 1).any():
        # From frame to frame it changes evenly, so that nothing clicks.
        at = np.arange(len(piece.samples)) * float(rate) / piece.rate
        piece = _louder(piece, np.interp(at, np.arange(stop - start + 1), gains)[:, None])
    return levelled(piece, shot.sound.level)


def heard(shot: Shot, sound: Sound, start: int, stop: int) -> Sound:
    """The clip's sound as frames start..stop-1 of the shot run, as loud as it was recorded."""
    footage = shot.footage
    assert footage is not None
    kept = shot.sound.pitch == "kept"
    if footage.time is None and (not kept or footage.fps == footage.filmed_fps):
        by = footage.filmed_fps / footage.fps
        return drawn_out(sound.cut(start, stop, footage.filmed_fps), by, (stop - start) / footage.fps)
    edges = np.array([round(Fraction(f) / footage.fps * sound.rate) for f in range(start, stop + 1)])
    begins = np.array([footage.moment(f) for f in range(start, stop)])
    # Up to the next frame, unless the clip jumps there; then as fast as before.
    ends = np.array([footage.moment_left(f + 1) for f in range(start, stop)])
    per_frame = float(sound.rate / footage.filmed_fps)
    samples = run_along(sound.samples, begins * per_frame, ends * per_frame, np.diff(edges), keep_pitch=kept)
    return Sound(samples=samples, rate=sound.rate)


def drawn_out(sound: Sound, by: Fraction, seconds: Fraction) -> Sound:
    """The sound so many times as long, lower by as much, as a slowed tape; exactly `seconds` long."""
    if by == 1:
        return sound
    ratio = by.limit_denominator(1000)
    longer = resample_poly(sound.samples.astype(np.float64), ratio.numerator, ratio.denominator, axis=0)
    length = round(seconds * sound.rate)
    out = np.zeros((length, 2))
    out[: min(length, len(longer))] = longer[:length]
    return Sound(samples=np.clip(np.round(out), -32768, 32767).astype(np.int16), rate=sound.rate)


def levelled(sound: Sound, level: str) -> Sound:
    """The sound brought to a loudness in LUFS, or as it is."""
    measured = loudness_of(sound) if level != "as it is" else None
    if measured is None:
        return sound
    by = min(float(level) - measured, HIGHEST_PEAK - peak_of(sound))
    return _louder(sound, np.float64(10 ** (by / 20)))


def gains_of(shot: Shot, start: int, stop: int) -> F64:
    """(stop - start + 1,) how loud the sound is at the beginning of every frame, and at the end of the last; 1 is as it is."""
    assert shot.footage is not None
    first, last = shot.footage.in_frame, shot.footage.out_frame + 1
    frames = np.arange(start, stop + 1)
    gains = np.array([max(value_at(shot.sound.volume, float(f)) / 100, 0.0) for f in frames])
    if shot.sound.fade_in:
        gains *= np.clip((frames - first) / shot.sound.fade_in, 0, 1)
    if shot.sound.fade_out:
        gains *= np.clip((last - frames) / shot.sound.fade_out, 0, 1)
    return gains


def _louder(sound: Sound, gain: F64 | np.float64) -> Sound:
    return Sound(samples=np.clip(np.round(sound.samples * gain), -32768, 32767).astype(np.int16), rate=sound.rate)
