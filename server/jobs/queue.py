"""Putting jobs in the queue, stopping and retrying them."""

from __future__ import annotations

import logging
import uuid
from typing import Any

from django.db import transaction
from django.utils import timezone
from kombu.exceptions import OperationalError
from redis.exceptions import RedisError

from jobs.models import Chunk, Job
from jobs.tell import tell
from jobs.working import HANDLERS
from plonket.base.errors import BadInput
from plonket_server.problems import NotHere

log = logging.getLogger(__name__)


def enqueue(kind: Job.Kind, *, label: str, shot_id: uuid.UUID | None = None, asset: Any = None,
            payload: dict[str, Any] | None = None) -> Job:  # fmt: skip
    """Record a job with its chunks and hand them to the workers once the transaction is through."""
    shots = Job._meta.get_field("shot").related_model
    assert isinstance(shots, type)
    known = shots._default_manager.filter(pk=shot_id).exists() if shot_id else False
    with transaction.atomic():
        job = Job.objects.create(kind=kind, label=label, shot_id=shot_id if known else None, asset=asset,
                                 payload=payload or {})  # fmt: skip
        plan, job.total = HANDLERS[kind].plan(job)
        job.save(update_fields=["total", "payload"])
        chunks = [Chunk(job=job, position=k, payload=p) for k, p in enumerate(plan)]
        Chunk.objects.bulk_create([*chunks, Chunk(job=job, position=len(plan), final=True)])
        tell_job(job)
        transaction.on_commit(lambda: send(job))
    return job


def send(job: Job) -> None:
    """Hand a job's waiting chunks to the workers; the final one follows when the others are done."""
    pieces = job.pieces.exclude(state=Chunk.State.DONE)
    todo = pieces.filter(state=Chunk.State.WAITING) if pieces.exists() else job.chunks.filter(state=Chunk.State.WAITING)
    for pk in todo.order_by("position").values_list("pk", flat=True):
        hand_out(pk)


def hand_out(chunk_id: int) -> None:
    """Tell the workers of a chunk. While the broker is away the chunk waits in the database, and is handed out later."""
    from jobs.tasks import run_chunk

    try:
        run_chunk.delay(chunk_id)
    except (OperationalError, ConnectionError, RedisError) as error:
        log.warning("Chunk %s waits, for the broker does not answer: %s", chunk_id, error)


def find_job(job_id: uuid.UUID) -> Job:
    try:
        return Job.objects.get(pk=job_id)
    except Job.DoesNotExist:
        raise NotHere("job") from None


def stop(job_id: uuid.UUID) -> Job:
    """Ask a job to stop; what it has measured so far is kept."""
    find_job(job_id)
    Job.objects.filter(pk=job_id, state=Job.State.RUNNING).update(state=Job.State.STOPPING)
    waiting = Job.objects.filter(pk=job_id, state=Job.State.QUEUED)
    waiting.update(state=Job.State.STOPPED, finished=timezone.now())
    job = find_job(job_id)
    tell_job(job)
    return job


def retry(job_id: uuid.UUID) -> Job:
    """Do a stopped or failed job again; finished chunks are kept."""
    job = find_job(job_id)
    if job.state not in (Job.State.STOPPED, Job.State.FAILED):
        raise BadInput("job.retry", "Only work that stopped or failed can be tried again.")
    with transaction.atomic():
        job.chunks.exclude(state=Chunk.State.DONE).update(
            state=Chunk.State.WAITING, claim="", tries=0, done=0, heartbeat=None
        )
        Job.objects.filter(pk=job_id).update(state=Job.State.QUEUED, message="", finished=None)
        job = find_job(job_id)
        tell_job(job)
        transaction.on_commit(lambda: send(job))
    return job


def put_elsewhere(job_id: uuid.UUID, sooner: bool) -> Job:
    """Change places with the open job of its kind that comes before, or after; nothing changes where there is none."""
    with transaction.atomic():
        job = find_job(job_id)
        others = Job.objects.select_for_update().filter(kind=job.kind, state__in=Job.OPEN).exclude(pk=job_id)
        before, after = others.filter(rank__lt=job.rank).order_by("-rank"), others.filter(rank__gt=job.rank).order_by("rank")
        other = (before if sooner else after).first()
        if other is None or job.state not in Job.OPEN:
            return job
        job.rank, other.rank = other.rank, job.rank
        for one in (job, other):
            one.save(update_fields=["rank"])
            tell_job(one)
    return job


def tell_job(job: Job) -> None:
    from jobs.api import job_out

    tell("job", job_out(job).model_dump(mode="json"))
