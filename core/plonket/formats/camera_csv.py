"""A solved camera and its points as tables; a camera comes back from its own."""

from __future__ import annotations

import csv
import io
import json

import numpy as np

from plonket.base.conventions import matrix_to_quaternion
from plonket.base.errors import FormatError
from plonket.formats.camera_json import camera_of, read_camera
from plonket.formats.registry import FORMATS, Coming, FormatEntry
from plonket.room.alignment import Room
from plonket.room.camera_track import CameraTrack
from plonket.track.camera.settings import CameraMotion

PLACE, TURN = ("x", "y", "z"), ("qx", "qy", "qz", "qw")

def write_camera_csv(track: CameraTrack, room: Room) -> str:
    """One row a frame: place in metres, unit quaternion, focal length and mean error in pixels."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(["frame", *PLACE, *TURN, "focal_px", "error_px"])
    for i in np.flatnonzero(track.known()):
        place, turn = room.points(track.position[i]), matrix_to_quaternion(room.turns(track.rotation[i]))
        table.writerow([int(i), *(f"{v:.7g}" for v in (*place, *turn, track.focal[i], track.error_px[i]))])
    return out.getvalue()


def read_camera_csv(text: str, frames: int, size: tuple[int, int]) -> CameraTrack:
    """A table of a camera's frames to a track of a clip with so many, whose size the picture has. Raises `FormatError`."""
    rows = []
    try:
        for row in csv.DictReader(io.StringIO(text)):
            numbers = {name: float(row[name]) for name in (*PLACE, *TURN, "focal_px")}
            rows.append({
                "frame": int(row["frame"]), "position": [numbers[n] for n in PLACE], "rotation": [numbers[n] for n in TURN],
                "focal_px": numbers["focal_px"],
            })  # fmt: skip
    except (KeyError, TypeError, ValueError, csv.Error) as error:
        raise FormatError(
            "camera_csv.shape", "A camera table needs the columns frame, x, y, z, qx, qy, qz, qw and focal_px, with numbers."
        ) from error
    if not rows:
        raise FormatError("camera_csv.empty", "This camera table has no frames.")
    focal = float(np.median([row["focal_px"] for row in rows]))  # type: ignore[arg-type]
    whole = {"width": size[0], "height": size[1], "focal_px": focal, "frames": rows}
    return read_camera(json.dumps(whole), frames, size)


def _read(coming: Coming) -> tuple[CameraMotion, CameraTrack]:
    track = read_camera_csv(coming.text, coming.footage.frames, (coming.footage.width, coming.footage.height))
    return camera_of(track, coming), track


def write_room_points_csv(track: CameraTrack, room: Room) -> str:
    """One row a detail that belongs to the room: place in metres and error in pixels."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(["id", "x", "y", "z", "error_px"])
    for k in np.flatnonzero(track.kept):
        table.writerow([int(track.ids[k]), *(f"{v:.7g}" for v in (*room.points(track.points[k]), track.point_error[k]))])
    return out.getvalue()


FORMATS.add(FormatEntry(
    kind="camera.csv", order=4, label="Camera CSV", mime="text/csv; charset=utf-8", track="camera",
    write=lambda going: write_camera_csv(going.measured, going.motion.room),
    recognises=lambda coming: coming.text.startswith("frame,x,y,z,qx"), read=_read,
))  # fmt: skip
FORMATS.add(FormatEntry(
    kind="details.csv", order=5, label="Points CSV", mime="text/csv; charset=utf-8", track="camera",
    traits=frozenset({"counts"}),
    write=lambda going: write_room_points_csv(going.measured, going.motion.room),
))  # fmt: skip
