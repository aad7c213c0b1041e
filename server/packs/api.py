"""API: projects as one file; shots copied between projects."""

from __future__ import annotations

import uuid
from typing import Any

from django.http import HttpRequest, HttpResponseBase
from django.views.decorators.http import require_safe
from ninja import Router, Schema
from pydantic import Field

from jobs.api import JobOut, job_out
from jobs.models import Job
from library.models import Project
from packs.work import begin_packing, pack_path
from plonket.pack.manifest import ENDING
from plonket_server.problems import NotHere
from plonket_server.ranges import ranged_file
from shots.api import ShotOut, shot_out
from shots.editing import copy_shot

router = Router(tags=["packs"])


class PackIn(Schema):
    history: bool = Field(default=False, description="Whether the steps that led to each shot go along")


@router.post("/projects/{project_id}/pack", response=JobOut)
def pack_project(request: HttpRequest, project_id: uuid.UUID, body: PackIn) -> Any:
    """Pack a project into one file; its job's id names that."""
    return job_out(begin_packing(project_id, history=body.history))


class CopyIn(Schema):
    project: uuid.UUID


@router.post("/shots/{shot_id}/copy", response=ShotOut)
def copy(request: HttpRequest, shot_id: uuid.UUID, body: CopyIn) -> Any:
    """A shot once more, in a project."""
    project = Project.objects.filter(pk=body.project).first()
    if project is None:
        raise NotHere("project")
    return shot_out(copy_shot(shot_id, project))


@require_safe
def pack_file(request: HttpRequest, job_id: uuid.UUID) -> HttpResponseBase:
    """A packed project, to be saved."""
    job = Job.objects.filter(pk=job_id, kind=Job.Kind.PACK, state=Job.State.DONE).first()
    path = pack_path(str(job_id)) if job else None
    name = "".join(c for c in str(job.payload.get("name", "")) if c.isalnum() or c in " -_.").strip() if job else ""
    return ranged_file(request, path, "application/zip", download_as=f"{name or 'project'}{ENDING}")
