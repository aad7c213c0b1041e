"""The commands that take subjects off what is behind them."""

from __future__ import annotations

import argparse
import math
from pathlib import Path
from typing import TYPE_CHECKING, Any

from plonket.base.errors import BadInput
from plonket.cli.terminal import parse_range, terminal_work

if TYPE_CHECKING:
    from plonket.track.matte.settings import PickBox, PickClick


def add_key_commands(commands: Any) -> None:
    """`key`, `cut-out` and `matte`, into the parser's commands."""
    one = commands.add_parser("key", help="take a subject off its cloth")
    one.add_argument("clip", type=Path, metavar="CLIP")
    one.add_argument("--screen", default="auto", metavar="auto|R,G,B",
                     help="the cloth's colour, 0 to 255 each, or found by itself (default)")  # fmt: skip
    one.add_argument("--choke", type=float, default=0.0, metavar="PX", help="moves the edge in, or out when negative")
    one.add_argument("--spill", type=float, default=100.0, metavar="PERCENT", help="how much of the cloth's shine is taken off")
    one.add_argument("--range", metavar="A:B", help="frames A to B-1 only")
    one.add_argument("--out", type=Path, required=True, metavar="FOLDER", help="gets a straight-alpha PNG for each frame")
    one.set_defaults(run=_key)

    one = commands.add_parser("cut-out", help="take a subject off anything, by strokes over it and over what is not it")
    one.add_argument("clip", type=Path, metavar="CLIP")
    one.add_argument("--subject", action="append", required=True, metavar='"FRAME:X,Y X,Y ..."',
                     help="a stroke over the subject; may be given several times")  # fmt: skip
    one.add_argument("--other", action="append", default=[], metavar='"FRAME:X,Y X,Y ..."',
                     help="a stroke over what is not the subject; may be given several times")  # fmt: skip
    one.add_argument("--width", type=float, default=14.0, metavar="PX", help="of the strokes, 1 to 400 (default 14)")
    one.add_argument("--band", type=float, default=8.0, metavar="PX", help="edge band, 1 to 80 (default 8)")
    one.add_argument("--range", metavar="A:B", help="frames A to B-1 only")
    one.add_argument("--out", type=Path, required=True, metavar="FOLDER", help="straight-alpha PNGs, 000000.png and on")
    one.set_defaults(run=_cut_out)

    one = commands.add_parser("matte", help="the matte of a thing, by a click on it or a loose box round it")
    one.add_argument("clip", type=Path, metavar="CLIP")
    one.add_argument("--click", action="append", default=[], metavar="FRAME,X,Y[,out]",
                     help="a place on the thing; with ,out one that is not it; may be given several times")  # fmt: skip
    one.add_argument("--box", action="append", default=[], metavar="FRAME,X0,Y0,X1,Y1", help="a loose box round the thing")
    one.add_argument("--band", type=float, default=4.0, metavar="PX", help="edge band, 1 to 80 (default 4)")
    one.add_argument("--range", metavar="A:B", help="frames A to B-1 only")
    one.add_argument("--out", type=Path, required=True, metavar="FOLDER", help="grey PNGs, 000000.png and on; white is picked")
    one.set_defaults(run=_matte)


