"""Conforming: a clip straight off a phone becomes an upright one of constant rate, with sound in step."""

from __future__ import annotations

import os
import shutil
import tempfile
from contextlib import ExitStack
from dataclasses import dataclass, replace
from pathlib import Path

import cv2
import numpy as np

from plonket.base.conventions import U8
from plonket.base.errors import MediaError
from plonket.base.progress import Work
from plonket.media.clip import ALPHA, Clip, VideoClip, gyroscope_of, open_clip
from plonket.media.failures import media_errors
from plonket.media.gyroscope import GYROSCOPE
from plonket.media.info import ClipInfo
from plonket.media.probe import probe_video
from plonket.media.sound import read_sound, write_wav
from plonket.media.write import WORKING, VideoWriter
from plonket.media.yuv import Plane, PlaneCoding, shallower

CLIP, SOUND = "clip.mp4", "sound.wav"
ASIDE = ".part-"
"""Between a folder's name and a random end, in the name of the one that is written first."""
STRIP_HEIGHT = 54
STRIP_MOST = 48
BYTES_A_PIXEL = 1.1
"""Of a conformed clip (see `WORKING`), generously: four real clips by day took 0.23 to 0.48, and noise takes more."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Conformed:
    """What conforming wrote: the facts, the working clip, its sound (or None) and its filmstrip."""

    info: ClipInfo
    clip: Path
    sound: Path | None
    strip: Path


def conformed_bytes(info: ClipInfo) -> int:
    """About how large a conformed clip becomes: by its pixels, for what a phone coded tightly grows most."""
    pixels = info.width * info.height * info.frames
    return int(pixels * BYTES_A_PIXEL * (1.6 if info.has_alpha else 1)) + int(info.seconds * 192_000)


def conform(source: Path, folder: Path, work: Work | None = None) -> Conformed:
    """Write ``clip.mp4`` (every frame a key), ``sound.wav`` and ``strip.jpg`` to `folder`; ``alpha.mp4`` for a clip with alpha,
    ``gyroscope.npz`` for one whose camera's turning was recorded.

    The source is only read. Everything is written aside first: the files are there whole, or as they were. Raises
    `MediaError` when the source cannot be read, or when what was written does not hold all of its frames.
    """
    folder.parent.mkdir(parents=True, exist_ok=True)
    aside = Path(tempfile.mkdtemp(prefix=f"{folder.name}{ASIDE}", dir=folder.parent))
    try:
        made = _write(source, aside, work or Work())
        _check_whole(made)
        _put_in_place(aside, folder)
    finally:
        shutil.rmtree(aside, ignore_errors=True)
    sound = None if made.sound is None else folder / made.sound.name
    return Conformed(info=made.info, clip=folder / made.clip.name, sound=sound, strip=folder / made.strip.name)


def _check_whole(made: Conformed) -> None:
    """Every frame must be there, and the last one be decodable."""
    for path in (made.clip, made.clip.with_name(ALPHA)):
        if path.exists():
            written = len(probe_video(path)[1].stamps)
            if written != made.info.frames:
                raise MediaError("media.incomplete", f"Only {written} of {made.info.frames} frames were written. Try again.")
            clip = open_clip(path)
            try:
                clip.luma(made.info.frames - 1)
            finally:
                clip.close()


def _put_in_place(aside: Path, folder: Path) -> None:
    """Move what was written to where it is read, the clip last: with it the rest is there too."""
    folder.mkdir(exist_ok=True)
    fresh = sorted(aside.iterdir(), key=lambda path: path.name == CLIP)
    for path in fresh:
        with path.open("rb") as file:
            os.fsync(file.fileno())
    for name in {SOUND, ALPHA, GYROSCOPE} - {path.name for path in fresh}:
        (folder / name).unlink(missing_ok=True)
    for path in fresh:
        os.replace(path, folder / path.name)
    held = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(held)
    finally:
        os.close(held)


def _write(source: Path, folder: Path, work: Work) -> Conformed:
    clip = open_clip(source)
    info = clip.info
    target = folder / CLIP
    every = max(1, -(-info.frames // STRIP_MOST))
    small: list[U8] = []
    try:
        with ExitStack() as open_files:
            kept = _kept_planes(clip)
            coding = replace(WORKING, planes=kept or _planes_for(clip))
            out = open_files.enter_context(VideoWriter(target, info.size, info.rate, coding=coding))
            matte = None
            if info.has_alpha:
                matte = open_files.enter_context(VideoWriter(folder / ALPHA, info.size, info.rate, coding=WORKING))
            for frame in range(info.frames):
                work.check_cancelled()
                if kept is not None and isinstance(clip, VideoClip):
                    out.write_planes(_stored(clip, frame, kept))
                else:
                    out.write(clip.codes(frame))
                if matte is not None:
                    matte.write(np.ascontiguousarray(np.repeat(clip.rgba(frame)[..., 3:], 3, axis=2)))
                if frame % every == 0:
                    width = max(1, round(info.width * STRIP_HEIGHT / info.height))
                    small.append(np.asarray(cv2.resize(clip.rgb(frame), (width, STRIP_HEIGHT), interpolation=cv2.INTER_AREA)))
                work.progress(frame + 1, info.frames)
            if (record := gyroscope_of(clip)) is not None:
                (folder / GYROSCOPE).write_bytes(record.to_bytes())
    finally:
        clip.close()
    strip = folder / "strip.jpg"
    done, jpeg = cv2.imencode(".jpg", cv2.cvtColor(np.hstack(small), cv2.COLOR_RGB2BGR), [cv2.IMWRITE_JPEG_QUALITY, 80])
    assert done
    with media_errors(strip, "written"):
        strip.write_bytes(bytes(jpeg))
    sound = read_sound(source) if info.has_audio else None
    wav = None
    if sound is not None:
        wav = folder / SOUND
        with media_errors(wav, "written"):
            write_wav(sound, wav)
    return Conformed(info=info, clip=target, sound=wav, strip=strip)


MOST_BITS = 10
"""Of a conformed clip."""


def _kept_planes(clip: Clip) -> PlaneCoding | None:
    """How a clip is stored, where it can go on like that: upright, and in colours that need no change."""
    if not isinstance(clip, VideoClip) or clip.info.rotation:
        return None
    first = clip.stored(0)
    if not first.has_planes or first.is_wide:
        return None
    _, coding = first.planes()
    odd = (coding.half_x and clip.info.width % 2) or (coding.half_y and clip.info.height % 2)
    return None if odd else replace(coding, bits=min(coding.bits, MOST_BITS) if coding.bits in (8, MOST_BITS) else MOST_BITS)


def _stored(clip: VideoClip, frame: int, wanted: PlaneCoding) -> tuple[Plane, Plane, Plane]:
    """The planes of a frame with the bits that are wanted. Raises `MediaError` where it is stored unlike the first."""
    planes, coding = clip.stored(frame).planes()
    if replace(coding, bits=wanted.bits) != wanted:
        raise MediaError("media.changes", f"{clip.path.name} changes the way its colours are stored at frame {frame}.")
    y, u, v = (shallower(plane, coding.bits, wanted.bits) if coding.bits != wanted.bits else plane for plane in planes)
    return y, u, v


def _planes_for(clip: Clip) -> PlaneCoding:
    """How a clip is stored that has to be turned or brought to other colours: with as much of them as it had."""
    if not isinstance(clip, VideoClip):
        return PlaneCoding(bits=8 if clip.codes(0).dtype == np.uint8 else MOST_BITS, half_x=False, half_y=False)
    first = clip.stored(0)
    bits = MOST_BITS if first.is_deep else 8
    if not first.has_planes:
        return PlaneCoding(bits=bits, half_x=False, half_y=False)
    _, coding = first.planes()
    # On its side, colour of half the width would have half the height.
    whole = not coding.half_x or (not coding.half_y and clip.info.rotation in (90, 270))
    return PlaneCoding(bits=bits, half_x=not whole, half_y=not whole and coding.half_y)
