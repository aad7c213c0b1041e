"""Sound: taken out of a clip in step with its first frame, and cut to a range of frames."""

from __future__ import annotations

import io
import wave
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
from numpy.typing import NDArray

from plonket.base.errors import MediaError
from plonket.media.failures import media_errors
from plonket.media.opening import open_media
from plonket.media.probe import probe_video

SOUND_RATE = 48000
MOST_SECONDS = 3600
"""Of a sound that is laid under a shot."""
SOUNDS = (".wav", ".mp3", ".m4a", ".aac", ".flac", ".ogg", ".oga", ".opus")
"""Endings of files that are nothing but sound."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Sound:
    """Stereo sound: `samples` int16, shape (n, 2), at `rate` per second; sample 0 is frame 0."""

    samples: NDArray[np.int16]
    rate: int = SOUND_RATE

    def cut(self, start: int, stop: int, frame_rate: Fraction) -> Sound:
        """The sound of frames start..stop-1, exactly as long as they last (silence where none is)."""
        a = round(start / frame_rate * self.rate)
        b = round(stop / frame_rate * self.rate)
        piece = self.samples[a:b]
        if len(piece) < b - a:
            piece = np.concatenate([piece, np.zeros((b - a - len(piece), 2), np.int16)])
        return Sound(samples=piece, rate=self.rate)


def read_sound(path: Path) -> Sound | None:
    """A clip's sound as 48 kHz stereo, in step with its first conformed frame; None if it has none.

    Streams that begin before or after the picture are cut or padded.
    """
    info, index = probe_video(path)
    if not info.has_audio:
        return None
    chunks = _decoded(path, index.time_map.start)
    return None if chunks is None else _laid(chunks, round(info.seconds * SOUND_RATE))


def read_sound_file(path: Path) -> Sound:
    """The sound of a file that is nothing but sound, as 48 kHz stereo. Raises `MediaError`."""
    with media_errors(path), open_media(path) as container:
        if not container.streams.audio:
            raise MediaError("sound.none", f"{path.name} has no sound.")
        told = float(container.duration or 0) / av.time_base
    if told > MOST_SECONDS:
        raise MediaError("sound.long", f"{path.name} lasts longer than an hour: cut it first.")
    chunks = _decoded(path, None)
    if not chunks:
        raise MediaError("sound.empty", f"{path.name} has no sound that could be read.")
    return _laid(chunks, min(max(at + len(data) for at, data in chunks), MOST_SECONDS * SOUND_RATE))


def _decoded(path: Path, start: Fraction | None) -> list[tuple[int, NDArray[np.int16]]] | None:
    """Pieces of a file's first sound as 48 kHz stereo, each with its first sample, counted from the second `start`, or from
    where the sound begins; None: there is none."""
    chunks: list[tuple[int, NDArray[np.int16]]] = []
    with media_errors(path), open_media(path) as container:
        stream = container.streams.audio[0]
        resampler = av.AudioResampler(format="s16", layout="stereo", rate=SOUND_RATE)
        position: int | None = None
        for frame in container.decode(stream):
            if position is None:
                when = Fraction(frame.pts or 0) * (frame.time_base or Fraction(1, frame.sample_rate))
                position = round((when - start) * SOUND_RATE) if start is not None else 0
            for piece in resampler.resample(frame):
                data = piece.to_ndarray().reshape(-1, 2)
                chunks.append((position, data))
                position += len(data)
        if position is None:
            return None
        for piece in resampler.resample(None):
            data = piece.to_ndarray().reshape(-1, 2)
            chunks.append((position, data))
            position += len(data)
    return chunks


def _laid(chunks: list[tuple[int, NDArray[np.int16]]], total: int) -> Sound:
    out = np.zeros((total, 2), np.int16)
    for at, data in chunks:
        a, b = max(0, at), min(total, at + len(data))
        if b > a:
            out[a:b] = data[a - at : b - at]
    return Sound(samples=out)


def write_wav(sound: Sound, path: Path) -> None:
    """Write 16-bit PCM."""
    path.write_bytes(wav_bytes(sound))


def wav_bytes(sound: Sound) -> bytes:
    """The sound as a WAV file of 16-bit PCM."""
    out = io.BytesIO()
    with wave.open(out, "wb") as f:
        f.setnchannels(2)
        f.setsampwidth(2)
        f.setframerate(sound.rate)
        f.writeframes(np.ascontiguousarray(sound.samples).tobytes())
    return out.getvalue()


def read_wav(path: Path) -> Sound:
    """Read what `write_wav` wrote."""
    with wave.open(str(path), "rb") as f:
        data = np.frombuffer(f.readframes(f.getnframes()), np.int16).reshape(-1, f.getnchannels())
        return Sound(samples=data[:, :2], rate=f.getframerate())
