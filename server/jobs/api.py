"""API: jobs."""

from __future__ import annotations

import uuid
from typing import Any, Literal, cast

from django.http import HttpRequest
from django.utils import timezone
from ninja import Router, Schema
from pydantic import Field

from jobs import queue
from jobs.models import Event, Job

router = Router(tags=["jobs"])
LATELY = 40
"""So many jobs that ended are told, with all that are open."""


class JobOut(Schema):
    id: uuid.UUID
    kind: Literal["conform", "measure", "deliver", "check", "mend", "ahead", "lineup", "follow", "pack", "unpack"]
    label: str
    shot: uuid.UUID | None
    asset: str | None
    waiting: list[uuid.UUID] = Field(description="Shots that wait for the clip that is prepared")
    motion: str | None
    layer: str | None
    state: Literal["queued", "running", "stopping", "done", "failed", "stopped"]
    done: int
    total: int
    seconds_left: float | None = Field(description="Estimated from the frames done so far")
    rank: float = Field(description="Of open jobs of a kind the lowest is worked on first")
    message: str
    result: dict[str, Any]


def job_out(job: Job) -> JobOut:
    left = None
    if job.state == Job.State.RUNNING and job.started and job.done > 0:
        spent = (timezone.now() - job.started).total_seconds()
        left = round(spent / job.done * (job.total - job.done), 1)
    return JobOut(
        id=job.id, kind=cast(Any, job.kind), label=job.label, shot=job.shot_id, asset=job.asset_id,
        waiting=job.payload.get("shots", []), motion=job.payload.get("motion"), layer=job.payload.get("layer"),
        state=cast(Any, job.state), done=job.done, total=job.total, seconds_left=left,
        rank=job.rank, message=job.message, result=job.result,
    )  # fmt: skip


@router.get("/jobs", response=list[JobOut])
def jobs(request: HttpRequest, shot: uuid.UUID | None = None) -> Any:
    """Open jobs, and those that ended lately."""
    found = Job.objects.all()
    if shot is not None:
        found = found.filter(shot_id=shot)
    going = list(found.filter(state__in=Job.OPEN))
    return [job_out(j) for j in [*going, *found.exclude(state__in=Job.OPEN)[:LATELY]]]


@router.post("/jobs/{job_id}/stop", response=JobOut)
def stop(request: HttpRequest, job_id: uuid.UUID) -> Any:
    """Stop a job."""
    return job_out(queue.stop(job_id))


@router.post("/jobs/{job_id}/retry", response=JobOut)
def retry(request: HttpRequest, job_id: uuid.UUID) -> Any:
    """Try a stopped or failed job again."""
    return job_out(queue.retry(job_id))


class PlaceIn(Schema):
    sooner: bool = Field(description="Before the one that comes before it; else after the one after")


@router.post("/jobs/{job_id}/place", response=JobOut)
def place(request: HttpRequest, job_id: uuid.UUID, body: PlaceIn) -> Any:
    """Have an open job come sooner or later among those of its kind."""
    return job_out(queue.put_elsewhere(job_id, body.sooner))


@router.get("/jobs/{job_id}/partial", response=list[dict[str, Any]])
def partial(request: HttpRequest, job_id: uuid.UUID) -> Any:
    """Partial results so far, for a page opened while the work goes on."""
    found = Event.objects.filter(kind="partial", data__job=str(job_id)).order_by("pk")
    return [e.data for e in found]
