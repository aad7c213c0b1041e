"""Points as JSON: the same facts as the CSV, grouped by point."""

from __future__ import annotations

import json
import math
from typing import Any

from plonket.base.errors import FormatError
from plonket.base.states import NONE, STATE_NAMES
from plonket.formats.points_motion import motion_of
from plonket.formats.registry import FORMATS, Coming, FormatEntry
from plonket.track.points.settings import PointMotion
from plonket.track.points.tracks import PointTracks


def write_points_json(tracks: PointTracks) -> str:
    """Tracks to JSON text; frames that were not measured are left out."""
    points = []
    for k, name in enumerate(tracks.names):
        frames = [
            {"frame": i, "x": round(float(tracks.xy[k, i, 0]), 4), "y": round(float(tracks.xy[k, i, 1]), 4),
             "confidence": round(float(tracks.confidence[k, i]), 4), "state": STATE_NAMES[int(tracks.state[k, i])]}
            for i in range(tracks.frames) if tracks.state[k, i] != NONE
        ]  # fmt: skip
        points.append({"name": name, "frames": frames})
    return json.dumps({"points": points}, separators=(",", ":")) + "\n"


def read_points_json(text: str, frames: int | None = None) -> PointTracks:
    """JSON text to tracks. Raises `FormatError` that names the point which is wrong."""
    try:
        points: list[Any] = list(json.loads(text)["points"])
    except (json.JSONDecodeError, KeyError, TypeError) as error:
        raise FormatError("points_json.shape", 'A points file needs a list "points".') from error
    read: list[tuple[int, int, float, float, float, int]] = []
    names: list[str] = []
    for k, point in enumerate(points):
        try:
            names.append(str(point["name"])[:120] or f"Point {k + 1}")
            for row in point["frames"]:
                frame, x, y = int(row["frame"]), float(row["x"]), float(row["y"])
                confidence = float(row.get("confidence", 1))
                state = STATE_NAMES.index(row.get("state", "tracked"))
                if frame < 0 or not math.isfinite(x + y + confidence):
                    raise ValueError
                read.append((k, frame, x, y, confidence, state))
        except (AttributeError, KeyError, TypeError, ValueError) as error:
            raise FormatError("points_json.point", f"Point {k + 1} of the points file cannot be read.") from error
    if not read:
        raise FormatError("points_json.empty", "The points file has no points in it.")
    last = max(r[1] for r in read)
    if frames is not None and last >= frames:
        raise FormatError("points_json.length", f"The points file goes to frame {last}; the clip ends at {frames - 1}.")
    ids = tuple(f"point-{k + 1}" for k in range(len(names)))
    tracks = PointTracks.empty(ids, tuple(names), frames or last + 1)
    for k, frame, x, y, confidence, state in read:
        tracks.xy[k, frame], tracks.confidence[k, frame], tracks.state[k, frame] = (x, y), confidence, state
    return tracks


def _read(coming: Coming) -> tuple[PointMotion, PointTracks]:
    tracks = read_points_json(coming.text, coming.footage.frames)
    return motion_of(tracks, coming), tracks


FORMATS.add(FormatEntry(
    kind="points.json", order=20, label="Points JSON", mime="application/json", track="points",
    write=lambda going: write_points_json(going.measured), recognises=lambda coming: coming.text.startswith("{"), read=_read,
))  # fmt: skip
