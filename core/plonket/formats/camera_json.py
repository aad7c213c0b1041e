"""A solved camera as JSON, for other programs and back."""

from __future__ import annotations

import json
from fractions import Fraction
from typing import Any

import numpy as np

from plonket.base.conventions import matrix_to_quaternion, quaternion_to_matrix
from plonket.base.errors import FormatError
from plonket.formats.camera_path import CameraPath, add_camera_format, laid_over
from plonket.formats.registry import Timing
from plonket.room.alignment import Room, found_ground
from plonket.room.camera_track import CameraTrack


def write_camera(
    track: CameraTrack, fps: Fraction, room: Room | None = None, *, names: tuple[str, ...] | None = None
) -> str:
    """A track to JSON text, in the room's world; frames without a pose are left out, and so are points set aside.

    `names` stand in place of the points' numbers.
    """
    room = room or Room()
    frames = []
    for i in np.flatnonzero(track.known()):
        entry: dict[str, Any] = {
            "frame": int(i), "position": _rounded(room.points(track.position[i])),
            "rotation": _rounded(matrix_to_quaternion(room.turns(track.rotation[i])), 9),
            "error_px": round(float(track.error_px[i]), 4),
        }  # fmt: skip
        if np.ptp(track.focal) > 1e-6 * track.focal[0]:
            entry["focal_px"] = round(float(track.focal[i]), 4)
        frames.append(entry)
    points = [
        {"id": names[k] if names else int(track.ids[k]), "position": _rounded(room.points(track.points[k])),
         "error_px": round(float(track.point_error[k]), 4)}
        for k in np.flatnonzero(track.kept)
    ]  # fmt: skip
    known = np.flatnonzero(track.known())
    head = {
        "width": track.size[0], "height": track.size[1], "fps": f"{fps.numerator}/{fps.denominator}",
        "focal_px": round(float(np.median(track.focal[known] if len(known) else track.focal)), 4),
        "principal": [track.size[0] / 2, track.size[1] / 2],
        "distortion": dict(zip(("k1", "k2", "p1", "p2", "k3"), track.distortion, strict=True)),
        "readout": round(track.readout, 5),
        "mean_error_px": round(track.mean_error_px, 4), "kind": track.kind, "locked": track.locked,
        "warnings": list(track.warnings),
    }  # fmt: skip
    head["room"] = {"up": _rounded(room.matrix() @ np.array([0.0, 1.0, 0.0])), "ground": _ground(track, room)}
    lines = [f"{json.dumps(k)}:{json.dumps(v)}" for k, v in head.items()]
    lines.append('"frames":[\n' + ",\n".join(json.dumps(f, separators=(",", ":")) for f in frames) + "\n]")
    lines.append('"points":[\n' + ",\n".join(json.dumps(p, separators=(",", ":")) for p in points) + "\n]")
    return "{" + ",\n".join(lines) + "}\n"


def _ground(track: CameraTrack, room: Room) -> dict[str, list[float]] | None:
    """The ground of a solved room, as it would be written; None where none is seen."""
    known = track.known()
    if track.kind != "full" or not known.any():
        return None
    found = found_ground(track.points[track.kept], track.position[known].mean(axis=0))
    if found is None:
        return None
    point, normal = found
    return {"point": _rounded(room.points(point)), "normal": _rounded(room.matrix() @ normal)}


def read_camera(text: str, frames: int, size: tuple[int, int]) -> CameraTrack:
    """JSON text to a track of a clip with so many frames. Raises `FormatError` that says what is wrong."""
    path = camera_path(text)
    if path.frames[0] < 0 or path.frames[-1] >= frames:
        raise FormatError("camera_json.frames", f"The camera file's frames do not lie within the clip's {frames} frames.")
    return laid_over(path, frames, size, Timing(first=0.0, step=1.0, points=len(path.points)))


def camera_path(text: str) -> CameraPath:
    """JSON text as a camera's path. Raises `FormatError` that says what is wrong."""
    try:
        data: Any = json.loads(text)
        width, height = int(data["width"]), int(data["height"])
        focal, rows = float(data["focal_px"]), list(data["frames"])
        bends = [float(data.get("distortion", {}).get(k, 0.0)) for k in ("k1", "k2", "p1", "p2", "k3")]
        points = list(data.get("points", []))
        rate = float(Fraction(str(data["fps"]))) if "fps" in data else None
        at = np.array([int(r["frame"]) for r in rows])
        places = np.array([[float(v) for v in r["position"]] for r in rows]).reshape(-1, 3)
        turns = np.array([[float(v) for v in r["rotation"]] for r in rows]).reshape(-1, 4)
        focals = np.array([float(r.get("focal_px", focal)) for r in rows])
        spots = np.array([[float(v) for v in p["position"]] for p in points]).reshape(-1, 3)
        ids = np.array([int(p.get("id", k)) for k, p in enumerate(points)], np.int64)
        errors = np.array([float(p.get("error_px", 0)) for p in points])
    except (json.JSONDecodeError, AttributeError, KeyError, TypeError, ValueError, ZeroDivisionError, OverflowError) as error:
        raise FormatError(
            "camera_json.shape", "A camera file needs width, height, focal_px and frames with position and rotation."
        ) from error
    if not len(at):
        raise FormatError("camera_json.frames", "The camera file has no frames.")
    if not np.isfinite(turns).all() or not np.linalg.norm(turns, axis=1).all() or min(width, height) < 1:
        raise FormatError("camera.numbers", "The camera file has numbers that no camera can have.")
    order = np.argsort(at)
    return CameraPath(
        frames=at[order].astype(np.float64), position=places[order], rotation=quaternion_to_matrix(turns[order]),
        focal=focals[order], size=(width, height), rate=rate, points=spots, ids=ids, point_error=errors,
        distortion=(bends[0], bends[1], bends[2], bends[3], bends[4]), readout=float(data.get("readout", 0.0)),
        solved="rotation-only" if data.get("kind") == "rotation-only" else "full", locked=bool(data.get("locked", False)),
    )  # fmt: skip


def _rounded(values: np.ndarray, digits: int = 7) -> list[float]:
    return [round(float(v), digits) for v in values]


add_camera_format(
    "camera.json", order=0, label="JSON", mime="application/json",
    write=lambda going: write_camera(going.measured, going.footage.fps, going.motion.room),
    recognises=lambda coming: coming.text.startswith("{") and '"focal_px"' in coming.text and '"nodes"' not in coming.text,
    path=lambda coming: camera_path(coming.text),
)
