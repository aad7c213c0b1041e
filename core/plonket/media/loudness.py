"""How loud sound is: integrated loudness after ITU-R BS.1770-4 and EBU R 128, and its true peak."""

from __future__ import annotations

import numpy as np
from scipy.signal import lfilter, resample_poly

from plonket.base.conventions import F64
from plonket.media.sound import SOUND_RATE, Sound

BLOCK_S, STEP_S = 0.4, 0.1
SILENT, BELOW = -70.0, 10.0
"""Blocks quieter than this in LUFS, or so many LU below the mean of the others, do not count."""
OVERSAMPLED = 4
# The shelf and the high pass of the standard, at 48 kHz.
_SHELF = ([1.53512485958697, -2.69169618940638, 1.19839281085285], [1.0, -1.69065929318241, 0.73248077421585])
_HIGH = ([1.0, -2.0, 1.0], [1.0, -1.99004745483398, 0.99007225036621])


def loudness_of(sound: Sound) -> float | None:
    """Integrated loudness in LUFS; None where nothing is loud enough to count, or shorter than a block.

    Raises `ValueError` for another rate than 48 kHz.
    """
    if sound.rate != SOUND_RATE:
        raise ValueError("loudness is measured at 48 kHz")
    powers = _block_powers(sound.samples.astype(np.float64) / 32768)
    loud = powers[_level(powers) > SILENT]
    if not len(loud):
        return None
    loud = loud[_level(loud) > _level(loud.mean()) - BELOW]
    return float(_level(loud.mean()))


def peak_of(sound: Sound) -> float:
    """True peak in dB below full scale, of four times as many samples; minus infinity for silence."""
    if not len(sound.samples):
        return float("-inf")
    values = sound.samples.astype(np.float64) / 32768
    peak = max(float(np.abs(resample_poly(values, OVERSAMPLED, 1, axis=0)).max()), float(np.abs(values).max()))
    return float(20 * np.log10(peak)) if peak > 0 else float("-inf")


def _block_powers(values: F64) -> F64:
    """(n,) weighted mean squares of overlapping blocks, both channels added."""
    weighted = lfilter(*_HIGH, lfilter(*_SHELF, values, axis=0), axis=0)
    sums = np.concatenate([[0.0], np.cumsum((weighted**2).sum(axis=1))])
    block, step = round(BLOCK_S * SOUND_RATE), round(STEP_S * SOUND_RATE)
    starts = np.arange(0, len(values) - block + 1, step)
    return np.asarray((sums[starts + block] - sums[starts]) / block)


def _level(power: F64 | np.floating) -> F64:
    return np.asarray(-0.691 + 10 * np.log10(np.maximum(power, 1e-12)))
