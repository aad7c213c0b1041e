"""A solved camera and its points as tables."""

from __future__ import annotations

import csv
import io

import numpy as np

from plonket.base.conventions import matrix_to_quaternion
from plonket.formats.registry import FORMATS, FormatEntry
from plonket.room.alignment import Room
from plonket.room.camera_track import CameraTrack


def write_camera_csv(track: CameraTrack, room: Room) -> str:
    """One row a frame: place in metres, unit quaternion, focal length and mean error in pixels."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(["frame", "x", "y", "z", "qx", "qy", "qz", "qw", "focal_px", "error_px"])
    for i in np.flatnonzero(track.known()):
        place, turn = room.points(track.position[i]), matrix_to_quaternion(room.turns(track.rotation[i]))
        table.writerow([int(i), *(f"{v:.7g}" for v in (*place, *turn, track.focal[i], track.error_px[i]))])
    return out.getvalue()


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
))  # fmt: skip
FORMATS.add(FormatEntry(
    kind="details.csv", order=5, label="Points CSV", mime="text/csv; charset=utf-8", track="camera",
    traits=frozenset({"counts"}),
    write=lambda going: write_room_points_csv(going.measured, going.motion.room),
))  # fmt: skip
