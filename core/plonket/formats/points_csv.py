"""Points as CSV: columns ``name,frame,x,y,confidence,state``."""

from __future__ import annotations

import csv
import io
import math
import re

from plonket.base.errors import FormatError
from plonket.base.states import NONE, STATE_NAMES
from plonket.formats.points_motion import motion_of
from plonket.formats.registry import FORMATS, Coming, FormatEntry
from plonket.track.points.settings import PointMotion
from plonket.track.points.tracks import PointTracks

COLUMNS = ["name", "frame", "x", "y", "confidence", "state"]


def write_points(tracks: PointTracks) -> str:
    """Tracks to CSV text; frames that were not measured are left out."""
    out = io.StringIO()
    rows = csv.writer(out, lineterminator="\n")
    rows.writerow(COLUMNS)
    for k, name in enumerate(tracks.names):
        for frame in range(tracks.frames):
            state = int(tracks.state[k, frame])
            if state == NONE:
                continue
            x, y = tracks.xy[k, frame]
            rows.writerow([name, frame, f"{x:.4f}", f"{y:.4f}", f"{tracks.confidence[k, frame]:.4f}", STATE_NAMES[state]])
    return out.getvalue()


def read_points(text: str, frames: int | None = None) -> PointTracks:
    """CSV text to tracks. Raises `FormatError` with the line that is wrong.

    `frames` is the clip's length; without it the last frame named ends the tracks.
    """
    rows = csv.DictReader(io.StringIO(text.removeprefix("﻿")))
    if rows.fieldnames is None or not set(COLUMNS[:4]) <= set(rows.fieldnames):
        raise FormatError("points_csv.columns", f"A points file needs the columns {','.join(COLUMNS)}.")
    read: list[tuple[str, int, float, float, float, int]] = []
    names: list[str] = []
    for row in rows:
        try:
            name, frame = row["name"], int(row["frame"])
            x, y = float(row["x"]), float(row["y"])
            confidence = float(row.get("confidence") or 1)
            state = STATE_NAMES.index(row.get("state") or "tracked")
            if frame < 0 or not name or not math.isfinite(x + y + confidence):
                raise ValueError
        except (TypeError, ValueError) as error:
            raise FormatError("points_csv.row", f"Line {rows.line_num} of the points file cannot be read.") from error
        if name not in names:
            names.append(name)
        read.append((name, frame, x, y, confidence, state))
    if not read:
        raise FormatError("points_csv.empty", "The points file holds no points.")
    length = frames or max(r[1] for r in read) + 1
    tracks = PointTracks.empty(tuple(_as_id(n, k) for k, n in enumerate(names)), tuple(names), length)
    for name, frame, x, y, confidence, state in read:
        if frame >= length:
            raise FormatError("points_csv.frame", f"The points file names frame {frame}; the clip ends at {length - 1}.")
        k = names.index(name)
        tracks.xy[k, frame] = (x, y)
        tracks.confidence[k, frame], tracks.state[k, frame] = confidence, state
    return tracks


def _as_id(name: str, k: int) -> str:
    plain = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")
    return f"{plain[:40] or 'point'}-{k + 1}"


def _read(coming: Coming) -> tuple[PointMotion, PointTracks]:
    tracks = read_points(coming.text, coming.footage.frames)
    return motion_of(tracks, coming), tracks


FORMATS.add(FormatEntry(
    kind="points.csv", order=10, label="Points CSV", mime="text/csv; charset=utf-8", track="points",
    write=lambda going: write_points(going.measured), read=_read,
    recognises=lambda coming: bool(coming.text) and not coming.text.startswith("{"),
))  # fmt: skip
