"""Conforming: a clip straight off a phone becomes an upright one of constant rate, with sound in step."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np

from plonket.context import Work
from plonket.conventions import U8
from plonket.media.clip import ALPHA, open_clip
from plonket.media.info import ClipInfo
from plonket.media.sound import read_sound, write_wav
from plonket.media.write import WORKING, VideoWriter

STRIP_HEIGHT = 54
STRIP_MOST = 48


@dataclass(frozen=True, slots=True, kw_only=True)
class Conformed:
    """What conforming wrote: the facts, the working clip, its sound (or None) and its filmstrip."""

    info: ClipInfo
    clip: Path
    sound: Path | None
    strip: Path


def conform(source: Path, folder: Path, work: Work | None = None) -> Conformed:
    """Write ``clip.mp4`` (every frame a key), ``sound.wav`` and ``strip.jpg`` to `folder`; ``alpha.mp4`` for a clip with alpha.

    The source is only read. Raises `MediaError` when it cannot be.
    """
    work = work or Work()
    folder.mkdir(parents=True, exist_ok=True)
    clip = open_clip(source)
    info = clip.info
    target = folder / "clip.mp4"
    every = max(1, -(-info.frames // STRIP_MOST))
    small: list[U8] = []
    try:
        with ExitStack() as open_files:
            out = open_files.enter_context(VideoWriter(target, info.size, info.rate, coding=WORKING))
            matte = None
            if info.has_alpha:
                matte = open_files.enter_context(VideoWriter(folder / ALPHA, info.size, info.rate, coding=WORKING))
            for frame in range(info.frames):
                work.check_cancelled()
                rgb = clip.rgb(frame)
                out.write(rgb)
                if matte is not None:
                    matte.write(np.ascontiguousarray(np.repeat(clip.rgba(frame)[..., 3:], 3, axis=2)))
                if frame % every == 0:
                    width = max(1, round(info.width * STRIP_HEIGHT / info.height))
                    small.append(np.asarray(cv2.resize(rgb, (width, STRIP_HEIGHT), interpolation=cv2.INTER_AREA)))
                work.progress(frame + 1, info.frames)
    finally:
        clip.close()
    strip = folder / "strip.jpg"
    cv2.imwrite(str(strip), cv2.cvtColor(np.hstack(small), cv2.COLOR_RGB2BGR), [cv2.IMWRITE_JPEG_QUALITY, 80])
    sound = read_sound(source) if info.has_audio else None
    wav = None
    if sound is not None:
        wav = folder / "sound.wav"
        write_wav(sound, wav)
    return Conformed(info=info, clip=target, sound=wav, strip=strip)
