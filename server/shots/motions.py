"""API: measuring motions, their results, and what comes in and goes out in open formats."""

from __future__ import annotations

import base64
import uuid
from typing import Any, cast

import numpy as np
from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema
from pydantic import Field

from jobs.api import JobOut, job_out
from jobs.models import Job
from jobs.queue import enqueue
from library.pool import pool
from plonket.base.conventions import matrix_to_quaternion
from plonket.base.errors import BadInput
from plonket.base.fields import Name
from plonket.base.states import REASONS, STATE_NAMES
from plonket.document.shot import Shot as Document
from plonket.formats.registry import FORMATS, Going, Timing, facts_of_file, formats_of
from plonket.formats.svg_outlines import read_svg
from plonket.render.room_contents import scene_of
from plonket.render.sources import ShotSources
from plonket.room.camera_track import CameraTrack
from plonket.room.lens import focal_to_35mm
from plonket.track.plane.settings import FREEDOMS, PlaneMotion, Region
from plonket.track.plane.track import PlaneTrack
from plonket.track.points.settings import Direction, PointMotion
from plonket.track.points.tracks import PointTracks
from plonket.track.room_motion import RoomMotion
from shots.api import ShotOut, shot_out
from shots.editing import change_shot, document_of, find_shot
from shots.importing import brought_in, coming

router = Router(tags=["motions"])

MOST_TEXT = 32 * 1024**2


class MeasureIn(Schema):
    direction: Direction = "both"
    origin: int | None = Field(default=None, ge=0, description="Frame to go on from; none: from the given frames")


class PointOut(Schema):
    id: str
    name: str
    xy: list[float] = Field(description="x0, y0, x1, y1, ... for every frame of the clip")
    confidence: list[float]
    state: list[int]
    reason: list[int]


class WholeOut(Schema):
    """How well a motion was followed that has one answer a frame."""

    confidence: list[float]
    state: list[int]
    reason: list[int]


class PlaneOut(Schema):
    reference_frame: int
    homography: list[float] = Field(description="Nine numbers, row by row, for every frame of the clip")
    confidence: list[float]
    state: list[int]
    reason: list[int]
    error_px: list[float]
    freedom: list[int] = Field(description="Index into freedoms")


class RoomDetailOut(Schema):
    id: str
    place: list[float]
    error_px: float
    angle: float
    kept: bool
    strong: bool
    first: int
    xy: list[int] = Field(description="x, y, x, y, ... from frame `first` on, in tenths of a pixel; -1, -1: not seen")


class CameraOut(Schema):
    kind: str
    locked: bool
    position: list[float] = Field(description="x, y, z for every frame, as solved")
    rotation: list[float] = Field(description="Unit quaternion x, y, z, w for every frame")
    focal: list[float]
    distortion: list[float]
    readout: float
    state: list[int]
    reason: list[int]
    confidence: list[float]
    error_px: list[float]
    seen: list[int]
    details: list[RoomDetailOut]
    mean_error_px: float
    focal_doubt: float
    equivalent_mm: float
    warnings: list[str]


class MeasurementOut(Schema):
    digest: str
    frames: int
    points: list[PointOut]
    plane: PlaneOut | None
    camera: CameraOut | None
    whole: WholeOut | None = Field(description="Of everything that has one answer a frame")
    states: list[str]
    reasons: list[str]
    freedoms: list[str]


class TimingIO(Schema):
    first: float = Field(ge=-1e6, le=1e6, description="The file's frame on the clip's first", allow_inf_nan=False)
    step: float = Field(gt=0, le=1000, description="Frames of the file from one of the clip to the next", allow_inf_nan=False)
    points: int = Field(ge=0, le=20_000, description="How many of its points at most")


class FileFactsOut(Schema):
    kind: str
    fits: bool = Field(description="Whether it can be brought in without a question")
    first: float
    last: float
    rate: float | None = Field(description="Frames a second, if it says")
    points: int
    timing: TimingIO | None = Field(description="How it is laid over the clip if nobody says otherwise")


class FileIn(Schema):
    name: Name
    text: str = Field(default="", max_length=MOST_TEXT)
    data: str = Field(default="", max_length=MOST_TEXT, description="Base64, for files that are no text: GLB")
    timing: TimingIO | None = Field(default=None, description="How a camera's path is laid over the clip; none: as seems right")


