"""The worker's side: claim a chunk, run it, report, finish the job."""

from __future__ import annotations

import logging
import threading
import time
import uuid
from datetime import timedelta

from celery import shared_task
from django.db import close_old_connections, connection, transaction
from django.db.models import Q, Sum
from django.utils import timezone

from jobs.kinds import HANDLERS
from jobs.models import Chunk, Job
from jobs.queue import tell_job
from jobs.tell import tell
from plonket.context import Work
from plonket.errors import Cancelled, PlonketError

STALE = timedelta(seconds=15)
BEAT_S = 3.0
REPORT_S = 0.25
MOST_TRIES = 4
TOO_OFTEN = "This work ended several times without a result. Try again, or a shorter range."
log = logging.getLogger(__name__)


@shared_task(name="jobs.run_chunk")
def run_chunk(chunk_id: int) -> None:
    """Run one chunk. Safe to be delivered twice: only one worker can hold the claim."""
    claim = str(uuid.uuid4())
    if not _take(chunk_id, claim):
        return
    chunk = Chunk.objects.select_related("job", "job__shot", "job__asset").get(pk=chunk_id)
    job = chunk.job
    with _Heart(chunk_id, claim):
        try:
            HANDLERS[job.kind].run(job, chunk, _work(job, chunk, claim))
        except Cancelled:
            _end(job, Job.State.STOPPED, "Stopped.")
            return
        except PlonketError as error:
            job.result = job.result | {"code": error.code, "details": error.details}
            _end(job, Job.State.FAILED, error.message)
            return
        except Exception:
            log.exception("Chunk %s of job %s failed", chunk.position, job.id)
            _end(job, Job.State.FAILED, "Something went wrong inside Plonket. Nothing was changed; try again.")
            return
    _complete(job, chunk, claim)


def _take(chunk_id: int, claim: str) -> bool:
    now = timezone.now()
    with transaction.atomic():
        free = Q(state=Chunk.State.WAITING) | Q(state=Chunk.State.RUNNING, heartbeat__lt=now - STALE)
        open_job = Q(job__state__in=(Job.State.QUEUED, Job.State.RUNNING))
        found = Chunk.objects.select_for_update().filter(free, open_job, pk=chunk_id).first()
        if found is None:
            return False
        if found.tries >= MOST_TRIES:
            _end(found.job, Job.State.FAILED, TOO_OFTEN)
            return False
        Chunk.objects.filter(pk=chunk_id).update(
            state=Chunk.State.RUNNING, claim=claim, heartbeat=now, tries=found.tries + 1, done=0
        )
        Job.objects.filter(pk=found.job_id, state=Job.State.QUEUED).update(state=Job.State.RUNNING, started=now)
    return True


def _work(job: Job, chunk: Chunk, claim: str) -> Work:
    state = {"told": 0.0, "asked": 0.0, "stop": False}

    def cancelled() -> bool:
        now = time.monotonic()
        if now - state["asked"] > 0.3:
            state["asked"] = now
            held = Chunk.objects.filter(pk=chunk.pk, claim=claim).values_list("job__state", flat=True).first()
            state["stop"] = held not in (Job.State.QUEUED, Job.State.RUNNING)
        return bool(state["stop"])

    def progress(done: int, total: int) -> None:
        now = time.monotonic()
        if now - state["told"] < REPORT_S and done < total:
            return
        state["told"] = now
        Chunk.objects.filter(pk=chunk.pk, claim=claim).update(done=done)
        _report(job)

    return Work(on_progress=progress, is_cancelled=cancelled, on_partial=lambda data: tell("partial", data))


def _report(job: Job) -> None:
    done = job.chunks.aggregate(sum=Sum("done"))["sum"] or 0
    Job.objects.filter(pk=job.pk).update(done=done)
    job.refresh_from_db(fields=["state", "done", "started"])
    tell_job(job)


def _complete(job: Job, chunk: Chunk, claim: str) -> None:
    """Mark a chunk done; whoever completes the last one finishes the job."""
    with transaction.atomic():
        locked = Job.objects.select_for_update().get(pk=job.pk)
        if not Chunk.objects.filter(pk=chunk.pk, claim=claim).update(state=Chunk.State.DONE):
            return
        last = not job.chunks.exclude(state=Chunk.State.DONE).exists()
        if locked.state == Job.State.STOPPING:
            _end(locked, Job.State.STOPPED, "Stopped.")
            return
    if not last:
        return
    try:
        job.refresh_from_db()
        HANDLERS[job.kind].finish(job)
    except PlonketError as error:
        _end(job, Job.State.FAILED, error.message)
        return
    except Exception:
        log.exception("Finishing job %s failed", job.id)
        _end(job, Job.State.FAILED, "Something went wrong inside Plonket at the end of this work. Try again.")
        return
    job.done = job.total
    _end(job, Job.State.DONE, "")


def _end(job: Job, state: Job.State, message: str) -> None:
    job.state, job.message, job.finished = state, message, timezone.now()
    job.save(update_fields=["state", "message", "finished", "result", "done"])
    if state in (Job.State.FAILED, Job.State.STOPPED):
        HANDLERS[job.kind].ended_early(job)
    tell_job(job)


class _Heart:
    """Beats in the database while a chunk runs, so that others see that its worker lives."""

    def __init__(self, chunk_id: int, claim: str) -> None:
        self.chunk_id, self.claim = chunk_id, claim
        self.stop = threading.Event()
        self.thread: threading.Thread | None = None

    def __enter__(self) -> None:
        # Inside a test's transaction another connection would see nothing.
        if not connection.in_atomic_block:
            self.thread = threading.Thread(target=self._beat, daemon=True)
            self.thread.start()

    def __exit__(self, *_: object) -> None:
        self.stop.set()
        if self.thread:
            self.thread.join(5)

    def _beat(self) -> None:
        while not self.stop.wait(BEAT_S):
            close_old_connections()
            Chunk.objects.filter(pk=self.chunk_id, claim=self.claim).update(heartbeat=timezone.now())
        connection.close()
