"""The sound of a finished shot: the clip's own, what is laid under it, and that of clips in the stack."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray
from scipy.signal import resample_poly

from plonket.base.conventions import F64
from plonket.base.fields import value_at
from plonket.document.shot import Shot
from plonket.document.sound import LaidSound
from plonket.layers.common import PictureLayer, clip_moment
from plonket.media.loudness import loudness_of, peak_of
from plonket.media.sound import SOUND_RATE, Sound
from plonket.media.stretch import run_along

HIGHEST_PEAK = -1.0
"""dB below full scale that coding needs."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Recording:
    """The sound of something on the shelf: of a clip with its `rate` and `frames`, or of a file that is nothing but sound."""

    sound: Sound
    rate: Fraction = Fraction(1)
    frames: int = 1


RecordingOf = Callable[[str], Recording | None]
"""From the content hash of an asset to its sound; None: it has none."""


def soundtrack(shot: Shot, recording: RecordingOf, start: int, stop: int) -> Sound | None:
    """The sound of frames start..stop-1 of a shot; None where there is none, or it is left out.

    What is brought to a loudness is made no louder than its peaks allow.
    """
    if shot.footage is None or not shot.delivery.sound:
        return None
    rate = shot.footage.fps
    count = round(Fraction(stop - start) / rate * SOUND_RATE)
    parts = [*_own(shot, recording, start, stop), *others(shot, recording, start, stop)]
    if not parts:
        return None
    if len(parts) == 1 and len(parts[0].samples) == count:
        return levelled(parts[0], shot.sound.level)
    return levelled(mixed(parts, count), shot.sound.level)


def _own(shot: Shot, recording: RecordingOf, start: int, stop: int) -> Iterator[Sound]:
    """The clip's own sound, as loud as it is laid."""
    assert shot.footage is not None
    found = None if shot.sound.muted else recording(shot.footage.asset)
    if found is None:
        return
    piece = heard(shot, found.sound, start, stop)
    yield _along(piece, gains_of(shot, start, stop), float(shot.footage.fps))


def others(shot: Shot, recording: RecordingOf, start: int, stop: int) -> Iterator[Sound]:
    """What is laid under frames start..stop-1, and what clips in the stack let hear, each as loud as it is."""
    footage = shot.footage
    assert footage is not None
    fps = float(footage.fps)
    for laid in shot.sounds:
        found = recording(laid.asset)
        piece = None if found is None else _under(laid, found.sound, start, stop, fps)
        if piece is not None:
            yield piece
    for layer in shot.layers:
        if isinstance(layer, PictureLayer) and layer.shown and layer.volume != 0:
            found = recording(layer.asset)
            if found is not None and found.frames > 1:
                yield _of_layer(layer, found, start, stop, footage.fps)


def _under(laid: LaidSound, sound: Sound, start: int, stop: int, fps: float) -> Sound | None:
    """A sound that is laid under the shot, over frames start..stop-1; None: it is not heard there."""
    rate = sound.rate
    count = round((stop - start) / fps * rate)
    first = round(laid.skipped * rate)
    whole = max(len(sound.samples) - first, 0)
    length = min(round(laid.lasts * rate), whole) if laid.lasts > 0 else whole
    at = round((laid.starts - start) / fps * rate)
    a, b = max(at, 0), min(at + length, count)
    if b <= a:
        return None
    out = np.zeros((count, 2))
    out[a:b] = sound.samples[first + a - at : first + b - at]
    place = np.arange(a, b) - at
    for fade, away in ((laid.fade_in, place), (laid.fade_out, length - 1 - place)):
        if fade > 0:
            out[a:b] *= np.clip(away / (fade * rate), 0, 1)[:, None]
    gains = np.array([max(value_at(laid.volume, float(f)) / 100, 0.0) for f in range(start, stop + 1)])
    return _along(Sound(samples=_whole(out), rate=rate), gains, fps)


def _of_layer(layer: PictureLayer, found: Recording, start: int, stop: int, fps: Fraction) -> Sound:
    """The sound of a layer's own clip as that runs in the shot."""
    rate = found.sound.rate
    pace = float(found.rate / fps)
    edges = np.array([round(Fraction(f) / fps * rate) for f in range(start, stop + 1)])
    begins, ends, loud = (np.zeros(stop - start) for _ in range(3))
    own = layer.speed / 100 * (pace if layer.pace == "own" else 1.0)
    for k, frame in enumerate(range(start, stop)):
        here, there = (clip_moment(layer, f, found.frames, pace) for f in (frame, frame + 1))
        if here is None or not layer.is_there(frame):
            continue
        step = own if there is None else there - here
        # Where it begins again at its start, it goes on at its pace up to its end.
        if not layer.by_keys and abs(step) > 1.5 * abs(own) + 0.1:
            step = own
        begins[k], ends[k] = here, here + step
        share = layer.presence(frame) / max(value_at(layer.opacity, frame) / 100, 1e-6) if layer.presence(frame) else 0.0
        loud[k] = max(value_at(layer.volume, frame) / 100, 0.0) * min(share, 1.0)
    per_frame = float(rate / found.rate)
    samples = run_along(found.sound.samples, begins * per_frame, ends * per_frame, np.diff(edges), keep_pitch=False)
    return _along(Sound(samples=samples, rate=rate), np.append(loud, loud[-1:]), float(fps))


def mixed(parts: list[Sound], count: int) -> Sound:
    """Sounds heard together, `count` samples long."""
    total = np.zeros((count, 2))
    for part in parts:
        n = min(len(part.samples), count)
        total[:n] += part.samples[:n]
    return Sound(samples=_whole(total))


def _along(sound: Sound, gains: F64, fps: float) -> Sound:
    """The sound as loud as the gains say at the beginning of every frame; from one to the next evenly, so nothing clicks."""
    if (gains == 1).all():
        return sound
    at = np.arange(len(sound.samples)) * fps / sound.rate
    return _louder(sound, np.interp(at, np.arange(len(gains)), gains)[:, None])


def _whole(samples: F64) -> NDArray[np.int16]:
    return np.clip(np.round(samples), -32768, 32767).astype(np.int16)


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
    return Sound(samples=_whole(out), rate=sound.rate)


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
    return Sound(samples=_whole(sound.samples * gain), rate=sound.rate)
