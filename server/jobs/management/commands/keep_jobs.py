"""Puts work whose worker died back into the queue, clears old events, and takes back frames painted elsewhere."""

from __future__ import annotations

import signal
import threading
import time
from datetime import timedelta
from typing import Any

from django.core.management.base import BaseCommand
from django.db import close_old_connections
from django.utils import timezone

from jobs.models import Chunk, Event, Job
from jobs.tasks import STALE, run_chunk
from shots.exchange import look_outside

EVERY_S = 4.0
LOOKS_S = 0.8
"""How often frames that lie outside are looked at."""


def put_back() -> int:
    """Hand out again every chunk that should be running and is not; returns how many.

    A chunk can be delivered twice this way; the claim sees to it that it runs once.
    """
    now = timezone.now()
    stale = Chunk.objects.filter(
        state=Chunk.State.RUNNING, heartbeat__lt=now - STALE, job__state__in=(Job.State.QUEUED, Job.State.RUNNING)
    )
    for job in Job.objects.filter(state=Job.State.STOPPING, chunks__heartbeat__lt=now - STALE).distinct():
        Job.objects.filter(pk=job.pk).update(state=Job.State.STOPPED, finished=now, message="Stopped.")
    # Messages are lost when Redis restarts: what has waited long without any running sibling goes out again.
    forgotten = Chunk.objects.filter(
        state=Chunk.State.WAITING, job__state__in=(Job.State.QUEUED, Job.State.RUNNING),
        job__created__lt=now - timedelta(seconds=30),
    ).exclude(job__chunks__state=Chunk.State.RUNNING)  # fmt: skip
    count = 0
    for chunk in [*stale, *forgotten]:
        run_chunk.delay(chunk.pk)
        count += 1
    Event.objects.filter(created__lt=now - timedelta(hours=6)).delete()
    return count


class Command(BaseCommand):
    help = __doc__ or ""

    def handle(self, *args: Any, **options: Any) -> None:
        ended = threading.Event()
        for kind in (signal.SIGTERM, signal.SIGINT):
            signal.signal(kind, lambda *_: ended.set())
        # At a fresh start no worker holds anything: what was running belongs to the last run.
        Chunk.objects.filter(state=Chunk.State.RUNNING).update(heartbeat=timezone.now() - 2 * STALE)
        due = time.monotonic() + 0.5
        while not ended.wait(LOOKS_S):
            close_old_connections()
            look_outside()
            if time.monotonic() >= due:
                put_back()
                due = time.monotonic() + EVERY_S
