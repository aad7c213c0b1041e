"""What a solved lens does to a picture, as ST maps: pictures that say for each pixel where another one fetches it from."""

from __future__ import annotations

import io
import tempfile
import zipfile
from pathlib import Path

import numpy as np

from plonket.base.conventions import F32, F64
from plonket.formats.registry import FORMATS, FormatEntry, Going
from plonket.image.exr import write_exr
from plonket.room.camera_track import CameraTrack
from plonket.room.lens import Lens

SAME_FOCAL = 5e-4
"""Share by which the focal length may change for one map to do for all frames."""


def st_maps(lens: Lens, size: tuple[int, int]) -> dict[str, F32]:
    """``straight``: what each pixel of a picture without the lens's bend fetches from the filmed one; ``bent``: the way back.

    Each (h, w, 2): s from the left and t from the bottom, both 0 to 1 over the picture.
    """
    w, h = size
    x, y = np.meshgrid(np.arange(w) + 0.5, np.arange(h) + 0.5)
    places = np.stack([x, y], axis=-1)
    middle = np.array(lens.principal)
    from_filmed = lens.distort((places - middle) / lens.focal) * lens.focal + middle
    return {"straight": _st(from_filmed, size), "bent": _st(lens.undistort_pixels(places), size)}


def _st(places: F64, size: tuple[int, int]) -> F32:
    return np.stack([places[..., 0] / size[0], 1 - places[..., 1] / size[1]], axis=-1).astype(np.float32)


def write_st_maps(track: CameraTrack) -> bytes:
    """A ZIP of ``straight.exr`` and ``bent.exr``, channels R and G (and B of nothing); of a lens that zooms a pair for each
    frame, in folders of those names."""
    known = np.flatnonzero(track.known())
    focal = track.focal[known] if len(known) else track.focal
    zooms = bool(np.ptp(focal) > SAME_FOCAL * float(np.median(focal)))
    out = io.BytesIO()
    with tempfile.TemporaryDirectory() as folder, zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        place = Path(folder) / "map.exr"
        for frame in range(track.frames) if zooms else [int(known[0]) if len(known) else 0]:
            for name, st in st_maps(track.lens(frame), track.size).items():
                write_exr(place, {"R": st[..., 0], "G": st[..., 1], "B": np.zeros_like(st[..., 0])})
                archive.writestr(zipfile.ZipInfo(f"{name}/{frame:06d}.exr" if zooms else f"{name}.exr"), place.read_bytes())
    return out.getvalue()


def _write(going: Going) -> bytes:
    return write_st_maps(going.measured)


FORMATS.add(FormatEntry(
    kind="lens.zip", order=6, label="Lens as ST maps", mime="application/zip", track="camera", traits=frozenset({"room"}),
    write=_write,
))  # fmt: skip