class RegionsIn(Schema):
    text: str = Field(max_length=MOST_TEXT, description="An SVG file")


@router.post("/shots/{shot_id}/motions/{motion_id}/measure", response=JobOut)
def measure(request: HttpRequest, shot_id: uuid.UUID, motion_id: str, body: MeasureIn) -> Any:
    """Measure a motion in the background; its partial results come as events."""
    document = document_of(find_shot(shot_id))
    if document.footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet. Bring in a clip first.")
    motion = document.motion(motion_id)
    if isinstance(motion, PointMotion) and not motion.points:
        raise BadInput("points.none", f"{motion.name} has no points yet. Click on a small, clear detail.")
    busy = Job.objects.filter(shot_id=shot_id, kind=Job.Kind.MEASURE, state__in=Job.OPEN, payload__motion=motion_id)
    if busy.exists():
        raise BadInput("measure.busy", f"{motion.name} is being measured already. Stop that first.")
    job = enqueue(
        Job.Kind.MEASURE, shot_id=shot_id, label=f"Measuring {motion.name}",
        payload={"motion": motion_id, "direction": body.direction, "origin": body.origin},
    )  # fmt: skip
    return job_out(job)


@router.get("/measurements/{digest}", response=MeasurementOut)
def measurement(request: HttpRequest, response: HttpResponse, digest: str) -> Any:
    """What was measured."""
    found = pool().measured(digest)
    response["Cache-Control"] = "private, max-age=31536000, immutable"
    return MeasurementOut(
        digest=digest, frames=found.frames, points=_points_out(found) if isinstance(found, PointTracks) else [],
        plane=_plane_out(found) if isinstance(found, PlaneTrack) else None,
        camera=_camera_out(found) if isinstance(found, CameraTrack) else None, whole=_whole_out(found),
        states=list(STATE_NAMES), reasons=list(REASONS), freedoms=list(FREEDOMS),
    )  # fmt: skip


def _points_out(tracks: PointTracks) -> list[PointOut]:
    return [
        PointOut(id=tracks.ids[k], name=tracks.names[k], xy=np.round(tracks.xy[k], 3).ravel().tolist(),
                 confidence=np.round(tracks.confidence[k], 3).tolist(), state=tracks.state[k].tolist(),
                 reason=tracks.reason[k].tolist())
        for k in range(len(tracks.ids))
    ]  # fmt: skip


def _whole_out(track: Any) -> WholeOut | None:
    if track.state.ndim != 1:
        return None
    return WholeOut(
        confidence=np.round(track.confidence, 3).tolist(), state=track.state.tolist(), reason=track.reason.tolist()
    )  # fmt: skip


def _plane_out(track: PlaneTrack) -> PlaneOut:
    return PlaneOut(
        reference_frame=track.reference_frame, homography=track.homography.ravel().tolist(),
        confidence=np.round(track.confidence, 3).tolist(), state=track.state.tolist(), reason=track.reason.tolist(),
        error_px=np.round(track.error_px, 3).tolist(), freedom=track.freedom.tolist(),
    )  # fmt: skip


def _camera_out(track: CameraTrack) -> CameraOut:
    turns = np.stack([matrix_to_quaternion(m) for m in track.rotation])
    return CameraOut(
        kind=track.kind, locked=track.locked, position=np.round(track.position, 6).ravel().tolist(),
        rotation=np.round(turns, 8).ravel().tolist(), focal=np.round(track.focal, 3).tolist(),
        distortion=list(track.distortion), readout=track.readout, state=track.state.tolist(), reason=track.reason.tolist(),
        confidence=np.round(track.confidence, 3).tolist(), error_px=np.round(track.error_px, 3).tolist(),
        seen=track.seen.tolist(), details=[_detail_out(track, k) for k in range(len(track.ids))],
        mean_error_px=track.mean_error_px, focal_doubt=track.focal_doubt,
        equivalent_mm=focal_to_35mm(float(np.median(track.focal)), track.size), warnings=list(track.warnings),
    )  # fmt: skip


