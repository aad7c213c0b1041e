"""Mattes as pictures: a ZIP file with a grey PNG or an EXR for every frame, white where the thing is."""

from __future__ import annotations

import io
import struct
import tempfile
import zipfile
from collections.abc import Iterable, Iterator
from pathlib import Path

import cv2
import numpy as np

from plonket.base.conventions import U8
from plonket.base.errors import FormatError
from plonket.base.states import GIVEN, LOST
from plonket.formats.registry import FORMATS, Coming, FormatEntry, Going
from plonket.image.exr import channels_of, write_exr
from plonket.room.meshes.usd.opening import is_usd
from plonket.track.matte.matte_track import MatteTrack, packed
from plonket.track.matte.settings import MatteMotion

MOST_BYTES = 64 * 1024**2
"""Of one picture in the file."""
START = b"\x89PNG\r\n\x1a\n"
COVERS = ("A", "Y", "R", "Z")
"""Channels of an EXR that may be the matte, the most likely first."""


def matte_pictures(track: MatteTrack) -> Iterator[U8]:
    """(h, w) of every frame; black where nothing is known or nothing of it is seen."""
    black = np.zeros((track.size[1], track.size[0]), np.uint8)
    for frame in range(track.frames):
        alpha = track.alpha(frame)
        yield black if alpha is None else alpha


def matte_of(pictures: Iterable[U8], size: tuple[int, int], frames: int) -> MatteTrack:
    """A matte from a picture (h, w) of every frame."""
    track = MatteTrack.empty(size, frames)
    for frame, alpha in enumerate(pictures):
        there = alpha.max() >= 128
        track = track.with_frame(frame, alpha if there else None, "file", float(there), GIVEN if there else LOST)
    return track


def write_mattes(track: MatteTrack) -> bytes:
    """``000000.png`` and on, one for every frame of the clip; black where nothing is known or nothing of it is seen."""
    black = packed(np.zeros((track.size[1], track.size[0]), np.uint8))
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        for frame, picture in enumerate(track.pictures):
            archive.writestr(zipfile.ZipInfo(f"{frame:06d}.png"), picture or black)
    return out.getvalue()


def write_mattes_exr(track: MatteTrack) -> bytes:
    """``000000.exr`` and on: half floats from 0 to 1, the same as coverage (`A`) and as grey (`Y`)."""
    out = io.BytesIO()
    with tempfile.TemporaryDirectory() as folder, zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        place = Path(folder) / "frame.exr"
        for frame, picture in enumerate(matte_pictures(track)):
            share = (picture / np.float32(255)).astype(np.float16)
            write_exr(place, {"A": share, "Y": share})
            archive.writestr(zipfile.ZipInfo(f"{frame:06d}.exr"), place.read_bytes())
    return out.getvalue()


def read_mattes(data: bytes, size: tuple[int, int], frames: int) -> MatteTrack:
    """A matte from the PNG or EXR pictures in a ZIP file, in the order of their names, as many and as large as the clip's
    frames.

    Raises `FormatError`.
    """
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            every = sorted(one.filename for one in archive.infolist() if one.filename.lower().endswith((".png", ".exr")))
            pngs = [one for one in every if one.lower().endswith(".png")]
            names = pngs or every
            if len(names) != frames:
                held = f"{len(names)} {'PNG' if pngs else 'PNG or EXR'} pictures"
                raise FormatError("matte_zip.count", f"This file has {held}; the clip has {frames} frames.")
            return matte_of((_picture(archive, name, size) for name in names), size, frames)
    except (zipfile.BadZipFile, OSError, RuntimeError, NotImplementedError, ValueError) as error:
        raise FormatError("matte_zip.unreadable", "This ZIP file cannot be read.") from error


def _picture(archive: zipfile.ZipFile, name: str, size: tuple[int, int]) -> U8:
    if archive.getinfo(name).file_size > MOST_BYTES:
        raise FormatError("matte_zip.size", f"{name} is too large for a picture of this clip.")
    data = archive.read(name)
    return _exr(data, name, size) if name.lower().endswith(".exr") else _png(data, name, size)


def _png(data: bytes, name: str, size: tuple[int, int]) -> U8:
    """One picture, whose size is looked at before anything is decoded."""
    stated = struct.unpack(">II", data[16:24]) if data.startswith(START) and len(data) >= 24 else (0, 0)
    if stated != size:
        raise FormatError("matte_zip.picture", f"{name} is no PNG picture of {size[0]} x {size[1]} pixels, as the clip's are.")
    found = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_GRAYSCALE)
    if found is None:
        raise FormatError("matte_zip.picture", f"{name} cannot be read.")
    return np.asarray(found, np.uint8)


def _exr(data: bytes, name: str, size: tuple[int, int]) -> U8:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "frame.exr"
        path.write_bytes(data)
        try:
            channels = channels_of(path)
        except (OSError, RuntimeError, ValueError, TypeError) as error:
            raise FormatError("matte_zip.picture", f"{name} cannot be read.") from error
    found = next((channels[one] for one in COVERS if one in channels), None)
    if found is None or (found.shape[1], found.shape[0]) != size:
        raise FormatError("matte_zip.picture", f"{name} is no EXR picture of {size[0]} x {size[1]} pixels, as the clip's are.")
    return np.round(255 * np.clip(np.nan_to_num(found), 0, 1)).astype(np.uint8)


def _read(coming: Coming) -> tuple[MatteMotion, MatteTrack]:
    footage = coming.footage
    track = read_mattes(coming.data, (footage.width, footage.height), footage.frames)
    return MatteMotion(id=coming.motion_id, name=coming.name), track


def _write(going: Going) -> bytes:
    return write_mattes(going.measured)


def _write_exr(going: Going) -> bytes:
    return write_mattes_exr(going.measured)


FORMATS.add(FormatEntry(
    kind="mattes.zip", order=0, label="PNGs in a ZIP", mime="application/zip", track="matte", write=_write,
    recognises=lambda coming: coming.data.startswith(b"PK\x03\x04") and not is_usd(coming.data), read=_read,
))  # fmt: skip
FORMATS.add(FormatEntry(
    kind="mattes-exr.zip", order=1, label="EXRs in a ZIP", mime="application/zip", track="matte", write=_write_exr,
))  # fmt: skip
