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
FIRST_PACKETS = 3000
"""Of all streams together, by which it is found out what they hold."""
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
    """Whether an open file has such a record: what comes first of each stream of data tells."""
    return _record_stream(container) is not None


def _record_stream(container: Any) -> Any:
    """The stream that holds it, or None; the file is then no longer at its beginning."""
    streams = {stream.index: stream for stream in container.streams.data}
    if not streams:
        return None
    container.seek(0)
    good = dict.fromkeys(streams, 0)
    # However long the file and however empty its streams, no more of it is read.
    for packet in islice(container.demux(), FIRST_PACKETS):
        index = packet.stream_index
        if index not in good or not packet.size:
            continue
        kind = _kind_of(bytes(packet))
        if kind is None:
            del good[index]
        elif kind == RATES:
            good[index] += 1
    found = [index for index, count in good.items() if count >= LEAST_SAMPLES]
    return streams[found[0]] if found else None


def _kind_of(data: bytes) -> int | None:
    """The kind of a sample, or None for what is none."""
    if len(data) < HEAD.size:
        return None
    kind = int(HEAD.unpack_from(data)[1])
    return kind if LENGTHS.get(kind) == len(data) - HEAD.size else None


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
        stream = _record_stream(container)
        if stream is None:
            return None
        container.seek(0)
        samples = _samples(container.demux(stream))
        if len(samples) < LEAST_SAMPLES:
            return None
        times, at = np.unique(samples[:, 0], return_index=True)
        return Gyroscope(times=times - source[0], rates=samples[at, 1:], frame_times=source - source[0])


def _samples(packets: Any) -> F64:
    """(n, 4) time in seconds and rates."""
    out: list[tuple[float, ...]] = []
    for packet in packets:
        data = bytes(packet)
        if not data or _kind_of(data) != RATES or packet.pts is None or packet.time_base is None:
            continue
        rates = struct.unpack_from("<3f", data, HEAD.size)
        if np.isfinite(rates).all() and max(map(abs, rates)) < FASTEST:
            out.append((float(packet.pts * packet.time_base), *rates))
        if len(out) >= MOST_SAMPLES:
            break
    return np.array(out, np.float64).reshape(-1, 4)
