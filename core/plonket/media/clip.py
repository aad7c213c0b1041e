"""Exact frame access, both ways, to a video, a folder of pictures or a still."""

from __future__ import annotations

import threading
from bisect import bisect_right
from collections import OrderedDict
from collections.abc import Callable, Iterator
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Any, Protocol

import av
import av.video.frame
import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.colour import bytes_of
from plonket.base.conventions import U8, Codes
from plonket.base.errors import BadInput, MediaError
from plonket.media.decoded import DecodedPicture, joined
from plonket.media.failures import media_errors
from plonket.media.gyroscope import Gyroscope, kept_gyroscope, read_gyroscope
from plonket.media.info import ClipInfo
from plonket.media.opening import open_media
from plonket.media.probe import folder_pictures, probe, probe_video
from plonket.media.stills import PICTURES, read_straight


class Clip(Protocol):
    """A clip at one constant rate, upright; frames count from 0.

    ``rgb(i)`` is 8-bit sRGB-coded (h, w, 3), ``codes(i)`` the same with 16 bits where more than 8 were filmed; ``rgba(i)``
    straight alpha (h, w, 4); ``luma(i)`` 8-bit (h, w). Frames are shared: do not write into them.
    """

    info: ClipInfo

    def codes(self, frame: int) -> Codes: ...
    def rgb(self, frame: int) -> U8: ...
    def rgba(self, frame: int) -> U8: ...
    def luma(self, frame: int) -> U8: ...
    def close(self) -> None: ...


def open_clip(path: Path | str, *, cache: int = 24) -> Clip:
    """Open a clip for reading; `cache` decoded frames are kept. Raises `MediaError`."""
    path = Path(path)
    if path.is_dir() or (path.exists() and probe_is_still(path)):
        return PictureClip(path)
    return VideoClip(path, cache=cache)


def probe_is_still(path: Path) -> bool:
    return path.suffix.lower() in PICTURES


ALPHA = "alpha.mp4"
"""Beside a working clip: the coverage that it had, as grey."""


class AlphaClip:
    """A working clip with the coverage that lies in a file beside it."""

    def __init__(self, path: Path, *, cache: int = 24) -> None:
        self._colours, self._matte = VideoClip(path, cache=cache), VideoClip(path.with_name(ALPHA), cache=cache)
        self.info = replace(self._colours.info, has_alpha=True)

    def rgb(self, frame: int) -> U8:
        return self._colours.rgb(frame)

    def codes(self, frame: int) -> Codes:
        return self._colours.codes(frame)

    def rgba(self, frame: int) -> U8:
        """Straight alpha, 8-bit (h, w, 4)."""
        return np.dstack([self._colours.rgb(frame), self._matte.rgb(frame)[..., 1]])

    def luma(self, frame: int) -> U8:
        return self._colours.luma(frame)

    def close(self) -> None:
        self._colours.close()
        self._matte.close()


def open_working(path: Path) -> Clip:
    """Open a conformed clip, with its coverage if it has any. Raises `MediaError`."""
    return AlphaClip(path) if path.is_file() and path.with_name(ALPHA).exists() else open_clip(path)


def rgb_chunks(clip: Clip, start: int, stop: int) -> Iterator[tuple[int, U8]]:
    """Frames start..stop-1 in order: (frame, 8-bit (h, w, 3))."""
    for i in range(start, stop):
        yield i, clip.rgb(i)


def _check_frame(info: ClipInfo, frame: int) -> None:
    if not 0 <= frame < info.frames:
        raise BadInput("frame.range", f"Frame {frame} is outside the clip, which has frames 0 to {info.frames - 1}.")


class ArrayClip:
    """Frames in memory, 8-bit RGB (h, w, 3): for tests and generated pictures."""

    def __init__(self, frames: list[U8], rate: Fraction = Fraction(30)) -> None:
        h, w = frames[0].shape[:2]
        self.frames = frames
        self.info = ClipInfo(kind="folder", width=w, height=h, rate=rate, frames=len(frames))

    def rgb(self, frame: int) -> U8:
        _check_frame(self.info, frame)
        return self.frames[frame]

    def codes(self, frame: int) -> Codes:
        return self.rgb(frame)

    def rgba(self, frame: int) -> U8:
        rgb = self.rgb(frame)
        return np.dstack([rgb, np.full(rgb.shape[:2], 255, np.uint8)])

    def luma(self, frame: int) -> U8:
        return np.asarray(cv2.cvtColor(self.rgb(frame), cv2.COLOR_RGB2GRAY), np.uint8)

    def close(self) -> None:
        """Nothing is held open."""


class PictureClip:
    """A folder of numbered pictures, or one still."""

    def __init__(self, path: Path) -> None:
        self.info = probe(path)
        self.files = folder_pictures(path) if path.is_dir() else [path]

    def straight(self, frame: int) -> Codes:
        """Straight-alpha RGBA (h, w, 4) with 8 bits, or 16 where they are stored."""
        _check_frame(self.info, frame)
        picture = read_straight(self.files[frame])
        if picture.shape[2] == 4:
            return picture
        most = 255 if picture.dtype == np.uint8 else 65535
        return np.dstack([picture, np.full(picture.shape[:2], most, picture.dtype)])

    def rgba(self, frame: int) -> U8:
        """The same with 8 bits."""
        return bytes_of(self.straight(frame))

    def codes(self, frame: int) -> Codes:
        return np.ascontiguousarray(self.straight(frame)[..., :3])

    def rgb(self, frame: int) -> U8:
        return np.ascontiguousarray(self.rgba(frame)[..., :3])

    def luma(self, frame: int) -> U8:
        return np.asarray(cv2.cvtColor(self.rgb(frame), cv2.COLOR_RGB2GRAY), np.uint8)

    def close(self) -> None:
        """Nothing is held open."""


