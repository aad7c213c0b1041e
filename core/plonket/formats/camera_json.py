"""A solved camera as JSON, for other programs and back."""

from __future__ import annotations

import json
import math
from fractions import Fraction
from typing import Any

import numpy as np

from plonket.base.conventions import matrix_to_quaternion, quaternion_to_matrix
from plonket.base.errors import FormatError
from plonket.base.states import GIVEN
from plonket.formats.registry import FORMATS, Coming, FormatEntry
from plonket.room.alignment import Room, found_ground
from plonket.room.camera_track import CameraTrack
from plonket.track.camera.settings import CameraMotion


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
    try:
        data: Any = json.loads(text)
        width, height = int(data["width"]), int(data["height"])
        focal, rows = float(data["focal_px"]), list(data["frames"])
        bends = tuple(float(data.get("distortion", {}).get(k, 0.0)) for k in ("k1", "k2", "p1", "p2", "k3"))
        kind = str(data.get("kind", "full"))
        points = list(data.get("points", []))
        at = np.array([int(r["frame"]) for r in rows])
        places = np.array([[float(v) for v in r["position"]] for r in rows]).reshape(-1, 3)
        turns = np.array([[float(v) for v in r["rotation"]] for r in rows]).reshape(-1, 4)
        focals = np.array([float(r.get("focal_px", focal)) for r in rows])
        spots = np.array([[float(v) for v in p["position"]] for p in points]).reshape(-1, 3)
        ids = np.array([int(p.get("id", k)) for k, p in enumerate(points)], np.int64)
        errors = np.array([float(p.get("error_px", 0)) for p in points], np.float32)
    except (json.JSONDecodeError, AttributeError, KeyError, TypeError, ValueError) as error:
        raise FormatError(
            "camera_json.shape", "A camera file needs width, height, focal_px and frames with position and rotation."
        ) from error
    if (width, height) != size:
        raise FormatError("camera_json.size", f"The camera file is for {width} x {height}; the clip is {size[0]} x {size[1]}.")
    if not len(at) or at.min() < 0 or at.max() >= frames:
        raise FormatError("camera_json.frames", f"The camera file's frames do not lie within the clip's {frames} frames.")
    numbers = [focal, *bends, *places.ravel(), *turns.ravel(), *focals, *spots.ravel()]
    if not all(map(math.isfinite, numbers)) or focal <= 0 or (focals <= 0).any() or not np.linalg.norm(turns, axis=1).all():
        raise FormatError("camera_json.numbers", "The camera file has numbers that no camera can have.")
    order = np.argsort(at)
    at, places, turns, focals = at[order], places[order], turns[order], focals[order]
    every = np.arange(frames)
    nearest = np.clip(np.searchsorted(at, every), 0, len(at) - 1)
    state = np.zeros(frames, np.uint8)
    state[at] = GIVEN
    n, m = frames, len(ids)
    return CameraTrack(
        size=size, kind="rotation-only" if kind == "rotation-only" else "full", locked=bool(data.get("locked", False)),
        position=np.stack([np.interp(every, at, places[:, k]) for k in range(3)], axis=1),
        rotation=quaternion_to_matrix(turns[nearest]), focal=np.interp(every, at, focals),
        distortion=(bends[0], bends[1], bends[2], bends[3], bends[4]), readout=float(data.get("readout", 0.0)),
        state=state, reason=np.zeros(n, np.uint8), confidence=(state == GIVEN).astype(np.float32),
        error_px=np.zeros(n, np.float32), seen=np.zeros(n, np.int32), ids=ids, points=spots, point_error=errors,
        angle=np.full(m, 90, np.float32), kept=np.ones(m, bool), strong=np.zeros(m, bool),
        xy=np.full((m, n, 2), np.nan, np.float32), noise=0.0, focal_doubt=0.0, followed="", warnings=(),
    )  # fmt: skip


def _rounded(values: np.ndarray, digits: int = 7) -> list[float]:
    return [round(float(v), digits) for v in values]


def _read(coming: Coming) -> tuple[CameraMotion, CameraTrack]:
    track = read_camera(coming.text, coming.footage.frames, (coming.footage.width, coming.footage.height))
    return camera_of(track, coming), track


def camera_of(track: CameraTrack, coming: Coming) -> CameraMotion:
    """A camera motion of a path that is known."""
    known = np.flatnonzero(track.known())
    return CameraMotion(id=coming.motion_id, name=coming.name, reference_frame=int(known[0]), knows="pixels",
                        focal_px=float(np.clip(np.median(track.focal[known]), 50, 100000)))  # fmt: skip


FORMATS.add(FormatEntry(
    kind="camera.json", order=0, label="JSON", mime="application/json", track="camera",
    write=lambda going: write_camera(going.measured, going.footage.fps, going.motion.room),
    recognises=lambda coming: coming.text.startswith("{") and '"focal_px"' in coming.text and '"nodes"' not in coming.text,
    read=_read,
))  # fmt: skip
