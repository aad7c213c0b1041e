"""Writing videos: frames in order, with sound, and joining segments without coding them again."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from fractions import Fraction
from pathlib import Path
from types import TracebackType
from typing import Any, Literal

import av
import av.error
import numpy as np

from plonket.base.conventions import Codes
from plonket.base.errors import BadInput
from plonket.media.failures import media_errors
from plonket.media.opening import open_media
from plonket.media.sound import Sound
from plonket.media.yuv import Matrix, Plane, PlaneCoding, planes_of


@dataclass(frozen=True, slots=True, kw_only=True)
class Coding:
    """How pictures are coded.

    Attributes
    ----------
    codec : one of `CODECS`. crf : constant quality, in the codec's own measure. preset : its speed. key_every : frames between
    keys. planes : what is stored of each pixel. b_frames : at most, between others. covered : whether coverage is stored too.
    box : the container; none: the codec's usual one. bit_rate : bits a second in place of constant quality. sound : how that is
    coded; none: the container's usual way. transfer : "sdr", or "hlg" for codes that are HLG of BT.2020 colour already.
    """

    codec: str = "h264"
    crf: float = 17.0
    preset: str = "fast"
    key_every: int = 60
    planes: PlaneCoding = field(default_factory=PlaneCoding)
    b_frames: int = 2
    covered: bool = False
    box: str | None = None
    bit_rate: int | None = None
    sound: str | None = None
    transfer: Literal["sdr", "hlg"] = "sdr"

    @property
    def container(self) -> str:
        return self.box or CODECS[self.codec].box


def _constant(coding: Coding) -> dict[str, str]:
    return {} if coding.bit_rate else {"crf": f"{coding.crf:g}"}


def _x265(coding: Coding) -> dict[str, str]:
    """Pieces are joined later, so no picture may lean on one before the key that it follows."""
    return {**_constant(coding), "preset": coding.preset, "x265-params": "log-level=error:open-gop=0"}


def _vp9(coding: Coding) -> dict[str, str]:
    steady = {} if coding.bit_rate else {"b": "0"}
    # With coverage no picture may be one that is not shown: there would be no coverage for it.
    hidden = {"auto-alt-ref": "0"} if coding.covered else {}
    return {**_constant(coding), **steady, **hidden, "deadline": "good", "cpu-used": "3", "row-mt": "1"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Codec:
    """A way to code pictures: its encoder and options, the container that it usually lies in, the mark it has there; `even`:
    whether it only has even sizes, so that odd ones lose a line; `opaque`: whether it is read by another library than it is
    written by, so that its packets are copied unseen."""

    encoder: str
    box: str
    options: Callable[[Coding], dict[str, str]]
    tag: str | None = None
    even: bool = False
    opaque: bool = False


CODECS: dict[str, Codec] = {
    "h264": Codec(encoder="libx264", box="mp4",
                  options=lambda c: {**_constant(c), "preset": c.preset, "bf": str(c.b_frames)}),
    "h265": Codec(encoder="libx265", box="mp4", options=_x265, tag="hvc1"),
    "av1": Codec(encoder="libsvtav1", box="mp4", options=lambda c: {**_constant(c), "preset": "8"}, even=True,
                 opaque=True),
    "prores": Codec(encoder="prores_ks", box="mov",
                    options=lambda c: {"profile": "4444", "alpha_bits": "16" if c.covered else "0", "vendor": "apl0"}),
    "prores422": Codec(encoder="prores_ks", box="mov", options=lambda _: {"profile": "hq", "vendor": "apl0"}, even=True),
    "vp9": Codec(encoder="libvpx-vp9", box="webm", options=_vp9, even=True),
    "ffv1": Codec(encoder="ffv1", box="matroska", options=lambda c: {"level": "3", "slicecrc": "1", "slices": "4"}),
}  # fmt: skip
"""By name. Conformed clips are the first; what a shot is delivered as is in `plonket.outputs`."""
SOUNDS_IN = {"mp4": "aac", "mov": "aac", "webm": "libopus", "matroska": "flac"}
"""How sound is usually coded in each container."""
_SPACES: dict[Matrix, int] = {"601": 6, "709": 1, "2020": 9}
_COLOURS = {"sdr": (1, 1), "hlg": (9, 18)}
"""Primaries and transfer as ITU-T H.273 numbers them: BT.709; BT.2020 with HLG."""
WORKING = Coding(crf=3.0, preset="superfast", key_every=1, b_frames=0)
"""Conformed clips: every frame a key, so that any frame is one decode away, in either direction."""


class VideoWriter:
    """Writes one video; use as a context manager.

    Parameters
    ----------
    path : the file, written to completion or removed when an error passes through.
    size : (width, height); odd sizes are coded in 4:4:4, or lose a line where the codec cannot.
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
        codec = CODECS[coding.codec]
        if codec.even:
            self.size = size = (size[0] // 2 * 2, size[1] // 2 * 2)
        odd = size[0] % 2 or size[1] % 2
        with media_errors(path, "written"):
            self._container = open_box(path, coding)
            stream = self._container.add_stream(codec.encoder, rate=rate)
            stream.width, stream.height = size
            self.planes = replace(coding.planes, half_x=False, half_y=False) if odd else coding.planes
            self._layout = stream.pix_fmt = f"yuva{self.planes.layout[3:]}" if coding.covered else self.planes.layout
            self._covered = coding.covered
            stream.time_base = 1 / rate
            stream.gop_size = coding.key_every
            context = stream.codec_context
            if codec.tag is not None:
                context.codec_tag = codec.tag
            if coding.covered and coding.container == "webm":
                stream.metadata["alpha_mode"] = "1"
            if coding.bit_rate:
                context.bit_rate = coding.bit_rate
            context.max_b_frames = coding.b_frames
            self._colours = _COLOURS[coding.transfer]
            context.color_primaries, context.color_trc = self._colours
            context.colorspace = _SPACES[self.planes.matrix]
            context.color_range = 2 if self.planes.full else 1
            stream.options = codec.options(coding)
            self._stream = stream
            self._audio = None if sound is None else add_sound(self._container, sound, coding)

    def write(self, codes: Codes, pts: int | None = None) -> None:
        """Append one sRGB-coded frame (height, width, 3), 8- or 16-bit; with coverage (height, width, 4), straight."""
        codes = codes[: self.size[1], : self.size[0]] if self._trims(codes) else codes
        planes = planes_of(np.ascontiguousarray(codes[..., :3]), self.planes)
        self.write_planes(planes, codes[..., 3] if self._covered and codes.shape[2] == 4 else None, pts)

    def _trims(self, codes: Codes) -> bool:
        h, w = codes.shape[:2]
        return (w // 2 * 2, h // 2 * 2) == self.size and (w, h) != self.size

    def write_planes(self, planes: tuple[Plane, Plane, Plane], coverage: Codes | None = None, pts: int | None = None) -> None:
        """Append a frame as it is to be stored (see `planes`); `coverage` (h, w) goes with it where it is stored."""
        h, w = planes[0].shape
        if (w, h) != self.size:
            raise BadInput("write.size", f"A frame of {w} x {h} does not fit {self.size}.")
        with media_errors(self.path, "written"):
            frame = av.VideoFrame(w, h, self._layout)
            for k, plane in enumerate(planes):
                _fill(frame.planes[k], plane)
            if self._covered:
                _fill(frame.planes[3], _coverage_of(coverage, (h, w), self.planes.bits))
            frame.color_range, frame.colorspace = (2 if self.planes.full else 1), _SPACES[self.planes.matrix]
            frame.color_primaries, frame.color_trc = self._colours
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


def _coverage_of(coverage: Codes | None, shape: tuple[int, int], bits: int) -> Plane:
    """Coverage with so many bits; none is whole."""
    top = (1 << bits) - 1
    kind = np.uint8 if bits == 8 else np.uint16
    if coverage is None:
        return np.full(shape, top, kind)
    most = 255 if coverage.dtype == np.uint8 else 65535
    return np.asarray((coverage.astype(np.uint32) * top + most // 2) // most).astype(kind)


def open_box(path: Path, coding: Coding) -> Any:
    """An empty container for what is coded so."""
    options = {"movflags": "+faststart"} if coding.container in ("mp4", "mov") else {}
    return av.open(str(path), "w", format=coding.container, options=options)


def add_sound(container: Any, sound: Sound, coding: Coding) -> Any:
    """A stream for the sound in an open container."""
    name = coding.sound or SOUNDS_IN[coding.container]
    stream = container.add_stream(name, rate=sound.rate, layout="stereo")
    if name in ("aac", "libopus"):
        stream.bit_rate = 192_000
    return stream


def mux_sound(container: object, stream: object, sound: Sound) -> None:
    """Encode `sound` into an open container's `stream`."""
    step = stream.codec_context.frame_size or 1024  # type: ignore[attr-defined]
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


def join_segments(segments: list[Path], out: Path, rate: Fraction, sound: Sound | None, coding: Coding | None = None) -> None:
    """Join segments written with one `Coding` into one file of its kind, without coding them again.

    Every segment starts with a key frame, so packets can be copied with their stamps moved on.
    """
    coding = coding or Coding()
    with media_errors(out, "written"), open_box(out, coding) as box:
        target = None
        audio = None
        done = Fraction(0)
        last = -(1 << 62)
        for path in segments:
            with open_media(path) as part:
                source = part.streams.video[0]
                if target is None:
                    target = box.add_stream_from_template(source, opaque=CODECS[coding.codec].opaque)
                    target.time_base = source.time_base
                    if coding.covered and coding.container == "webm":
                        target.metadata["alpha_mode"] = "1"
                    if not CODECS[coding.codec].opaque and coding.container in ("mp4", "mov"):
                        target.codec_context.codec_tag = source.codec_context.codec_tag
                    if sound is not None:
                        audio = add_sound(box, sound, coding)
                base = source.time_base or Fraction(1, 90000)
                shift = round(done / rate / base)
                count = 0
                for packet in part.demux(source):
                    if packet.size == 0 or packet.pts is None:
                        continue
                    packet.pts += shift
                    if packet.dts is not None:
                        # A piece of very few frames is decoded with less delay than the next one, which would overtake it.
                        packet.dts = last = max(packet.dts + shift, last + 1)
                    packet.stream = target
                    box.mux(packet)
                    count += 1
                done += count
        if sound is not None:
            mux_sound(box, audio, sound)
