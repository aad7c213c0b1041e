"""Moving pictures that pages show as pictures: animated WebP and GIF."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any, Literal

import av
import av.filter
import numpy as np
from PIL import Image

from plonket.base.conventions import U8
from plonket.base.fields import choice
from plonket.document.delivery import OutputBase
from plonket.document.kinds import OUTPUTS, OutputEntry
from plonket.media.clip import open_clip
from plonket.media.failures import media_errors
from plonket.outputs.common import BETWEEN, Piece, Sheet, Thinned, VideoPiece, Writing, pictures_of, thinned


class AnimatedWebp(Thinned, OutputBase):
    """An animated WebP."""

    kind: Literal["webp"] = "webp"
    quality: Literal["small", "good", "best"] = choice(
        "good", label="Quality", group="File", names={"small": "Small file", "good": "Good", "best": "No loss"})  # fmt: skip
    coverage: Literal["none", "straight"] = choice(
        "none", label="Coverage", group="File", names={"none": "None, on black", "straight": "Straight"})  # fmt: skip


class AnimatedGif(Thinned, OutputBase):
    """An animated GIF."""

    kind: Literal["gif"] = "gif"


WEBP: dict[str, dict[str, Any]] = {"small": {"quality": 60}, "good": {"quality": 82}, "best": {"lossless": True}}


def _piece(output: Any, path: Path, piece: Piece) -> Writing:
    coverage = getattr(output, "coverage", "none")
    return VideoPiece(path, piece, BETWEEN, deep=True, coverage="none" if coverage == "none" else "straight")


def _frames(pieces: list[Path], sheet: Sheet) -> Iterator[U8]:
    """Every frame, straight RGBA."""
    opened: tuple[Path, Any] | None = None
    for path, k in pictures_of(pieces):
        sheet.work.check_cancelled()
        if opened is None or opened[0] != path:
            opened = path, open_clip(path)
        yield opened[1].rgba(k)


def _webp(output: AnimatedWebp, pieces: list[Path], out: Path, sheet: Sheet) -> None:
    frames = (Image.fromarray(rgba if output.coverage != "none" else np.ascontiguousarray(rgba[..., :3]))
              for rgba in _frames(pieces, sheet))  # fmt: skip
    step = 1000 * output.every / float(sheet.rate)
    with media_errors(out, "written"):
        first = next(frames)
        # Whole milliseconds that do not add up to a drift.
        count = len(list(pictures_of(pieces)))
        ends = [round(step * (k + 1)) for k in range(count)]
        lasts = [b - a for a, b in zip([0, *ends[:-1]], ends, strict=True)]
        first.save(out, save_all=True, append_images=frames, duration=lasts, loop=0, method=4, **WEBP[output.quality])


def _gif(output: AnimatedGif, pieces: list[Path], out: Path, sheet: Sheet) -> None:
    rate = Fraction(sheet.rate) / output.every
    palette = _palette(pieces, sheet, rate)
    with media_errors(out, "written"), av.open(str(out), "w", format="gif") as box:
        stream = box.add_stream("gif", rate=rate)
        stream.width, stream.height = sheet.size
        stream.pix_fmt = "pal8"
        graph = av.filter.Graph()
        pictures = graph.add_buffer(width=sheet.size[0], height=sheet.size[1], format="rgb24", time_base=1 / rate)
        colours = graph.add_buffer(width=16, height=16, format="rgb32", time_base=1 / rate)
        use, end = graph.add("paletteuse", "dither=sierra2_4a:diff_mode=rectangle"), graph.add("buffersink")
        pictures.link_to(use, 0, 0)
        colours.link_to(use, 0, 1)
        use.link_to(end)
        graph.configure()
        colours.push(palette)
        colours.push(None)
        for k, rgba in enumerate(_frames(pieces, sheet)):
            pictures.push(_frame(rgba, k, rate))
            _drain(end, stream, box)
        pictures.push(None)
        _drain(end, stream, box)
        box.mux(stream.encode(None))


def _palette(pieces: list[Path], sheet: Sheet, rate: Fraction) -> Any:
    """A picture of the 256 colours that serve all frames best."""
    graph = av.filter.Graph()
    start = graph.add_buffer(width=sheet.size[0], height=sheet.size[1], format="rgb24", time_base=1 / rate)
    make, end = graph.add("palettegen", "stats_mode=full:reserve_transparent=0"), graph.add("buffersink")
    start.link_to(make)
    make.link_to(end)
    graph.configure()
    for k, rgba in enumerate(_frames(pieces, sheet)):
        start.push(_frame(rgba, k, rate))
    start.push(None)
    found = end.pull()
    found.pts = 0
    return found


def _frame(rgba: U8, k: int, rate: Fraction) -> Any:
    frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(rgba[..., :3]), format="rgb24")
    frame.pts, frame.time_base = k, 1 / rate
    return frame


def _drain(end: Any, stream: Any, box: Any) -> None:
    while True:
        try:
            frame = end.pull()
        except (av.error.BlockingIOError, av.error.EOFError):
            return
        box.mux(stream.encode(frame))


OUTPUTS.add(OutputEntry(
    kind="webp", label="Animated WebP", order=140, settings=AnimatedWebp, run=_piece, joined=_webp, ending=lambda _: ".webp",
    endings=(".webp",), wants=thinned, groups=("File",), traits=frozenset({"moving", "covered"}),
    help="A short loop that pages show as a picture.",
))  # fmt: skip
OUTPUTS.add(OutputEntry(
    kind="gif", label="Animated GIF", order=150, settings=AnimatedGif, run=_piece, joined=_gif, ending=lambda _: ".gif",
    endings=(".gif",), wants=thinned, groups=("File",), traits=frozenset({"moving"}),
    help="A short loop with 256 colours, for where nothing else is taken.",
))  # fmt: skip