def _key(options: argparse.Namespace) -> None:
    from plonket.base.colour import linear_from_codes
    from plonket.keying.chroma import restored
    from plonket.keying.screen import ScreenKey, key_screen, samples_of
    from plonket.keying.unpremultiply import straight_8bit, write_png
    from plonket.media import open_clip

    if not -10 <= options.choke <= 10 or not 0 <= options.spill <= 100:
        raise BadInput("key.range", "--choke goes from -10 to 10 pixels, --spill from 0 to 100 percent.")
    clip = open_clip(options.clip)
    start, stop = parse_range(options.range, clip.info.frames)
    colours = [] if options.screen == "auto" else [_colour(options.screen)]
    settings = ScreenKey(colours=colours, choke=options.choke, spill=options.spill)
    # Found once, on the middle of the range, so that it does not change from frame to frame.
    samples = samples_of(linear_from_codes(clip.rgb((start + stop) // 2)), settings)
    work = terminal_work("Frames")
    options.out.mkdir(parents=True, exist_ok=True)
    for k, frame in enumerate(range(start, stop)):
        work.check_cancelled()
        rgb = restored(clip.rgb(frame)) if clip.info.kind == "video" else clip.rgb(frame)
        keyed = key_screen(linear_from_codes(rgb), settings, colours=samples)
        write_png(options.out / f"{k:06d}.png", straight_8bit(keyed.rgba))
        work.progress(k + 1, stop - start)


def _matte(options: argparse.Namespace) -> None:
    import cv2
    import numpy as np

    from plonket.matting.measure import measure_matte
    from plonket.media import open_clip
    from plonket.track.matte.settings import MatteMotion
    from plonket.track.request import MeasureRequest

    if not 1 <= options.band <= 80:
        raise BadInput("matte.range", "--band goes from 1 to 80 pixels.")
    clip = open_clip(options.clip)
    start, stop = parse_range(options.range, clip.info.frames)
    clicks = [_click(text, clip.info.frames, clip.info.size) for text in options.click]
    boxes = [_box(text, clip.info.frames) for text in options.box]
    if not boxes and not any(one.subject for one in clicks):
        raise BadInput("matte.nothing", "A --click or a --box says what is meant; clicks with ,out only take away.")
    motion = MatteMotion(id="matte", name="matte", clicks=clicks, boxes=boxes, band=options.band)
    options.out.mkdir(parents=True, exist_ok=True)
    track = measure_matte(motion, MeasureRequest(clip=clip, start=start, stop=stop, work=terminal_work("Frames")))
    for frame in range(start, stop):
        alpha = track.alpha(frame)
        path = options.out / f"{frame - start:06d}.png"
        picture = np.zeros((clip.info.height, clip.info.width), np.uint8) if alpha is None else alpha
        if not cv2.imwrite(str(path), picture):
            raise BadInput("matte.write", f"{path} could not be written.")


def _numbers(text: str, count: int) -> list[float]:
    """So many numbers with commas between, or none."""
    try:
        found = [float(part) for part in text.split(",")]
    except ValueError:
        return []
    return found if len(found) == count and all(map(math.isfinite, found)) else []


def _click(text: str, frames: int, size: tuple[int, int]) -> PickClick:
    """``FRAME,X,Y`` or ``FRAME,X,Y,out``."""
    from plonket.track.matte.settings import PickClick

    is_out = text.endswith(",out")
    found = _numbers(text.removesuffix(",out"), 3)
    if not found or found[0] != int(found[0]):
        raise BadInput("matte.click", f"A click is a frame and a place, as 0,120,80, with ,out for all else; not {text!r}.")
    frame, x, y = int(found[0]), found[1], found[2]
    _check_frame(frame, frames)
    if not (0 <= x < size[0] and 0 <= y < size[1]):
        raise BadInput("matte.outside", f"The click {text!r} lies outside the picture of {size[0]} x {size[1]}.")
    return PickClick(frame=frame, x=x, y=y, subject=not is_out)


def _box(text: str, frames: int) -> PickBox:
    """``FRAME,X0,Y0,X1,Y1``"""
    from plonket.track.matte.settings import PickBox

    found = _numbers(text, 5)
    if not found or found[0] != int(found[0]):
        raise BadInput("matte.box", f"A box is a frame and two corners, as 0,40,30,200,180; not {text!r}.")
    _check_frame(int(found[0]), frames)
    return PickBox(frame=int(found[0]), x0=found[1], y0=found[2], x1=found[3], y1=found[4])


def _check_frame(frame: int, frames: int) -> None:
    if not 0 <= frame < frames:
        raise BadInput("cutout.frame", f"Frame {frame} is outside the clip, which has frames 0 to {frames - 1}.")


def _colour(text: str) -> str:
    """``R,G,B`` as ``#rrggbb``."""
    parts = text.split(",")
    try:
        values = [int(p) for p in parts]
    except ValueError:
        values = []
    if len(values) != 3 or not all(0 <= v <= 255 for v in values):
        raise BadInput("key.screen", f"--screen takes auto or three numbers from 0 to 255, as 40,150,70; not {text}.")
    return "#" + "".join(f"{v:02x}" for v in values)


def _cut_out(options: argparse.Namespace) -> None:
    from plonket.base.colour import linear_from_codes
    from plonket.keying.cutout import CutOutKey, cut
    from plonket.keying.unpremultiply import straight_8bit, write_png
    from plonket.matting.carried import CutStroke
    from plonket.matting.pick import Picked
    from plonket.media import open_clip

    if not 1 <= options.width <= 400 or not 1 <= options.band <= 80:
        raise BadInput("cutout.range", "--width goes from 1 to 400 pixels, --band from 1 to 80.")
    clip = open_clip(options.clip)
    start, stop = parse_range(options.range, clip.info.frames)
    strokes = []
    for subject, texts in ((True, options.subject), (False, options.other)):
        for text in texts:
            frame, points = _stroke(text, clip.info.frames, clip.info.size)
            strokes.append(CutStroke(frame=frame, subject=subject, width=options.width, points=points))
    carried = Picked(clip.rgb, clip.info.frames, strokes)
    settings = CutOutKey(strokes=strokes, band=options.band)
    work = terminal_work("Frames")
    options.out.mkdir(parents=True, exist_ok=True)
    # From the frames with strokes outwards: each is carried on from its neighbour.
    order = sorted(range(start, stop), key=lambda f: min(abs(f - s) for s in carried.staked))
    for k, frame in enumerate(order):
        work.check_cancelled()
        rgba = cut(linear_from_codes(clip.rgb(frame)), carried.mask(frame), settings)
        write_png(options.out / f"{frame - start:06d}.png", straight_8bit(rgba))
        work.progress(k + 1, stop - start)


def _stroke(text: str, frames: int, size: tuple[int, int]) -> tuple[int, list[tuple[float, float]]]:
    """``FRAME:X,Y X,Y ...``"""
    try:
        head, _, tail = text.partition(":")
        frame = int(head)
        points = [(float(x), float(y)) for x, y in (p.split(",") for p in tail.split())]
    except ValueError:
        points = []
    if not points:
        raise BadInput("cutout.stroke", f'A stroke is a frame and points, as "0:120,80 140,90"; not {text!r}.')
    _check_frame(frame, frames)
    if not all(0 <= x <= size[0] and 0 <= y <= size[1] for x, y in points):
        raise BadInput("cutout.outside", f"The stroke {text!r} leaves the picture of {size[0]} x {size[1]}.")
    return frame, points
