"""Puts work whose worker died back into the queue, clears up, and takes back frames painted elsewhere."""

from __future__ import annotations

import logging
import os
import signal
import threading
import time
from collections.abc import Callable
from datetime import timedelta
from typing import Any

from django.core.management.base import BaseCommand
from django.db import close_old_connections
from django.utils import timezone

from jobs.keeper import STEPS, Step
from jobs.models import Chunk, Event, Job
from jobs.queue import hand_out
from jobs.tasks import STALE, end_abandoned

EVERY_S = 4.0
FIRST_S = 0.5
LOOKS_S = 0.4
"""How often it is seen which step is due."""
FORGOTTEN = timedelta(seconds=30)
WORKERS = max(2, os.cpu_count() or 2)
"""As many are started."""
log = logging.getLogger(__name__)


def put_back() -> int:
    """Hand out again every chunk that should be running and is not; returns how many.

    A chunk can be delivered twice this way; the claim sees to it that it runs once.
    """
    now = timezone.now()
    running = Chunk.objects.filter(state=Chunk.State.RUNNING)
    alive = running.filter(heartbeat__gte=now - STALE).values("job")
    for job in Job.objects.filter(state=Job.State.STOPPING).exclude(pk__in=alive):
        end_abandoned(job)
    going = Job.objects.filter(state__in=(Job.State.QUEUED, Job.State.RUNNING))
    stale = running.filter(heartbeat__lt=now - STALE, job__in=going)
    # Messages are lost when Redis restarts: what has waited long without any running sibling goes out again, no more than there
    # are workers with nothing to do. Each takes what should come next, whichever it is told of.
    unfinished = Chunk.objects.filter(final=False).exclude(state=Chunk.State.DONE).values("job")
    waiting = Chunk.objects.filter(state=Chunk.State.WAITING, job__in=going.filter(created__lt=now - FORGOTTEN))
    forgotten = waiting.exclude(job__in=running.values("job")).exclude(final=True, job__in=unfinished)
    idle = max(0, WORKERS - running.filter(heartbeat__gte=now - STALE).count())
    chunks = [*stale.values_list("pk", flat=True), *forgotten.values_list("pk", flat=True)[:idle]]
    for pk in chunks:
        hand_out(pk)
    Event.objects.filter(created__lt=now - timedelta(hours=6)).delete()
    return len(chunks)


class Command(BaseCommand):
    help = __doc__ or ""

    def handle(self, *args: Any, **options: Any) -> None:
        ended = threading.Event()
        for kind in (signal.SIGTERM, signal.SIGINT):
            signal.signal(kind, lambda *_: ended.set())
        # At a fresh start no worker holds anything: what was running belongs to the last run.
        _surely(lambda: Chunk.objects.filter(state=Chunk.State.RUNNING).update(heartbeat=timezone.now() - 2 * STALE))
        steps = [Step(EVERY_S, put_back), *STEPS]
        due = [time.monotonic() + FIRST_S] * len(steps)
        while not ended.wait(LOOKS_S):
            for k, step in enumerate(steps):
                if time.monotonic() >= due[k]:
                    _surely(step.run)
                    due[k] = time.monotonic() + step.every_s


def _surely(step: Callable[[], Any]) -> None:
    """Do one step; whatever it raises is logged, and the keeper goes on."""
    close_old_connections()
    try:
        step()
    except Exception:
        log.exception("The keeper could not do one of its steps")
