"""Opening files as media: only the formats that are meant, and nothing beside the file itself."""

from __future__ import annotations

from pathlib import Path

import av
import av.container

DEMUXERS = ("mov", "matroska", "avi", "mpegts", "mpeg", "flv", "asf", "ogg", "mxf", "dv", "h264", "hevc", "ivf", "wav", "mp3",
            "flac", "aac")  # fmt: skip
"""Containers of cameras, phones and other programs. Scripts and playlists, which name other files, are not among them."""


def open_media(path: Path) -> av.container.InputContainer:
    """A container to read from; raises PyAV's errors."""
    options = {"format_whitelist": _NAMES, "protocol_whitelist": "file"}
    return av.open(f"file:{path.resolve()}", options=options)


def _names() -> str:
    """The full names of the demuxers, which share some: `mov` is one of six in its list."""
    wanted = set(DEMUXERS)
    return ",".join(sorted({part for name in av.formats_available for part in name.split(",")
                            if wanted & set(name.split(","))} | wanted))  # fmt: skip


_NAMES = _names()
