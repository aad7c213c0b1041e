"""Mattes as a video: grey, white where the thing is, without loss; and from any video, by its coverage or how bright it is."""

from __future__ import annotations

import tempfile
from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np

from plonket.base.conventions import U8
from plonket.base.errors import FormatError, PlonketError
from plonket.formats.matte_zip import matte_of, matte_pictures
from plonket.formats.registry import FORMATS, Coming, FormatEntry
from plonket.media.clip import VideoClip
from plonket.track.matte.matte_track import MatteTrack
from plonket.track.matte.settings import MatteMotion

EBML, BOX = b"\x1a\x45\xdf\xa3", b"ftyp"
"""How Matroska and WebM begin, and what stands four bytes into MP4 and MOV."""


def write_matte_video(track: MatteTrack, fps: Fraction) -> bytes:
    """FFV1 in Matroska, 8-bit grey, a frame for each of the clip's."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "matte.mkv"
        with av.open(str(path), "w") as container:
            stream = container.add_stream("ffv1", rate=fps)
            stream.width, stream.height = track.size
            stream.pix_fmt = "gray"
            stream.codec_context.options = {"level": "3"}
            stream.codec_context.color_range = 2
            for picture in matte_pictures(track):
                container.mux(stream.encode(av.VideoFrame.from_ndarray(np.ascontiguousarray(picture), format="gray")))
            container.mux(stream.encode(None))
        return path.read_bytes()


def read_matte_video(data: bytes, size: tuple[int, int], frames: int) -> MatteTrack:
    """A matte from a video that is as large and as long as the clip. Raises `FormatError`."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"matte{'.mkv' if data[:4] == EBML else '.mp4'}"
        path.write_bytes(data)
        try:
            clip = VideoClip(path)
        except PlonketError as error:
            raise FormatError("matte_video.unreadable", "This video cannot be read.") from error
        info = clip.info
        try:
            if info.frames != frames:
                raise FormatError("matte_video.count", f"This video has {info.frames} frames; the clip has {frames}.")
            if info.size != size:
                raise FormatError("matte_video.size", f"This video has {info.width} x {info.height} pixels; the clip has "
                                  f"{size[0]} x {size[1]}.")  # fmt: skip
            return matte_of((_grey(clip, frame) for frame in range(frames)), size, frames)
        finally:
            clip.close()


def _grey(clip: VideoClip, frame: int) -> U8:
    if clip.info.has_alpha:
        return np.ascontiguousarray(clip.rgba(frame)[..., 3])
    return np.asarray(cv2.cvtColor(clip.rgb(frame), cv2.COLOR_RGB2GRAY), np.uint8)


def _read(coming: Coming) -> tuple[MatteMotion, MatteTrack]:
    footage = coming.footage
    track = read_matte_video(coming.data, (footage.width, footage.height), footage.frames)
    return MatteMotion(id=coming.motion_id, name=coming.name), track


FORMATS.add(FormatEntry(
    kind="matte.mkv", order=2, label="Video, grey", mime="video/x-matroska", track="matte",
    write=lambda going: write_matte_video(going.measured, going.footage.fps), read=_read,
    recognises=lambda coming: coming.data[:4] == EBML or coming.data[4:8] == BOX,
))  # fmt: skip
