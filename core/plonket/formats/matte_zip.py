"""Mattes as pictures: a ZIP file with a grey PNG for every frame, white where the thing is."""

from __future__ import annotations

import io
import struct
import zipfile

import cv2
import numpy as np

from plonket.base.conventions import U8
from plonket.base.errors import FormatError
from plonket.base.states import GIVEN, LOST
from plonket.formats.registry import FORMATS, Coming, FormatEntry, Going
from plonket.room.meshes.usd.opening import is_usd
from plonket.track.matte.matte_track import MatteTrack, packed
from plonket.track.matte.settings import MatteMotion

MOST_BYTES = 64 * 1024**2
"""Of one picture in the file."""
START = b"\x89PNG\r\n\x1a\n"


def write_mattes(track: MatteTrack) -> bytes:
    """``000000.png`` and on, one for every frame of the clip; black where nothing is known or nothing of it is seen."""
    black = packed(np.zeros((track.size[1], track.size[0]), np.uint8))
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        for frame, picture in enumerate(track.pictures):
            archive.writestr(zipfile.ZipInfo(f"{frame:06d}.png"), picture or black)
    return out.getvalue()


def read_mattes(data: bytes, size: tuple[int, int], frames: int) -> MatteTrack:
    """A matte from the PNG pictures in a ZIP file, in the order of their names, as many and as large as the clip's frames.

    Raises `FormatError`.
    """
    track = MatteTrack.empty(size, frames)
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            names = sorted(one.filename for one in archive.infolist() if one.filename.lower().endswith(".png"))
            if len(names) != frames:
                raise FormatError("matte_zip.count", f"This file has {len(names)} PNG pictures; the clip has {frames} frames.")
            for frame, name in enumerate(names):
                if archive.getinfo(name).file_size > MOST_BYTES:
                    raise FormatError("matte_zip.size", f"{name} is too large for a picture of this clip.")
                alpha = _picture(archive.read(name), name, size)
                if alpha.max() < 128:
                    track = track.with_frame(frame, None, "file", 0.0, LOST)
                else:
                    track = track.with_frame(frame, alpha, "file", 1.0, GIVEN)
    except (zipfile.BadZipFile, OSError, RuntimeError, NotImplementedError, ValueError) as error:
        raise FormatError("matte_zip.unreadable", "This ZIP file cannot be read.") from error
    return track


def _picture(data: bytes, name: str, size: tuple[int, int]) -> U8:
    """One picture, whose size is looked at before anything is decoded."""
    stated = struct.unpack(">II", data[16:24]) if data.startswith(START) and len(data) >= 24 else (0, 0)
    if stated != size:
        raise FormatError("matte_zip.picture", f"{name} is no PNG picture of {size[0]} x {size[1]} pixels, as the clip's are.")
    found = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_GRAYSCALE)
    if found is None:
        raise FormatError("matte_zip.picture", f"{name} cannot be read.")
    return np.asarray(found, np.uint8)


def _write(going: Going) -> bytes:
    return write_mattes(going.measured)


def _read(coming: Coming) -> tuple[MatteMotion, MatteTrack]:
    footage = coming.footage
    track = read_mattes(coming.data, (footage.width, footage.height), footage.frames)
    return MatteMotion(id=coming.motion_id, name=coming.name), track


FORMATS.add(FormatEntry(
    kind="mattes.zip", order=0, label="PNGs in a ZIP", mime="application/zip", track="matte", write=_write,
    recognises=lambda coming: coming.data.startswith(b"PK\x03\x04") and not is_usd(coming.data), read=_read,
))  # fmt: skip
