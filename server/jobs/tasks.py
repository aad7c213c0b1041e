"""The worker's side: claim a chunk, run it, report, finish the job."""

from __future__ import annotations

import contextlib
import errno
import logging
import threading
import time
import uuid
from datetime import datetime, timedelta

from celery import shared_task
from django.db import DatabaseError, InterfaceError, OperationalError, close_old_connections, connection, transaction
from django.db.models import Case, Q, Sum, Value, When
from django.utils import timezone

from jobs.models import Chunk, Job
from jobs.queue import tell_job
from jobs.tell import tell
from jobs.working import HANDLERS
from plonket.base.errors import Cancelled, PlonketError
from plonket.base.progress import Work
from plonket_server import store

STALE = timedelta(seconds=15)
BEAT_S = 3.0
REPORT_S = 0.25
MOST_TRIES = 4
MOST_LOOKS = 40
DISK_FULL = "The disk is full. What was made so far is kept; free some space and try again."
TOO_OFTEN = "This work ended several times without a result. Try again, or a shorter range."
log = logging.getLogger(__name__)


PATIENT = {Job.Kind.AHEAD: 1, Job.Kind.PACK: 2, Job.Kind.DELIVER: 2}
"""Kinds of work that a creator does not sit and wait for, and how far they stand back behind what is waited for."""


@shared_task(name="jobs.run_chunk")
def run_chunk(chunk_id: int) -> None:
    """Run the piece that should come next, and a job's final one after the last of its pieces.

    The piece that was handed out only says that there is something to do: the broker hands out in the order in which work was
    begun, while what a creator waits for, or has put first, comes first. As many are handed out as wait, so each finds its
    worker. Safe to be delivered twice: only one worker can hold a claim.
    """
    claim = str(uuid.uuid4())
    following = _taken(chunk_id, claim)
    while following is not None:
        following = _run(following, claim)
        if following is not None and not _take(following, claim):
            return


def _taken(handed_out: int, claim: str) -> int | None:
    """The chunk that was claimed in place of the one that was handed out; None where there is nothing to do."""
    if Chunk.objects.filter(pk=handed_out, final=True).exists():
        return handed_out if _take(handed_out, claim) else None
    for _ in range(MOST_LOOKS):
        first = _first_ready()
        # Another worker may be quicker, and two that reach for one row may be told to try again.
        with contextlib.suppress(OperationalError):
            if first is None or _take(first, claim):
                return first
    return None


def _first_ready() -> int | None:
    """The piece that nobody works on and that should come first."""
    back = Case(*(When(job__kind=kind, then=Value(far)) for kind, far in PATIENT.items()), default=Value(0))
    ready = Chunk.objects.filter(_free(timezone.now()), OPEN_JOB, final=False).annotate(back=back)
    return ready.order_by("back", "job__rank", "position").values_list("pk", flat=True).first()


OPEN_JOB = Q(job__state__in=(Job.State.QUEUED, Job.State.RUNNING))


def _free(now: datetime) -> Q:
    """Chunks that nobody works on."""
    return Q(state=Chunk.State.WAITING) | Q(state=Chunk.State.RUNNING, heartbeat__lt=now - STALE)


def _run(chunk_id: int, claim: str) -> int | None:
    """Run a chunk that was claimed; returns the one that should follow at once."""
    chunk = Chunk.objects.select_related("job", "job__shot", "job__asset").get(pk=chunk_id)
    job = chunk.job
    handler = HANDLERS[job.kind]
    with _Heart(chunk_id, claim):
        try:
            if chunk.final:
                handler.finish(job, _work(job, chunk, claim))
            else:
                handler.run(job, chunk, _work(job, chunk, claim))
        except Cancelled:
            _end(chunk, Job.State.STOPPED, "Stopped.")
        except PlonketError as error:
            job.result = job.result | {"code": error.code, "details": error.details}
            _end(chunk, Job.State.FAILED, error.message)
        except (OperationalError, InterfaceError):
            # The database went away: the claim runs out, and the chunk is handed out again.
            log.exception("Chunk %s of job %s lost the database", chunk.position, chunk.job_id)
            connection.close()
        except OSError as error:
            if error.errno == errno.ENOSPC:
                _end(chunk, Job.State.FAILED, DISK_FULL)
            else:
                _failed(chunk)
        except Exception:
            _failed(chunk)
        else:
            return _complete(chunk)
    return None


