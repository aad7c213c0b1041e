"""A solved camera and its points as tables; a camera comes back from its own."""

from __future__ import annotations

import csv
import io

import numpy as np

from plonket.base.conventions import matrix_to_quaternion, quaternion_to_matrix
from plonket.base.errors import FormatError
from plonket.formats.camera_path import CameraPath, add_camera_format, numbers_of
from plonket.formats.registry import FORMATS, FormatEntry
from plonket.room.alignment import Room
from plonket.room.camera_track import CameraTrack

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


def camera_path_of_csv(text: str) -> CameraPath:
    """A table of a camera's frames, whose picture is as large as the clip's. Raises `FormatError`."""
    try:
        rows = sorted(((int(row["frame"]), row) for row in csv.DictReader(io.StringIO(text))), key=lambda one: one[0])
        places = np.array([numbers_of(row, PLACE) for _, row in rows]).reshape(-1, 3)
        turns = np.array([numbers_of(row, TURN) for _, row in rows]).reshape(-1, 4)
        focal = np.array([float(row["focal_px"]) for _, row in rows])
    except (KeyError, TypeError, ValueError, OverflowError, csv.Error) as error:
        raise FormatError(
            "camera_csv.shape", "A camera table needs the columns frame, x, y, z, qx, qy, qz, qw and focal_px, with numbers."
        ) from error
    if not rows:
        raise FormatError("camera_csv.empty", "This camera table has no frames.")
    if not np.isfinite(turns).all() or not np.linalg.norm(turns, axis=1).all():
        raise FormatError("camera.numbers", "The camera file has numbers that no camera can have.")
    frames = np.array([frame for frame, _ in rows], np.float64)
    return CameraPath(frames=frames, position=places, rotation=quaternion_to_matrix(turns), focal=focal)


def write_room_points_csv(track: CameraTrack, room: Room) -> str:
    """One row a detail that belongs to the room: place in metres and error in pixels."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(["id", "x", "y", "z", "error_px"])
    for k in np.flatnonzero(track.kept):
        table.writerow([int(track.ids[k]), *(f"{v:.7g}" for v in (*room.points(track.points[k]), track.point_error[k]))])
    return out.getvalue()


add_camera_format(
    "camera.csv", order=4, label="Camera CSV", mime="text/csv; charset=utf-8",
    write=lambda going: write_camera_csv(going.measured, going.motion.room),
    recognises=lambda coming: coming.text.startswith("frame,x,y,z,qx"), path=lambda coming: camera_path_of_csv(coming.text),
)
FORMATS.add(FormatEntry(
    kind="details.csv", order=5, label="Points CSV", mime="text/csv; charset=utf-8", track="camera",
    traits=frozenset({"counts"}),
    write=lambda going: write_room_points_csv(going.measured, going.motion.room),
))  # fmt: skip
