"""Clips of one picture: a still, or nothing at all, as the ground of a shot that has no footage."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import av
import numpy as np

from plonket.base.conventions import Codes
from plonket.base.errors import BadInput
from plonket.media.failures import media_errors
from plonket.media.opening import open_media
from plonket.media.write import WORKING, VideoWriter
from plonket.media.yuv import PlaneCoding

SIDES = (16, 4096)
MOST_FRAMES = 36000
RATES = (1, 240)
FINE = replace(WORKING, crf=1.0, planes=PlaneCoding(bits=10, half_x=False, half_y=False))
"""For pictures: all of their colour, and ten bits."""


def write_blank(path: Path, size: tuple[int, int], rate: Fraction, frames: int) -> None:
    """A black clip of a `size` (width, height). Raises as `write_held`."""
    write_held(path, np.zeros((size[1], size[0], 3), np.uint8), rate, frames)


def write_held(path: Path, codes: Codes, rate: Fraction, frames: int) -> None:
    """A clip of one picture (h, w, 3), written in an instant: one coded frame, as often as it is wanted.

    Raises `BadInput` for what no clip can be, `MediaError` when it cannot be written.
    """
    size = codes.shape[1], codes.shape[0]
    is_picture = bool(codes.any())
    if not all(SIDES[0] <= side <= SIDES[1] for side in size):
        raise BadInput("canvas.size", f"A canvas is {SIDES[0]} to {SIDES[1]} pixels wide and high; not {size[0]} x {size[1]}.")
    if not RATES[0] <= rate <= RATES[1]:
        raise BadInput("canvas.rate", f"A canvas has {RATES[0]} to {RATES[1]} frames a second; not {float(rate):g}.")
    if not 1 <= frames <= MOST_FRAMES:
        raise BadInput("canvas.length", f"A canvas has 1 to {MOST_FRAMES} frames; not {frames}.")
    single = path.with_name(path.name + ".one.mp4")
    try:
        with VideoWriter(single, size, rate, coding=FINE if is_picture else WORKING) as out:
            out.write(codes)
        with media_errors(path, "written"), open_media(single) as one, av.open(str(path), "w", format="mp4") as box:
            source = one.streams.video[0]
            target = box.add_stream_from_template(source)
            packet = next(p for p in one.demux(source) if p.size)
            data, base = bytes(packet), 1 / rate
            for k in range(frames):
                again = av.Packet(data)
                again.pts = again.dts = k
                again.duration = 1
                again.time_base = base
                again.is_keyframe = True
                again.stream = target
                box.mux(again)
    finally:
        single.unlink(missing_ok=True)
