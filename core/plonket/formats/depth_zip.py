"""Depth as pictures: a ZIP file with a float EXR for every frame."""

from __future__ import annotations

import io
import tempfile
import zipfile
from pathlib import Path

import numpy as np

from plonket.depth.files import write_depth
from plonket.formats.registry import FORMATS, FormatEntry, Going
from plonket.track.depth.depth_track import DepthTrack


def write_depths(track: DepthTrack, scale: float = 1.0) -> bytes:
    """``000000.exr`` and on, one for every frame of the clip: z-depth, 0 where unknown, `scale` times the track's units."""
    out = io.BytesIO()
    nothing = np.zeros((track.size[1], track.size[0]), np.float32)
    with tempfile.TemporaryDirectory() as folder, zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        place = Path(folder) / "frame.exr"
        for frame in range(track.frames):
            depth = track.depth(frame)
            write_depth(nothing if depth is None else depth * np.float32(scale), place)
            archive.writestr(zipfile.ZipInfo(f"{frame:06d}.exr"), place.read_bytes())
    return out.getvalue()


def _write(going: Going) -> bytes:
    return write_depths(going.measured)


FORMATS.add(FormatEntry(
    kind="depths.zip", order=0, label="EXRs in a ZIP", mime="application/zip", track="depth", write=_write,
))  # fmt: skip
