"""Planes as JSON: a homography, row by row, for every frame."""

from __future__ import annotations

import json
import math
from typing import Any

import numpy as np

from plonket.base.conventions import F64
from plonket.base.errors import FormatError
from plonket.base.outlines import carry
from plonket.base.states import NONE, STATE_NAMES
from plonket.formats.registry import FORMATS, Coming, FormatEntry
from plonket.track.plane.settings import FREEDOMS, PlaneMotion
from plonket.track.plane.track import PlaneTrack


def write_plane(track: PlaneTrack) -> str:
    """A track to JSON text; frames that were not measured are left out."""
    rows = []
    for i in range(track.frames):
        if track.state[i] == NONE:
            continue
        rows.append({
            "frame": i, "homography": [round(float(v), 10) for v in track.homography[i].ravel()],
            "confidence": round(float(track.confidence[i]), 4), "state": STATE_NAMES[int(track.state[i])],
            "error_px": round(float(track.error_px[i]), 4), "motion": FREEDOMS[int(track.freedom[i])],
        })  # fmt: skip
    lines = ",\n".join(json.dumps(r, separators=(",", ":")) for r in rows)
    return f'{{"reference_frame":{track.reference_frame},"frames":[\n{lines}\n]}}\n'


def read_plane(text: str, frames: int | None = None) -> PlaneTrack:
    """JSON text to a track. Raises `FormatError` that names the frame which is wrong.

    `frames` is the clip's length; without it the last frame named ends the track.
    """
    try:
        data: Any = json.loads(text)
        reference, rows = int(data["reference_frame"]), list(data["frames"])
    except (json.JSONDecodeError, KeyError, TypeError, ValueError) as error:
        raise FormatError("plane_json.shape", 'A plane file needs "reference_frame" and "frames".') from error
    if not rows:
        raise FormatError("plane_json.empty", "The plane file has no frames.")
    read = [_row(row, k) for k, row in enumerate(rows)]
    length = max(max(r[0] for r in read), reference) + 1
    if frames is not None:
        if length > frames:
            raise FormatError("plane_json.length", f"The plane file goes to frame {length - 1}; the clip ends at {frames - 1}.")
        length = frames
    track = PlaneTrack.empty(length, reference)
    for frame, matrix, confidence, state, error_px, freedom in read:
        track.homography[frame], track.confidence[frame] = matrix, confidence
        track.state[frame], track.error_px[frame], track.freedom[frame] = state, error_px, freedom
        track.coverage[frame] = 1.0
    return track


def _row(row: Any, k: int) -> tuple[int, np.ndarray, float, int, float, int]:
    try:
        frame, numbers = int(row["frame"]), [float(v) for v in row["homography"]]
        confidence, error_px = float(row.get("confidence", 1)), float(row.get("error_px", 0))
        state = STATE_NAMES.index(row.get("state", "tracked"))
        freedom = FREEDOMS.index(row.get("motion", "perspective"))
        if frame < 0 or len(numbers) != 9 or not all(map(math.isfinite, [*numbers, confidence, error_px])):
            raise ValueError
    except (AttributeError, KeyError, TypeError, ValueError) as error:
        raise FormatError(
            "plane_json.frame", f"Entry {k + 1} of the plane file is not a frame with a homography of nine numbers."
        ) from error
    matrix = np.array(numbers).reshape(3, 3)
    if abs(matrix[2, 2]) < 1e-12 or abs(np.linalg.det(matrix)) < 1e-15:
        raise FormatError("plane_json.matrix", f"The homography of frame {frame} cannot be inverted.")
    return frame, matrix / matrix[2, 2], confidence, state, error_px, freedom


def _read(coming: Coming) -> tuple[PlaneMotion, PlaneTrack]:
    """Its quad is the middle half of the picture: the file says how the surface moves, not how large it is."""
    track = read_plane(coming.text, coming.footage.frames)
    w, h = coming.footage.width, coming.footage.height
    quad = np.array([[0.25 * w, 0.25 * h], [0.75 * w, 0.25 * h], [0.75 * w, 0.75 * h], [0.25 * w, 0.75 * h]])
    assert np.isfinite(carry(quad, track.homography[track.reference_frame])).all()
    return plane_of(quad, track, coming), track


def plane_of(quad: F64, track: PlaneTrack, coming: Coming) -> PlaneMotion:
    """A plane motion with a quad (4, 2)."""
    a, b, c, d = ((float(x), float(y)) for x, y in quad)
    return PlaneMotion(id=coming.motion_id, name=coming.name, reference_frame=track.reference_frame, quad=(a, b, c, d))


FORMATS.add(FormatEntry(
    kind="plane.json", order=5, label="Plane JSON", mime="application/json", track="plane",
    write=lambda going: write_plane(going.measured),
    recognises=lambda coming: coming.text.startswith("{") and '"homography"' in coming.text, read=_read,
))  # fmt: skip
