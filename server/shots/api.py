"""API: shots, edits, undo and redo, measuring, measurements."""

from __future__ import annotations

import uuid
from datetime import datetime
from typing import Any, Literal

import numpy as np
from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema
from pydantic import Field

from jobs.api import JobOut, job_out
from jobs.models import Job
from jobs.queue import enqueue
from library.models import Project
from plonket.errors import BadInput
from plonket.fields import Name
from plonket.formats.points_csv import write_points
from plonket.motion.points.settings import Direction
from plonket.motion.states import REASONS, STATE_NAMES
from plonket.shot import REGISTRIES
from plonket.shot import Shot as Document
from plonket_server.pool import pool
from plonket_server.problems import NotHere
from shots.editing import add_shot, document_of, find_shot, patch_shot, step
from shots.models import Shot

router = Router(tags=["shots"])


class ShotBrief(Schema):
    id: uuid.UUID
    name: str
    changed: datetime
    picture: str
    footage: str | None
    frame: int


class ShotOut(Schema):
    id: uuid.UUID
    project: uuid.UUID
    project_name: str
    number: int
    picture: str = Field(description="Hash of what the pictures depend on; part of frame addresses")
    document: Document
    undo: str | None = Field(description="What undo would take back")
    redo: str | None = Field(description="What redo would bring again")


class ShotIn(Schema):
    name: Name = "New shot"


class EditIn(Schema):
    label: Name
    patch: list[dict[str, Any]] = Field(description="RFC 6902 operations", min_length=1, max_length=1000)


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


class MeasurementOut(Schema):
    digest: str
    frames: int
    points: list[PointOut]
    states: list[str]
    reasons: list[str]


class KindOut(Schema):
    kind: str
    label: str
    help: str
    schema_: dict[str, Any] = Field(alias="schema")


def shot_out(shot: Shot) -> ShotOut:
    assert shot.current is not None
    child = shot.current.children.order_by("-number").first()
    return ShotOut(
        id=shot.id, project=shot.project_id, project_name=shot.project.name, number=shot.current.number,
        picture=shot.current.picture, document=document_of(shot),
        undo=shot.current.label if shot.current.parent_id else None, redo=child.label if child else None,
    )  # fmt: skip


@router.get("/kinds/{registry}", response=list[KindOut], by_alias=True)
def kinds(request: HttpRequest, registry: Literal["motion", "layer"]) -> Any:
    """The registered kinds with the schemas from which forms are made."""
    return [
        {"kind": e.kind, "label": e.label, "help": e.help, "schema": e.settings.model_json_schema()}
        for e in REGISTRIES[registry]
    ]


@router.get("/projects/{project_id}/shots", response=list[ShotBrief])
def shots(request: HttpRequest, project_id: uuid.UUID) -> Any:
    """A project's shots, the last changed first."""
    out = []
    for shot in Shot.objects.filter(project=project_id).select_related("current"):
        assert shot.current is not None
        footage = shot.current.document["footage"]
        middle = (footage["in_frame"] + footage["out_frame"]) // 2 if footage else 0
        out.append(
            ShotBrief(id=shot.id, name=shot.name, changed=shot.changed, picture=shot.current.picture,
                      footage=footage["asset"] if footage else None, frame=middle)
        )  # fmt: skip
    return out


@router.post("/projects/{project_id}/shots", response=ShotOut)
def new_shot(request: HttpRequest, project_id: uuid.UUID, body: ShotIn) -> Any:
    """A new, empty shot."""
    project = Project.objects.filter(pk=project_id).first()
    if project is None:
        raise NotHere("project")
    return shot_out(add_shot(project, Document(name=body.name)))


@router.get("/shots/{shot_id}", response=ShotOut)
def shot(request: HttpRequest, shot_id: uuid.UUID) -> Any:
    """A shot as it is now."""
    return shot_out(find_shot(shot_id))


@router.delete("/shots/{shot_id}", response={204: None})
def remove_shot(request: HttpRequest, shot_id: uuid.UUID) -> Any:
    """Remove a shot."""
    find_shot(shot_id).delete()
    return 204, None


@router.post("/shots/{shot_id}/edits", response=ShotOut)
def edit(request: HttpRequest, shot_id: uuid.UUID, body: EditIn) -> Any:
    """Change a shot by an RFC 6902 patch."""
    return shot_out(patch_shot(shot_id, body.patch, body.label))


@router.post("/shots/{shot_id}/undo", response=ShotOut)
def undo(request: HttpRequest, shot_id: uuid.UUID) -> Any:
    """Back to the revision before."""
    return shot_out(step(shot_id, back=True))


@router.post("/shots/{shot_id}/redo", response=ShotOut)
def redo(request: HttpRequest, shot_id: uuid.UUID) -> Any:
    """On to the revision that undo left."""
    return shot_out(step(shot_id, back=False))


@router.post("/shots/{shot_id}/motions/{motion_id}/measure", response=JobOut)
def measure(request: HttpRequest, shot_id: uuid.UUID, motion_id: str, body: MeasureIn) -> Any:
    """Measure a motion in the background; its partial results come as events."""
    found = find_shot(shot_id)
    document = document_of(found)
    if document.footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet. Bring in a clip first.")
    motion = document.motion(motion_id)
    if not motion.points:
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
    """A measurement's tracks."""
    tracks = pool().tracks(digest)
    response["Cache-Control"] = "private, max-age=31536000, immutable"
    points = [
        PointOut(id=tracks.ids[k], name=tracks.names[k], xy=np.round(tracks.xy[k], 3).ravel().tolist(),
                 confidence=np.round(tracks.confidence[k], 3).tolist(), state=tracks.state[k].tolist(),
                 reason=tracks.reason[k].tolist())
        for k in range(len(tracks.ids))
    ]  # fmt: skip
    return MeasurementOut(
        digest=digest, frames=tracks.frames, points=points, states=list(STATE_NAMES), reasons=list(REASONS)
    )


@router.get("/measurements/{digest}/matrices", response=list[list[float]])
def matrices(request: HttpRequest, response: HttpResponse, digest: str, reference: int, points: str) -> Any:
    """The movement from a reference frame to every frame: rows [a, b, c, d, e, f] of x' = ax + by + c."""
    response["Cache-Control"] = "private, max-age=31536000, immutable"
    found = pool().matrices(digest, max(0, reference), tuple(points.split(",")))
    return np.round(found[:, :2, :].reshape(len(found), 6), 6).tolist()


@router.get("/measurements/{digest}/points.csv")
def points_csv(request: HttpRequest, digest: str) -> HttpResponse:
    """The tracks in the open format."""
    return HttpResponse(
        write_points(pool().tracks(digest)), content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": 'attachment; filename="points.csv"'},
    )  # fmt: skip
