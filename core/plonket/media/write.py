"""Writing videos: frames in order, with sound, and joining segments without coding them again."""

from __future__ import annotations

import contextlib
from dataclasses import dataclass, field, replace
from fractions import Fraction
from pathlib import Path
from types import TracebackType
from typing import Any, Literal

import av
import av.error
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import Codes
from plonket.base.errors import BadInput
from plonket.media.failures import media_errors
from plonket.media.opening import open_media
from plonket.media.sound import Sound
from plonket.media.yuv import Matrix, Plane, PlaneCoding, planes_of


@dataclass(frozen=True, slots=True, kw_only=True)
class Coding:
    """How pictures are coded: x264's constant quality, speed preset, frames between keys, and what is stored of each pixel; or
    ProRes 4444 with coverage."""

    codec: Literal["h264", "prores"] = "h264"
    crf: float = 17.0
    preset: str = "fast"
    key_every: int = 60
    planes: PlaneCoding = field(default_factory=PlaneCoding)
    b_frames: int = 2


_SPACES: dict[Matrix, int] = {"601": 6, "709": 1, "2020": 9}
_709 = 1
WORKING = Coding(crf=3.0, preset="superfast", key_every=1, b_frames=0)
"""Conformed clips: every frame a key, so that any frame is one decode away, in either direction."""
SEEN_THROUGH = Coding(
    codec="prores", planes=PlaneCoding(bits=10, half_x=False, half_y=False), key_every=1, b_frames=0,
)  # fmt: skip
"""With coverage, straight: what is not covered is seen through in whatever reads it."""


class VideoWriter:
    """Writes one H.264 MP4 file, or a ProRes MOV file with coverage; use as a context manager.

    Parameters
    ----------
    path : the file, written to completion or removed when an error passes through.
    size : (width, height); odd sizes are coded in 4:4:4.
    rate : frames per second.
    sound : laid under the picture from frame 0.
    """

    def __init__(
        self,
        path: Path,
        size: tuple[int, int],
        rate: Fraction,
        *,
        coding: Coding | None = None,
        sound: Sound | None = None,
    ) -> None:
        coding = coding or Coding()
        self.path, self.size, self.sound = path, size, sound
        self.frames = 0
        self._rate = rate
        odd = size[0] % 2 or size[1] % 2
        with media_errors(path, "written"):
            self._container = av.open(str(path), "w", format=_box(coding), options={"movflags": "+faststart"})
            covered = coding.codec == "prores"
            stream = self._container.add_stream("prores_ks" if covered else "libx264", rate=rate)
            stream.width, stream.height = size
            self.planes = replace(coding.planes, half_x=False, half_y=False) if odd else coding.planes
            self._layout = stream.pix_fmt = "yuva444p10le" if covered else self.planes.layout
            self._covered = covered
            stream.time_base = 1 / rate
            stream.gop_size = coding.key_every
            context = stream.codec_context
            context.max_b_frames = coding.b_frames
            context.color_primaries = context.color_trc = _709
            context.colorspace = _SPACES[self.planes.matrix]
            context.color_range = 2 if self.planes.full else 1
            stream.options = (
                {"profile": "4444", "alpha_bits": "16", "vendor": "apl0"} if covered
                else {"crf": str(coding.crf), "preset": coding.preset, "bf": str(coding.b_frames)}
            )  # fmt: skip
            self._stream = stream
            self._audio = None
            if sound is not None:
                self._audio = self._container.add_stream("aac", rate=sound.rate, layout="stereo")
                self._audio.bit_rate = 192_000

    def write(self, codes: Codes, pts: int | None = None) -> None:
        """Append one sRGB-coded frame (height, width, 3), 8- or 16-bit; with coverage (height, width, 4), straight."""
        planes = planes_of(np.ascontiguousarray(codes[..., :3]), self.planes)
        self.write_planes(planes, codes[..., 3] if self._covered and codes.shape[2] == 4 else None, pts)

    def write_planes(self, planes: tuple[Plane, Plane, Plane], coverage: Codes | None = None, pts: int | None = None) -> None:
        """Append a frame as it is to be stored (see `planes`); `coverage` (h, w) goes with ProRes."""
        h, w = planes[0].shape
        if (w, h) != self.size:
            raise BadInput("write.size", f"A frame of {w} x {h} does not fit {self.size}.")
        with media_errors(self.path, "written"):
            frame = av.VideoFrame(w, h, self._layout)
            for k, plane in enumerate(planes):
                _fill(frame.planes[k], plane)
            if self._covered:
                _fill(frame.planes[3], _ten_bits(coverage, (h, w)))
            frame.color_range, frame.colorspace = (2 if self.planes.full else 1), _SPACES[self.planes.matrix]
            frame.color_primaries = frame.color_trc = _709
            frame.pts = self.frames if pts is None else pts
            # Not the stream's: the muxer changes that once the header is written.
            frame.time_base = 1 / self._rate
            for packet in self._stream.encode(frame):
                self._container.mux(packet)
        self.frames += 1

    def close(self) -> None:
        """Finish the file; when that fails it is removed."""
        try:
            with media_errors(self.path, "written"):
                for packet in self._stream.encode(None):
                    self._container.mux(packet)
                if self.sound is not None:
                    mux_sound(self._container, self._audio, self.sound)
                self._container.close()
        except BaseException:
            self._abandon()
            raise

    def _abandon(self) -> None:
        # On a full disk closing fails as writing did: what went wrong first is what the creator should hear.
        with contextlib.suppress(av.error.FFmpegError, OSError):
            self._container.close()
        self.path.unlink(missing_ok=True)

    def __enter__(self) -> VideoWriter:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, tb: TracebackType | None) -> None:
        if kind is None:
            self.close()
        else:
            self._abandon()


