"""Delivering: a shot's range rendered to a video with sound, or to numbered pictures."""

from __future__ import annotations

from collections.abc import Iterable
from fractions import Fraction
from pathlib import Path

import cv2

from plonket.base.conventions import U8
from plonket.base.errors import BadInput
from plonket.base.progress import Work
from plonket.document.shot import Shot
from plonket.layers.sources import Sources
from plonket.media.failures import media_errors
from plonket.media.sound import Sound
from plonket.media.write import SEEN_THROUGH, Coding, VideoWriter
from plonket.render.frame import Ground, render_range, scaled_size
from plonket.render.soundtrack import RecordingOf, soundtrack

QUALITY = {"small": Coding(crf=24.0), "good": Coding(crf=18.0), "best": Coding(crf=9.0, preset="medium")}
VIDEO_ENDINGS = {".mp4", ".mov", ".m4v"}


def coding_of(shot: Shot) -> Coding:
    """How the finished video is coded."""
    return SEEN_THROUGH if is_clear(shot) else QUALITY[shot.delivery.quality]


def ending_of(shot: Shot) -> str:
    """The ending of the finished video's name."""
    return ".mov" if is_clear(shot) else ".mp4"


def is_clear(shot: Shot) -> bool:
    """Whether one sees through where nothing is."""
    return shot.footage is not None and shot.footage.ground == "clear"


def delivery_size(shot: Shot) -> tuple[tuple[int, int], float]:
    """Size of the finished video, and its scale."""
    assert shot.footage is not None
    scale = 0.5 if shot.delivery.scale == "half" else 1.0
    return scaled_size((shot.footage.width, shot.footage.height), scale), scale


def deliver(
    shot: Shot,
    sources: Sources,
    out: Path,
    *,
    start: int,
    stop: int,
    scale: float = 1.0,
    recording: RecordingOf = lambda _asset: None,
    work: Work | None = None,
) -> None:
    """Render frames start..stop-1 to `out`: a video by its ending, else a folder of PNG files.

    `recording` gives the sound of assets, which is laid under the video. Where the document says that one sees
    through where nothing is, both have coverage; such a video ends in .mov.
    """
    if shot.footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet.")
    if not 0 <= start < stop <= shot.footage.length:
        raise BadInput("render.range", f"The range {start}:{stop} does not lie within 0:{shot.footage.length}.")
    if not 0 < scale <= 1:
        raise BadInput("render.scale", f"The scale {scale} must be above 0 and at most 1.")
    clear = is_clear(shot)
    if clear and out.suffix.lower() in VIDEO_ENDINGS - {".mov"}:
        raise BadInput("render.out", f"{out.name}: with coverage it is a file ending in .mov, or a folder of PNG files.")
    ground: Ground = "clear" if clear else "black"
    frames = (rgb for _, rgb in render_range(shot, sources, start, stop, scale=scale, work=work, ground=ground))
    rate = shot.footage.fps
    under = soundtrack(shot, recording, start, stop)
    size = scaled_size((shot.footage.width, shot.footage.height), scale)
    write_pictures(frames, out, size, rate, coding=coding_of(shot), sound=under)


def write_pictures(
    frames: Iterable[U8], out: Path, size: tuple[int, int], rate: Fraction, *, coding: Coding, sound: Sound | None = None
) -> None:
    """Write frames in order to a video (by its ending) with sound, else to a folder of numbered PNG files."""
    if out.suffix.lower() not in VIDEO_ENDINGS:
        if out.suffix:
            raise BadInput("render.out", f"{out.name}: give a folder, or a file ending in .mp4, .mov or .m4v.")
        out.mkdir(parents=True, exist_ok=True)
        for k, rgb in enumerate(frames):
            with media_errors(out, "written"):
                turned = cv2.cvtColor(rgb, cv2.COLOR_RGBA2BGRA if rgb.shape[2] == 4 else cv2.COLOR_RGB2BGR)
                if not cv2.imwrite(str(out / f"{k:06d}.png"), turned):
                    raise OSError(28, "No space left on device")
        return
    out.parent.mkdir(parents=True, exist_ok=True)
    with VideoWriter(out, size, rate, coding=coding, sound=sound) as writer:
        for rgb in frames:
            writer.write(rgb)