def _detail_out(track: CameraTrack, k: int) -> RoomDetailOut:
    seen = np.flatnonzero(np.isfinite(track.xy[k, :, 0]))
    first, last = (int(seen[0]), int(seen[-1]) + 1) if len(seen) else (0, 0)
    xy = np.where(np.isfinite(track.xy[k, first:last]), np.round(track.xy[k, first:last] * 10), -1).astype(int)
    return RoomDetailOut(
        id=str(track.ids[k]), place=np.round(track.points[k], 6).tolist(), error_px=round(float(track.point_error[k]), 3),
        angle=round(float(track.angle[k]), 2), kept=bool(track.kept[k]), strong=bool(track.strong[k]), first=first,
        xy=xy.ravel().tolist(),
    )  # fmt: skip


@router.get("/shots/{shot_id}/motions/{motion_id}/export/{form}")
def export(request: HttpRequest, shot_id: uuid.UUID, motion_id: str, form: str) -> HttpResponse:
    """A motion in an open format."""
    document = document_of(find_shot(shot_id))
    motion = document.motion(motion_id)
    if document.footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet. Bring in a clip first.")
    entry = FORMATS.get(form)
    if entry.write is None or entry not in formats_of(motion.kind):
        raise BadInput("motion.format", f"{motion.name} cannot be written as {form}.")
    if entry.track and motion.measurement is None:
        raise BadInput("motion.unmeasured", f"{motion.name} is not measured yet.")
    data = entry.write(Going(
        motion=motion, measured=pool().measured(motion.measurement) if motion.measurement else None, footage=document.footage,
        scene=lambda: scene_of(ShotSources(document, pool()), cast(RoomMotion, motion)),
    ))  # fmt: skip
    return HttpResponse(
        data, content_type=entry.mime,
        headers={"Content-Disposition": f'attachment; filename="{entry.kind}"', "X-Content-Type-Options": "nosniff"},
    )  # fmt: skip


@router.post("/shots/{shot_id}/motions/import/facts", response=FileFactsOut)
def look_at_file(request: HttpRequest, shot_id: uuid.UUID, body: FileIn) -> Any:
    """What a points, plane, corners, matte or camera file holds, and whether it fits the clip as it is."""
    document = document_of(find_shot(shot_id))
    return facts_of_file(coming(document, body.name, _content(body)))


@router.post("/shots/{shot_id}/motions/import", response=ShotOut)
def bring_in_motion(request: HttpRequest, shot_id: uuid.UUID, body: FileIn) -> Any:
    """A new motion from a points, plane, corners, matte or camera file."""
    find_shot(shot_id)
    told = body.timing
    timing = None if told is None else Timing(first=told.first, step=told.step, points=told.points)

    def change(document: Document) -> Document:
        motion = brought_in(coming(document, body.name, _content(body), timing))
        return document.model_copy(update={"motions": [*document.motions, motion]})

    return shot_out(change_shot(shot_id, f"Bring in {body.name}"[:120], change))


def _content(body: FileIn) -> str | bytes:
    try:
        return base64.b64decode(body.data, validate=True) if body.data else body.text
    except ValueError:
        raise BadInput("motion.file", f"{body.name} did not arrive whole. Try again.") from None


@router.post("/shots/{shot_id}/motions/{motion_id}/regions", response=ShotOut)
def bring_in_regions(request: HttpRequest, shot_id: uuid.UUID, motion_id: str, body: RegionsIn) -> Any:
    """Regions from an SVG file, added to a plane motion."""
    find_shot(shot_id)

    def change(document: Document) -> Document:
        motion = document.motion(motion_id)
        if not isinstance(motion, PlaneMotion):
            raise BadInput("motion.regions", f"{motion.name} has no regions.")
        drawn = read_svg(body.text, motion.reference_frame)
        taken = {r.id for r in motion.regions}
        fresh = (f"region-{k}" for k in range(1, 10_000) if f"region-{k}" not in taken)
        regions = [Region(id=next(fresh), name=d.name, use=d.use, outline=d.outline) for d in drawn]
        changed = motion.model_copy(update={"regions": [*motion.regions, *regions]})
        return document.model_copy(update={"motions": [changed if m.id == motion_id else m for m in document.motions]})

    return shot_out(change_shot(shot_id, "Bring in regions", change))