class VideoClip:
    """A video file. Safe to use from several threads (calls take turns)."""

    def __init__(self, path: Path, *, cache: int = 24) -> None:
        self.path = path
        self.info, self._index = probe_video(path)
        self._lock = threading.Lock()
        self._cache: OrderedDict[int, av.video.frame.VideoFrame] = OrderedDict()
        # Decoded frames of a 4K clip have 12 MB each and more.
        self._room = max(4, min(cache, FRAME_BYTES // (2 * self.info.width * self.info.height)))
        self._own_decoder = _ALPHA_DECODERS.get(self.info.codec) if self.info.has_alpha else None
        self._open = False
        with media_errors(path):
            self._reopen()
        self._frames: Iterator[av.video.frame.VideoFrame] | None = None
        self._next = -1

    def gyroscope(self) -> Gyroscope | None:
        """How the camera turned by its own record: in the file, or beside a conformed one.

        Raises `MediaError`, `FormatError`.
        """
        return read_gyroscope(self.path, self._index) if self.info.gyroscope else kept_gyroscope(self.path)

    def rgb(self, frame: int) -> U8:
        """8-bit sRGB-coded RGB (h, w, 3), upright. What has wide colour or high range is brought to the display's."""
        return bytes_of(self.codes(frame))

    def codes(self, frame: int) -> Codes:
        """The same with 16 bits where more than 8 were filmed."""
        return self._read(frame, DecodedPicture.codes)

    def rgba(self, frame: int) -> U8:
        if self.info.has_alpha:
            return self._read(frame, lambda one: joined(one.codes(), one.coverage()))
        rgb = self.rgb(frame)
        return np.dstack([rgb, np.full(rgb.shape[:2], 255, np.uint8)])

    def luma(self, frame: int) -> U8:
        """8-bit luma (h, w), upright, as stored: full decoding speed, no colour conversion."""
        return np.asarray(self._read(frame, DecodedPicture.luma), np.uint8)

    def stored(self, frame: int) -> DecodedPicture:
        """A frame as the decoder gives it, not turned upright."""
        _check_frame(self.info, frame)
        with self._lock, media_errors(self.path):
            return DecodedPicture(self._decoded(self._index.time_map.source[frame]), self.info.transfer)

    def close(self) -> None:
        """Let the file go. Whoever still holds the clip may go on reading: it is opened again."""
        with self._lock:
            self._frames = None
            self._cache.clear()
            self._container.close()
            self._open = False

    def _reopen(self) -> None:
        self._container = open_media(self.path)
        self._stream = self._container.streams.video[0]
        self._stream.thread_type = "AUTO"
        self._open = True

    def _read(self, frame: int, how: Callable[[DecodedPicture], NDArray[Any]]) -> NDArray[Any]:
        decoded = self.stored(frame)
        with media_errors(self.path):
            out = how(decoded)
        return np.ascontiguousarray(np.rot90(out, k=-self.info.rotation // 90)) if self.info.rotation else out

    def _decoding(self) -> Iterator[av.video.frame.VideoFrame]:
        """Frames from where the container stands."""
        if self._own_decoder is None:
            yield from self._container.decode(self._stream)
            return
        # What is used by default drops the coverage, which lies in a stream beside the colours.
        decoder = av.VideoCodecContext.create(self._own_decoder, "r")
        decoder.extradata = self._stream.codec_context.extradata
        for packet in self._container.demux(self._stream):
            yield from decoder.decode(packet if packet.size else None)

    def _decoded(self, index: int) -> av.video.frame.VideoFrame:
        if not self._open:
            self._reopen()
        if index in self._cache:
            self._cache.move_to_end(index)
            return self._cache[index]
        stamps, keys = self._index.stamps, self._index.keys
        want = stamps[index]
        key = keys[max(0, bisect_right(keys, want) - 1)]
        # Read on when the frame lies ahead in the same group of pictures; otherwise seek to its key.
        if self._frames is None or not (0 <= self._next <= index and stamps[self._next] >= key):
            self._container.seek(key, stream=self._stream)
            self._frames = self._decoding()
            self._next = -1
        for decoded in self._frames:
            if decoded.pts is None:
                continue
            at = bisect_right(stamps, decoded.pts) - 1
            if at < 0:
                continue
            self._cache[at] = decoded
            self._next = at + 1
            while len(self._cache) > self._room:
                self._cache.popitem(last=False)
            if at >= index:
                if at == index:
                    return decoded
                break
        self._frames = None
        self._next = -1
        near = max((k for k in self._cache if k <= index), default=None)
        if near is None:
            raise MediaError(
                "media.cut_off", f"{self.path.name}: frame {index} cannot be decoded. The file may be cut off."
            )
        return self._cache[near]


FRAME_BYTES = 96 * 1024**2
"""For decoded frames of one clip."""
_ALPHA_DECODERS = {"vp9": "libvpx-vp9", "vp8": "libvpx"}


def gyroscope_of(clip: Clip) -> Gyroscope | None:
    """How a clip's camera turned by its own record; None where it has none, as all but videos."""
    return clip.gyroscope() if isinstance(clip, VideoClip) else None
