"""Sound of a take: room tone and a clap."""

from __future__ import annotations

import numpy as np

from plonket.base.conventions import F32

RATE = 48000


def room_with_clap(seconds: float, clap_at: float, *, seed: int = 1) -> F32:
    """Mono-compatible stereo sound, float32 (2, n) in [-1, 1], with a clap at `clap_at` seconds."""
    n = int(round(seconds * RATE))
    rng = np.random.default_rng(seed)
    white = rng.standard_normal((2, n))
    spectrum = np.fft.rfft(white, axis=1)
    freq = np.fft.rfftfreq(n, 1 / RATE)
    spectrum *= 1 / np.maximum(freq, 60) ** 0.8 * (freq > 25)
    tone = np.fft.irfft(spectrum, n, axis=1)
    tone *= 0.006 / tone.std()
    hum = 0.0015 * np.sin(2 * np.pi * 100 * np.arange(n) / RATE)
    out = tone + hum
    start = int(round(clap_at * RATE))
    length = min(int(0.35 * RATE), n - start)
    if length > 0:
        k = np.arange(length) / RATE
        body = rng.standard_normal((2, length)) * np.exp(-k / 0.010) * 0.75
        tail = rng.standard_normal((2, length)) * np.exp(-k / 0.07) * 0.06
        out[:, start : start + length] += body + tail
    return np.clip(out, -1, 1).astype(np.float32)