def _failed(chunk: Chunk) -> None:
    log.exception("Chunk %s of job %s failed", chunk.position, chunk.job_id)
    _end(chunk, Job.State.FAILED, "Something went wrong inside Plonket. Nothing was changed; try again.")


def _take(chunk_id: int, claim: str) -> bool:
    now = timezone.now()
    with transaction.atomic():
        found = Chunk.objects.select_for_update().filter(_free(now), OPEN_JOB, pk=chunk_id).first()
        if found is None:
            return False
        if found.final and found.job.pieces.exclude(state=Chunk.State.DONE).exists():
            return False
        Chunk.objects.filter(pk=chunk_id).update(
            state=Chunk.State.RUNNING, claim=claim, heartbeat=now, tries=found.tries + 1, done=0
        )
        Job.objects.filter(pk=found.job_id, state=Job.State.QUEUED).update(state=Job.State.RUNNING, started=now)
    if found.tries >= MOST_TRIES:
        found.claim = claim
        _end(found, Job.State.FAILED, TOO_OFTEN)
        return False
    return True


def _work(job: Job, chunk: Chunk, claim: str) -> Work:
    state = {"told": 0.0, "asked": 0.0, "stop": False}

    def cancelled() -> bool:
        now = time.monotonic()
        if now - state["asked"] > 0.3:
            state["asked"] = now
            held = Chunk.objects.filter(pk=chunk.pk, claim=claim).values_list("job__state", flat=True).first()
            state["stop"] = held not in (Job.State.QUEUED, Job.State.RUNNING)
            # The disk may have been filled by others since the work began; the database must be able to go on.
            store.check_room(0)
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


def _complete(chunk: Chunk) -> int | None:
    """Mark a chunk done. Whoever completes the last piece goes on with the final one; who completes that ends the job."""
    if chunk.final:
        chunk.job.done = chunk.job.total
        _end(chunk, Job.State.DONE, "")
        return None
    with transaction.atomic():
        locked = Job.objects.select_for_update().filter(pk=chunk.job_id).first()
        if locked is None or not chunk.is_held():
            return None
        if locked.state == Job.State.STOPPING:
            stopping = True
        else:
            stopping = False
            Chunk.objects.filter(pk=chunk.pk).update(state=Chunk.State.DONE)
        left = locked.pieces.exclude(state=Chunk.State.DONE).exists()
    if stopping:
        _end(chunk, Job.State.STOPPED, "Stopped.")
        return None
    return None if left else locked.chunks.filter(final=True).values_list("pk", flat=True).first()


def _end(chunk: Chunk, state: Job.State, message: str) -> None:
    """End a chunk's job, unless it has ended already or another worker has taken the chunk over."""
    job = chunk.job
    with transaction.atomic():
        now = Job.objects.select_for_update().filter(pk=chunk.job_id).values_list("state", flat=True).first()
        if now not in Job.OPEN or not chunk.is_held():
            return
        if state == Job.State.DONE:
            Chunk.objects.filter(pk=chunk.pk).update(state=Chunk.State.DONE)
        job.state, job.message, job.finished = state, message, timezone.now()
        job.save(update_fields=["state", "message", "finished", "result", "done"])
    if state in (Job.State.FAILED, Job.State.STOPPED):
        HANDLERS[job.kind].ended_early(job)
    tell_job(job)


def end_abandoned(job: Job) -> None:
    """End a job that was told to stop and that nobody works on any more."""
    stopped = {"state": Job.State.STOPPED, "finished": timezone.now(), "message": "Stopped."}
    if Job.objects.filter(pk=job.pk, state=Job.State.STOPPING).update(**stopped):
        job.refresh_from_db()
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
            # A database that restarts misses a beat; the claim stands as long as nobody else takes it.
            with contextlib.suppress(DatabaseError):
                Chunk.objects.filter(pk=self.chunk_id, claim=self.claim).update(heartbeat=timezone.now())
        connection.close()
