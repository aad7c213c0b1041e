"""A clip with its camera's motion recorded beside the picture."""

from __future__ import annotations

import struct
from fractions import Fraction
from pathlib import Path

import av
import numpy as np


def motion_clip(path: Path, samples: list[tuple[float, bytes]], frames: int = 30) -> None:
    """A small clip with a stream of camera motion beside its picture: seconds and bytes of each sample."""
    out = av.open(str(path), "w")
    video = out.add_stream("libx264", rate=30)
    video.width, video.height, video.pix_fmt = 64, 48, "yuv420p"
    data = out.add_data_stream("bin_data") if samples else None
    base = Fraction(1, 90000)
    for k in range(frames):
        picture = av.VideoFrame.from_ndarray(np.full((48, 64, 3), 8 * k, np.uint8), format="rgb24")
        picture.pts = k
        for packet in video.encode(picture):
            out.mux(packet)
    for packet in video.encode(None):
        out.mux(packet)
    for seconds, what in samples:
        packet = av.Packet(what)
        packet.stream, packet.time_base = data, base
        packet.pts = packet.dts = round(seconds * 90000)
        packet.duration = 200
        out.mux(packet)
    out.close()
    if not samples:
        return
    # What is written knows other names of data streams only.
    whole = bytearray(path.read_bytes())
    entry = whole.rindex(b"stsd") + 16
    whole[entry : entry + 4] = b"camm"
    path.write_bytes(bytes(whole))


def rate_sample(x: float, y: float, z: float) -> bytes:
    return struct.pack("<HH3f", 0, 2, x, y, z)
