"""Small clips made for the tests: every frame says its own number."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import numpy as np

from plonket.base.conventions import F64, U8
from synth.phone.take import Recording, frame_times, write_recording

FLASH_S = 0.612
"""Well between two frames, so that jitter cannot move the flash to another one."""


def numbered(i: int, size: tuple[int, int] = (320, 180)) -> U8:
    """A picture whose upper left blocks spell `i` in binary, brightest bit first."""
    out = np.full((size[1], size[0], 3), 70, np.uint8)
    for bit in range(8):
        value = 230 if i >> (7 - bit) & 1 else 20
        out[20:60, 20 + 30 * bit : 44 + 30 * bit] = value
    out[100:150, 40:120] = (230, 200, 60)
    return out


def number_of(rgb: U8) -> int:
    """What `numbered` wrote."""
    return sum(int(rgb[40, 32 + 30 * bit].mean() > 128) << (7 - bit) for bit in range(8))


def phone_clip(
    path: Path, *, frames: int = 40, rate: Fraction = Fraction(30), jitter_s: float = 0.0, rotation: int = 0,
    sound: bool = True, size: tuple[int, int] = (320, 180), times: F64 | None = None,
) -> Path:  # fmt: skip
    """A clip as a phone writes it, with a white flash and a clap at `FLASH_S`."""
    recording = Recording(
        rate=rate, frames=frames, jitter_s=jitter_s, rotation=rotation, crf=12, sound=sound, clap_at=FLASH_S
    )
    when = frame_times(recording) if times is None else times

    def pictures():  # type: ignore[no-untyped-def]
        for i in range(frames):
            picture = numbered(i, size)
            if 0 <= when[i] - FLASH_S < 0.06:
                picture[70:95] = 255
            yield picture

    write_recording(path, pictures(), when, size, recording)
    return path


def flash_frame(pictures: list[U8]) -> int:
    """First frame with the flash."""
    bright = np.array([p[75:90].mean() for p in pictures])
    return int(np.argmax(bright > 200))


def clap_sample(samples: np.ndarray, rate: int) -> float:
    """Second at which the clap begins."""
    loud = np.abs(samples.astype(np.float64)).max(axis=1)
    return float(np.argmax(loud > 0.25 * 32767)) / rate
