"""A plane's quad as CSV: four corners per frame, clockwise from top left."""

from __future__ import annotations

import csv
import io
import math

import numpy as np

from plonket.base.conventions import F64
from plonket.base.errors import FormatError
from plonket.base.outlines import carry
from plonket.base.states import GIVEN, NONE, STATE_NAMES, TRACKED
from plonket.formats.plane_json import plane_of
from plonket.formats.registry import FORMATS, Coming, FormatEntry
from plonket.track.movement import plane_movement
from plonket.track.plane.correct import quad_homography
from plonket.track.plane.settings import PlaneMotion
from plonket.track.plane.track import PlaneTrack

CORNERS = ["x1", "y1", "x2", "y2", "x3", "y3", "x4", "y4"]
COLUMNS = ["frame", *CORNERS, "confidence", "state"]


def write_corners(motion: PlaneMotion, track: PlaneTrack) -> str:
    """The quad in every measured frame, with stakes, bridging and smoothing as the motion is set."""
    out = io.StringIO()
    rows = csv.writer(out, lineterminator="\n")
    rows.writerow(COLUMNS)
    quad = np.array(motion.quad, np.float64)
    for i, m in enumerate(plane_movement(motion, track, track.reference_frame)):
        if track.state[i] == NONE:
            continue
        corners = [f"{v:.4f}" for v in carry(quad, m).ravel()]
        rows.writerow([i, *corners, f"{track.confidence[i]:.4f}", STATE_NAMES[int(track.state[i])]])
    return out.getvalue()


def read_corners(text: str, reference: int, frames: int | None = None) -> tuple[F64, PlaneTrack]:
    """CSV text to the quad (4, 2) on the reference frame and a track. Raises `FormatError` with the line that is wrong."""
    rows = csv.DictReader(io.StringIO(text.removeprefix("\ufeff")))
    if rows.fieldnames is None or not {"frame", *CORNERS} <= set(rows.fieldnames):
        raise FormatError("corners_csv.columns", f"A corners file needs the columns {','.join(COLUMNS)}.")
    read: dict[int, tuple[F64, float, int]] = {}
    for row in rows:
        try:
            frame = int(row["frame"])
            corners = np.array([float(row[c]) for c in CORNERS]).reshape(4, 2)
            confidence = float(row.get("confidence") or 1)
            state = STATE_NAMES.index(row.get("state") or "tracked")
            if frame < 0 or not (np.isfinite(corners).all() and math.isfinite(confidence)):
                raise ValueError
        except (TypeError, ValueError) as error:
            raise FormatError("corners_csv.line", f"Line {rows.line_num} of the corners file cannot be read.") from error
        read[frame] = (corners, confidence, state)
    if not read:
        raise FormatError("corners_csv.empty", "The corners file has no frames.")
    if reference not in read:
        reference = min(read)
    length = frames if frames is not None else max(read) + 1
    if max(read) >= length:
        raise FormatError("corners_csv.length", f"The corners file goes to frame {max(read)}; the clip ends at {length - 1}.")
    quad = read[reference][0]
    track = PlaneTrack.empty(length, reference)
    for frame, (corners, confidence, state) in read.items():
        m = quad_homography(quad, corners)
        if m is None:
            raise FormatError("corners_csv.folded", f"The corners of frame {frame} are folded or lie on a line.")
        track.homography[frame], track.confidence[frame], track.coverage[frame] = m, confidence, 1.0
        track.state[frame] = GIVEN if frame == reference else state or TRACKED
        track.freedom[frame] = 3
    return quad, track


def _read(coming: Coming) -> tuple[PlaneMotion, PlaneTrack]:
    quad, track = read_corners(coming.text, coming.footage.clip_range[0], coming.footage.frames)
    return plane_of(quad, track, coming), track


FORMATS.add(FormatEntry(
    kind="corners.csv", order=6, label="Corners CSV", mime="text/csv; charset=utf-8", track="plane",
    write=lambda going: write_corners(going.motion, going.measured),
    recognises=lambda coming: "x1" in coming.text.split("\n", 1)[0].split(","), read=_read,
))  # fmt: skip
