"""What each kind of job does is announced here by the app that knows how: in its `AppConfig.ready`."""

from __future__ import annotations

from typing import Any, Protocol

from jobs.models import Chunk, Job
from plonket.base.errors import Cancelled
from plonket.base.progress import Work


class Handler(Protocol):
    """One kind of work: planned into chunks, run chunk by chunk, finished once."""

    def plan(self, job: Job) -> tuple[list[dict[str, Any]], int]:
        """Chunk payloads and the total number of frames."""
        ...

    def run(self, job: Job, chunk: Chunk, work: Work) -> None: ...
    def finish(self, job: Job, work: Work) -> None: ...
    def ended_early(self, job: Job) -> None: ...


HANDLERS: dict[str, Handler] = {}
"""By the kind of job."""


def stop_asked(work: Work) -> bool:
    try:
        work.check_cancelled()
    except Cancelled:
        return True
    return False


def resize(job: Job, total: int) -> None:
    if job.total != total:
        job.total = total
        Job.objects.filter(pk=job.pk).update(total=total)
