"""How a camera turned while it filmed, as its gyroscope recorded it beside the picture.

Read from tracks of *camera motion metadata* (``camm``), the open, documented stream of timed metadata in MP4 and MOV files:
each sample is two bytes that mean nothing, a 16-bit kind and that kind's numbers, little-endian.
"""

from __future__ import annotations

import io
import struct
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from plonket.base.conventions import F64
from plonket.base.errors import FormatError
from plonket.media.failures import media_errors
from plonket.media.opening import open_media

if TYPE_CHECKING:
    from plonket.media.probe import VideoIndex

GYROSCOPE = "gyroscope.npz"
"""Beside a conformed clip."""
HEAD = struct.Struct("<HH")
RATES = 2
LENGTHS = {0: 12, 1: 8, RATES: 12, 3: 12, 4: 12, 5: 24, 6: 56, 7: 12}
"""Bytes after the head, by kind."""
MOST_SAMPLES = 4_000_000
LEAST_SAMPLES = 8
FIRST_SAMPLES = 200
FASTEST = 100.0
"""Radians a second beyond which no hand turns a camera: such numbers are damage."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Gyroscope:
    """
    Attributes
    ----------
    times : (n,) seconds from the first frame on, rising.
    rates : (n, 3) radians a second about the axes of the device, which the file does not tie to the picture's.
    frame_times : (frames,) seconds at which the frames of the conformed clip begin.
    """

    times: F64
    rates: F64
    frame_times: F64

    def to_bytes(self) -> bytes:
        """Serialised arrays."""
        out = io.BytesIO()
        np.savez_compressed(out, times=self.times, rates=self.rates, frame_times=self.frame_times)
        return out.getvalue()

    @staticmethod
    def from_bytes(data: bytes) -> Gyroscope:
        """What `to_bytes` wrote. Raises `FormatError`."""
        try:
            with np.load(io.BytesIO(data), allow_pickle=False) as z:
                return Gyroscope(times=z["times"], rates=z["rates"], frame_times=z["frame_times"])
        except (OSError, ValueError, KeyError) as error:
            raise FormatError("gyroscope.unreadable", "The stored turning of this camera is damaged.") from error


def has_gyroscope(container: Any) -> bool:
    """Whether an open file has such a record: its first samples tell."""
    for stream in container.streams.data:
        container.seek(0)
        samples = _samples(islice(container.demux(stream), FIRST_SAMPLES))
        if samples is not None and len(samples):
            return True
    return False


def kept_gyroscope(clip: Path) -> Gyroscope | None:
    """The record that lies beside a conformed clip, if there is one. Raises `FormatError`."""
    path = clip.with_name(GYROSCOPE)
    return Gyroscope.from_bytes(path.read_bytes()) if path.exists() else None


def read_gyroscope(path: Path, index: VideoIndex) -> Gyroscope | None:
    """The gyroscope's record in a video file, or None where it has none. Damaged samples are left out.

    Raises
    ------
    MediaError
        The file cannot be opened.
    """
    with media_errors(path), open_media(path) as container:
        base = container.streams.video[0].time_base
        if base is None:
            return None
        source = np.array([float(stamp * base) for stamp in index.stamps])[np.asarray(index.time_map.source, int)]
        for stream in container.streams.data:
            samples = _samples(container.demux(stream))
            if samples is None or len(samples) < LEAST_SAMPLES:
                continue
            times, at = np.unique(samples[:, 0], return_index=True)
            return Gyroscope(times=times - source[0], rates=samples[at, 1:], frame_times=source - source[0])
    return None


def _samples(packets: object) -> F64 | None:
    """(n, 4) time in seconds and rates; None where the stream holds something else."""
    out: list[tuple[float, ...]] = []
    for packet in packets:  # type: ignore[attr-defined]
        data = bytes(packet)
        if not data:
            continue
        if len(data) < HEAD.size:
            return None
        kind = HEAD.unpack_from(data)[1]
        if LENGTHS.get(kind) != len(data) - HEAD.size:
            return None
        if kind != RATES or packet.pts is None or packet.time_base is None:
            continue
        rates = struct.unpack_from("<3f", data, HEAD.size)
        if np.isfinite(rates).all() and max(map(abs, rates)) < FASTEST:
            out.append((float(packet.pts * packet.time_base), *rates))
        if len(out) >= MOST_SAMPLES:
            break
    return np.array(out, np.float64).reshape(-1, 4)
