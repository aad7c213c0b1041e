"""Motions made from files in open formats."""

from __future__ import annotations

import numpy as np

from plonket.base.errors import FormatError
from plonket.base.outlines import carry
from plonket.document.operations import fresh_id
from plonket.document.shot import Shot as Document
from plonket.formats.camera_gltf import read_camera_gltf
from plonket.formats.camera_json import read_camera
from plonket.formats.corners_csv import read_corners
from plonket.formats.plane_json import read_plane
from plonket.formats.points_csv import read_points
from plonket.formats.points_json import read_points_json
from plonket.room.camera_track import CameraTrack
from plonket.track.camera.settings import CameraMotion
from plonket.track.movement import Measured
from plonket.track.plane.settings import PlaneMotion
from plonket.track.plane.track import PlaneTrack
from plonket.track.points.settings import Given, PointMotion, TrackPoint
from plonket.track.points.tracks import PointTracks
from plonket_server import store
from shots.models import Measurement


def motion_from_file(document: Document, name: str, content: str | bytes) -> PointMotion | PlaneMotion | CameraMotion:
    """A measured motion from a points, plane, corners or camera file. Raises `FormatError`."""
    assert document.footage is not None
    frames = document.footage.frames
    motion_id = fresh_id(document, "motion")
    title = name.rsplit("/", 1)[-1].rsplit(".", 1)[0].strip() or "Motion"
    size, fps = (document.footage.width, document.footage.height), document.footage.fps
    if isinstance(content, bytes):
        return _camera(motion_id, title, read_camera_gltf(content, frames, size, fps))
    text = content
    start = text.lstrip("\ufeff \n\r\t")
    if start.startswith("{"):
        if '"homography"' in text:
            return _plane(document, motion_id, title, None, read_plane(text, frames))
        if '"asset"' in text and '"nodes"' in text:
            return _camera(motion_id, title, read_camera_gltf(text.encode(), frames, size, fps))
        if '"focal_px"' in text:
            return _camera(motion_id, title, read_camera(text, frames, size))
        return _points(motion_id, title, read_points_json(text, frames))
    header = start.split("\n", 1)[0]
    if "x1" in header.split(","):
        quad, track = read_corners(text, document.footage.in_frame, frames)
        return _plane(document, motion_id, title, quad, track)
    return _points(motion_id, title, read_points(text, frames))


def _camera(motion_id: str, title: str, track: CameraTrack) -> CameraMotion:
    known = np.flatnonzero(track.known())
    return CameraMotion(id=motion_id, name=title, reference_frame=int(known[0]), knows="pixels",
                        focal_px=float(np.clip(np.median(track.focal[known]), 50, 100000)),
                        measurement=_keep(track, "camera"))  # fmt: skip


def _points(motion_id: str, title: str, tracks: PointTracks) -> PointMotion:
    points = []
    for k, point_id in enumerate(tracks.ids):
        known = np.nonzero(tracks.known(k))[0]
        if len(known) == 0:
            raise FormatError("points.unknown", f"{tracks.names[k]} has no frame on which it is not lost.")
        first = int(known[0])
        x, y = tracks.xy[k, first].tolist()
        points.append(TrackPoint(id=point_id, name=tracks.names[k], given=[Given(frame=first, x=x, y=y)]))
    return PointMotion(id=motion_id, name=title, points=points, measurement=_keep(tracks, "points"))


def _plane(
    document: Document, motion_id: str, title: str, quad: np.ndarray | None, track: PlaneTrack
) -> PlaneMotion:
    assert document.footage is not None
    if quad is None:
        w, h = document.footage.width, document.footage.height
        quad = np.array([[0.25 * w, 0.25 * h], [0.75 * w, 0.25 * h], [0.75 * w, 0.75 * h], [0.25 * w, 0.75 * h]])
        assert np.isfinite(carry(quad, track.homography[track.reference_frame])).all()
    a, b, c, d = ((float(x), float(y)) for x, y in quad)
    return PlaneMotion(
        id=motion_id, name=title, reference_frame=track.reference_frame, quad=(a, b, c, d),
        measurement=_keep(track, "plane"),
    )  # fmt: skip


def _keep(measured: Measured, kind: str) -> str:
    digest = store.keep_measurement(measured.to_bytes())
    Measurement.objects.get_or_create(digest=digest, defaults={"kind": kind, "summary": {"source": "file"}})
    return digest
