"""The command `depth`: how far away everything is that a solved clip shows."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import Any

from plonket.base.errors import Degenerate
from plonket.cli.terminal import parse_range, terminal_work


def add_depth_command(commands: Any) -> None:
    """`depth`, into the parser's commands."""
    one = commands.add_parser("depth", help="how far away everything is that a clip of a solved camera shows, as EXR files")
    one.add_argument("clip", type=Path, metavar="CLIP")
    one.add_argument("--camera", type=Path, required=True, metavar="camera.json", help="the solved camera")
    one.add_argument("--out", type=Path, required=True, metavar="FOLDER", help="gets one file a frame")
    one.add_argument("--range", metavar="A:B", help="frames A to B-1 only")
    one.add_argument("--quality", choices=("good", "quick"), default="good")
    one.set_defaults(run=_depth)


def _depth(options: argparse.Namespace) -> None:
    import numpy as np

    from plonket.depth.files import write_depth
    from plonket.depth.measure import QUALITY, DepthMaker
    from plonket.formats.camera_json import read_camera
    from plonket.media import open_clip

    clip = open_clip(options.clip)
    start, stop = parse_range(options.range, clip.info.frames)
    track = read_camera(options.camera.read_text(), clip.info.frames, clip.info.size)
    maker = DepthMaker(clip.rgb, track, QUALITY[options.quality])
    work = terminal_work("Frames")
    options.out.mkdir(parents=True, exist_ok=True)
    nothing: list[int] = []
    why = ""
    for k, frame in enumerate(range(start, stop)):
        work.check_cancelled()
        try:
            depth = maker.depth(frame).depth
        except Degenerate as error:
            nothing.append(frame)
            why = why or error.message
        else:
            write_depth(depth, options.out / f"{k:06d}.exr")
        work.progress(k + 1, stop - start)
    if len(nothing) == stop - start:
        raise Degenerate("depth.none", why)
    for frame in nothing:
        write_depth(np.zeros(clip.info.size[::-1], np.float32), options.out / f"{frame - start:06d}.exr")
    if nothing:
        print(f"{len(nothing)} frames have no depth, from frame {nothing[0]} on: {why}", file=sys.stderr)
