"""Sound that runs faster, slower, backwards or stands still, as its picture does."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.signal import correlate, firwin, oaconvolve

from plonket.base.conventions import F64

WINDOW, HOP, SEARCH = 1536, 768, 600
"""Samples of a grain, from one grain to the next, and how far each is looked for: 32, 16 and 12.5 ms at 48 kHz."""
STANDS = 0.02
"""Speed below which a picture stands still, and nothing is heard."""


def run_along(
    samples: NDArray[np.int16], begins: F64, ends: F64, counts: NDArray[np.int64], *, keep_pitch: bool
) -> NDArray[np.int16]:
    """The sound that goes with frames of a picture.

    Parameters
    ----------
    samples : (n, 2). begins, ends : (k,) where each frame begins and ends in the sound, in its samples. counts : (k,) samples
        that each is long. keep_pitch : as high as it was recorded, however fast it runs; backwards it is as of a tape.

    Returns
    -------
    (sum of counts, 2)
    """
    speeds = (ends - begins) / np.maximum(counts, 1)
    edges = np.concatenate([[0], np.cumsum(counts)])
    at = np.concatenate([b + s * np.arange(c) for b, s, c in zip(begins, speeds, counts, strict=True)] or [np.zeros(0)])
    speed = np.repeat(speeds, counts)
    source = samples.astype(np.float64)
    out = _as_tape(source, at, np.abs(speed))
    if keep_pitch:
        for first, last in _runs(begins, ends, speeds):
            a, b = int(edges[first]), int(edges[last])
            out[a:b] = _grains(source, at[a:b])
    out *= np.clip(np.abs(speed) / STANDS - 1, 0, 1)[:, None]
    return np.clip(np.round(_joined(out, _jumps(begins, ends, speeds, edges))), -32768, 32767).astype(np.int16)


def _runs(begins: F64, ends: F64, speeds: F64) -> list[tuple[int, int]]:
    """Stretches of frames, (first, beyond the last), that run forwards one after the other, not as they were recorded."""
    out, first = [], None
    for k in range(len(speeds) + 1):
        goes = k < len(speeds) and speeds[k] > STANDS
        joined = goes and first is not None and abs(begins[k] - ends[k - 1]) < 2
        if first is not None and not joined:
            if np.abs(speeds[first:k] - 1).max() > 1e-3:
                out.append((first, k))
            first = None
        if goes and first is None:
            first = k
    return out


def _as_tape(source: F64, at: F64, speed: F64) -> F64:
    """The sound at places between its samples; where it runs fast, without what would fold back."""
    out = np.zeros((len(at), 2))
    octaves = np.ceil(np.log2(np.maximum(speed, 1)) - 0.1).astype(int)
    for octave in np.unique(octaves):
        level = source
        if octave > 0:
            taps = firwin(16 * 2 ** min(octave, 6) + 1, min(0.9 / 2**octave, 0.99))
            level = oaconvolve(source, taps[:, None], mode="same", axes=0)
        here = octaves == octave
        out[here] = _cubic(level, at[here])
    return out


def _cubic(source: F64, at: F64) -> F64:
    """Samples between samples, Catmull-Rom; silence beyond the ends."""
    padded = np.pad(source, ((2, 3), (0, 0)))
    k = np.clip(np.floor(at).astype(int), -2, len(source))
    u = np.clip(at - k, 0, 1)[:, None]
    a, b, c, d = (padded[np.clip(k + 1 + j, 0, len(padded) - 1)] for j in range(4))
    return np.asarray(b + u / 2 * (c - a + u * (2 * a - 5 * b + 4 * c - d + u * (3 * (b - c) + d - a))))


def _grains(source: F64, at: F64) -> F64:
    """The sound along places that run forwards, as high as it was recorded.

    Grains that overlap by half, each where it goes on best from the one before.
    Source: W. Verhelst and M. Roelands, 1993, doi:10.1109/ICASSP.1993.319366 (WSOLA).
    """
    n = len(at)
    mono = np.pad(source.mean(axis=1), (WINDOW + SEARCH, 2 * WINDOW + SEARCH))
    padded = np.pad(source, ((WINDOW + SEARCH, 2 * WINDOW + SEARCH), (0, 0)))
    fade = np.hanning(WINDOW + 1)[:WINDOW]
    out, weight = np.zeros((n + WINDOW, 2)), np.zeros(n + WINDOW)
    goes_on: int | None = None
    for start in range(-HOP, n, HOP):
        middle = at[min(max(start + HOP, 0), n - 1)]
        place = round(float(middle)) - HOP + WINDOW + SEARCH
        place = min(max(place, SEARCH), len(mono) - WINDOW - SEARCH)
        if goes_on is not None and goes_on + WINDOW <= len(mono):
            wanted = mono[goes_on : goes_on + WINDOW]
            around = mono[place - SEARCH : place + SEARCH + WINDOW]
            likeness = correlate(around, wanted, mode="valid", method="fft")
            power = np.cumsum(np.concatenate([[0.0], around**2]))
            place += int(np.argmax(likeness / np.sqrt(power[WINDOW:] - power[:-WINDOW] + 1.0))) - SEARCH
        goes_on = place + HOP
        a, b = max(start, 0), min(start + WINDOW, n)
        part = np.s_[a - start : b - start]
        out[a:b] += padded[place : place + WINDOW][part] * fade[part, None]
        weight[a:b] += fade[part]
    return np.asarray(out[:n] / np.maximum(weight[:n], 1e-3)[:, None])


def _jumps(begins: F64, ends: F64, speeds: F64, edges: NDArray[np.int64]) -> list[int]:
    """Where in the new sound what is heard does not go on from what was heard before."""
    turns = np.sign(speeds[1:]) != np.sign(speeds[:-1])
    return [int(edges[k + 1]) for k in np.nonzero(turns | (np.abs(begins[1:] - ends[:-1]) > 2))[0]]


def _joined(sound: F64, jumps: list[int], over: int = 144) -> F64:
    """The sound brought to nothing for an instant at jumps, so that they do not click."""
    for at in jumps:
        a, b = max(at - over, 0), min(at + over, len(sound))
        sound[a:b] *= (np.abs(np.arange(a, b) - at) / over)[:, None]
    return sound