def _fill(target: Any, plane: Plane) -> None:
    """Copy a plane to a frame's, whose rows may be longer."""
    rows = np.frombuffer(target, plane.dtype).reshape(-1, target.line_size // plane.dtype.itemsize)
    rows[: plane.shape[0], : plane.shape[1]] = plane


def _ten_bits(coverage: Codes | None, shape: tuple[int, int]) -> NDArray[np.uint16]:
    """Coverage with ten bits; none is whole."""
    if coverage is None:
        return np.full(shape, 1023, np.uint16)
    most = 255 if coverage.dtype == np.uint8 else 65535
    return ((coverage.astype(np.uint32) * 1023 + most // 2) // most).astype(np.uint16)


def mux_sound(container: object, stream: object, sound: Sound) -> None:
    """Encode `sound` into an open container's AAC `stream`."""
    step = 1024
    for at in range(0, len(sound.samples), step):
        piece = np.ascontiguousarray(sound.samples[at : at + step]).reshape(1, -1)
        frame = av.AudioFrame.from_ndarray(piece, format="s16", layout="stereo")
        frame.sample_rate = sound.rate
        frame.time_base = Fraction(1, sound.rate)
        frame.pts = at
        for packet in stream.encode(frame):  # type: ignore[attr-defined]
            container.mux(packet)  # type: ignore[attr-defined]
    for packet in stream.encode(None):  # type: ignore[attr-defined]
        container.mux(packet)  # type: ignore[attr-defined]


def _box(coding: Coding) -> str:
    """The container that a coding lies in."""
    return "mov" if coding.codec == "prores" else "mp4"


def join_segments(segments: list[Path], out: Path, rate: Fraction, sound: Sound | None, coding: Coding | None = None) -> None:
    """Join segments written with one `Coding` into one file of its kind, without coding them again.

    Every segment starts with a key frame, so packets can be copied with their stamps moved on.
    """
    with media_errors(out, "written"), av.open(
        str(out), "w", format=_box(coding or Coding()), options={"movflags": "+faststart"}
    ) as box:
        target = None
        audio = None
        done = Fraction(0)
        for path in segments:
            with open_media(path) as part:
                source = part.streams.video[0]
                if target is None:
                    target = box.add_stream_from_template(source)
                    target.time_base = source.time_base
                    if sound is not None:
                        audio = box.add_stream("aac", rate=sound.rate, layout="stereo")
                        audio.bit_rate = 192_000
                base = source.time_base or Fraction(1, 90000)
                shift = round(done / rate / base)
                count = 0
                for packet in part.demux(source):
                    if packet.size == 0 or packet.pts is None:
                        continue
                    packet.pts += shift
                    if packet.dts is not None:
                        packet.dts += shift
                    packet.stream = target
                    box.mux(packet)
                    count += 1
                done += count
        if sound is not None:
            mux_sound(box, audio, sound)
