"""Finding out what a clip is."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from fractions import Fraction
from pathlib import Path

import av.video.frame

from plonket.base.errors import MediaError
from plonket.media.failures import media_errors
from plonket.media.gyroscope import has_gyroscope
from plonket.media.info import ClipInfo
from plonket.media.opening import open_media
from plonket.media.sequence import held
from plonket.media.stills import PICTURES, check_size, read_straight
from plonket.media.timing import TimeMap, conform_times

EARLIEST_YEAR = 1990
_TRANSFER = {16: "pq", 18: "hlg"}


@dataclass(frozen=True, slots=True, kw_only=True)
class VideoIndex:
    """Exact positions of a video's frames: presentation stamps in stream ticks, and key frames."""

    stamps: tuple[int, ...]
    keys: tuple[int, ...]
    time_map: TimeMap


def probe(path: Path | str) -> ClipInfo:
    """Facts about a video, a folder of numbered pictures, or a still.

    Raises
    ------
    MediaError
        When it is missing, empty, damaged, holds no picture, or has an absurd size.
    """
    path = Path(path)
    if path.is_dir():
        return _probe_folder(path)
    if not path.exists():
        raise MediaError("media.missing", f"{path.name} was not found.")
    if path.stat().st_size == 0:
        raise MediaError("media.empty", f"{path.name} is empty (0 bytes). Copy it from the phone again.")
    if path.suffix.lower() in PICTURES:
        return _probe_still(path)
    return probe_video(path)[0]


def probe_video(path: Path) -> tuple[ClipInfo, VideoIndex]:
    """Facts and the frame index of a video file."""
    with media_errors(path), open_media(path) as container:
        if not container.streams.video:
            what = "only sound" if container.streams.audio else "no picture"
            raise MediaError("media.no_video", f"{path.name} holds {what}. Bring in a clip with video.")
        stream = container.streams.video[0]
        if stream.codec_context is None:
            raise MediaError("media.codec", f"{path.name} uses a video coding that cannot be decoded here.")
        packets = [(p.pts if p.pts is not None else p.dts, p.is_keyframe)
                   for p in container.demux(stream) if p.size]  # fmt: skip
        stamped = sorted((pts, key) for pts, key in packets if pts is not None)
        if not stamped:
            raise MediaError("media.no_frames", f"{path.name} holds no video frames.")
        container.seek(stamped[0][0], stream=stream)
        first: av.video.frame.VideoFrame | None = next(iter(container.decode(stream)), None)
        if first is None:
            raise MediaError("media.no_frames", f"{path.name} holds no video frame that can be decoded.")
        # Rotation is stored counter-clockwise by FFmpeg; ours is the clockwise turn to upright.
        rotation = int(round(-first.rotation / 90) * 90) % 360
        width, height = first.width, first.height
        if rotation in (90, 270):
            width, height = height, width
        check_size(path, width, height)
        base = stream.time_base or Fraction(1, 1000)
        times = [Fraction(pts) * base for pts, _ in stamped]
        stated = stream.average_rate
        time_map = conform_times(times, Fraction(stated) if stated else None, path.name)
        context = stream.codec_context
        info = ClipInfo(
            kind="video",
            width=width,
            height=height,
            rate=time_map.rate,
            frames=len(time_map.source),
            rotation=rotation,
            has_alpha=_has_alpha(first) or _says_alpha(stream.metadata),
            has_audio=bool(container.streams.audio),
            bit_depth=max(c.bits for c in first.format.components),
            transfer=_TRANSFER.get(int(context.color_trc or 0), "sdr"),  # type: ignore[arg-type]
            variable=time_map.variable,
            codec=context.name,
            taken=_taken({**stream.metadata, **container.metadata}),
            equivalent_mm=_equivalent({**container.metadata, **stream.metadata}),
            gyroscope=has_gyroscope(container),
        )
        keys = tuple(pts for pts, key in stamped if key) or (stamped[0][0],)
        return info, VideoIndex(stamps=tuple(pts for pts, _ in stamped), keys=keys, time_map=time_map)


def _taken(tags: dict[str, str]) -> str:
    """When a file says that it was filmed: by the clock of the place, if a tag has that, else in universal time."""
    for wanted in ("creationdate", "creation_time"):
        for name, value in tags.items():
            if name.lower().endswith(wanted):
                try:
                    when = datetime.fromisoformat(value.strip())
                except ValueError:
                    continue
                # Clocks that were never set begin in 1904, 1970 or 1980.
                if EARLIEST_YEAR <= when.year < 2100:
                    return when.replace(microsecond=0).isoformat()
    return ""


def _equivalent(tags: dict[str, str]) -> float | None:
    """The focal length as the 35 mm equivalent, as cameras write it among a file's tags; None where none does."""
    for name, value in tags.items():
        if "focal" in name.lower() and "35mm" in name.lower():
            try:
                found = float(value.split()[0])
            except (ValueError, IndexError):
                continue
            if 8 <= found <= 600:
                return found
    return None


def folder_pictures(path: Path) -> list[Path]:
    """The numbered pictures of a folder in order; where one is missing, the one before it stands there."""
    return held(_pictures(path))[0]


def _pictures(path: Path) -> list[Path]:
    return [p for p in path.iterdir() if p.suffix.lower() in PICTURES and not p.name.startswith(".")]


def _probe_folder(path: Path) -> ClipInfo:
    files, gaps = held(_pictures(path))
    if not files:
        raise MediaError("media.no_frames", f"The folder {path.name} holds no pictures (PNG, JPEG, TIFF, WebP).")
    first = _probe_still(files[0])
    return ClipInfo(
        kind="folder", width=first.width, height=first.height, rate=Fraction(25), frames=len(files),
        has_alpha=first.has_alpha, bit_depth=first.bit_depth, codec=first.codec, missing=tuple(gaps),
    )  # fmt: skip


def _probe_still(path: Path) -> ClipInfo:
    # Whole, so that a damaged one is found out here.
    picture = read_straight(path)
    height, width = picture.shape[:2]
    return ClipInfo(
        kind="still", width=width, height=height, rate=Fraction(1), frames=1, has_alpha=picture.shape[2] == 4,
        bit_depth=picture.dtype.itemsize * 8, codec=path.suffix.lower().lstrip("."),
    )  # fmt: skip


def _says_alpha(metadata: dict[str, str]) -> bool:
    """Whether a stream says that it has coverage; writers differ in how they write the word."""
    return any(name.lower() == "alpha_mode" and value == "1" for name, value in metadata.items())


def _has_alpha(frame: av.video.frame.VideoFrame) -> bool:
    name = frame.format.name
    return name.startswith(("yuva", "rgba", "bgra", "argb", "abgr", "gbrap", "ya"))
