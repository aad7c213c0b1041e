"""Which piece of all open work comes next, and how a creator changes that."""

from __future__ import annotations

from typing import Any
from unittest import mock

from django.db import OperationalError as DatabaseCollision
from django.utils import timezone

from jobs.models import Chunk, Job
from jobs.tasks import _take, run_chunk
from jobs.working import HANDLERS
from tests.server.test_jobs import JobTest


class Order(JobTest):
    def waiting(self, kind: str, label: str, pieces: int = 2) -> Job:
        """A job of which nothing is done yet."""
        job = Job.objects.create(kind=kind, label=label, total=pieces)
        Chunk.objects.bulk_create([*(Chunk(job=job, position=k) for k in range(pieces)), Chunk(job=job, position=pieces, final=True)])
        return job

    def worked(self, jobs: list[Job], between: Any = lambda: None) -> list[str]:
        """The order in which workers do the pieces and the ends of jobs, whose pieces the broker hands out as they were begun."""
        done: list[str] = []
        handler = mock.Mock()
        handler.run = lambda job, chunk, work: done.append(f"{job.label}{chunk.position}")
        handler.finish = lambda job, work: done.append(f"{job.label}!")
        handed_out = [pk for job in jobs for pk in job.pieces.order_by("position").values_list("pk", flat=True)]
        with mock.patch.dict(HANDLERS, dict.fromkeys(HANDLERS, handler)):
            for number, pk in enumerate(handed_out):
                run_chunk(pk)
                if number == 0:
                    between()
        self.assertEqual(set(Job.objects.filter(pk__in=[j.pk for j in jobs]).values_list("state", flat=True)), {"done"})
        return done

    def test_what_a_creator_waits_for_comes_before_deliveries_begun_earlier(self) -> None:
        jobs = [self.waiting("deliver", "d"), self.waiting("ahead", "a"), self.waiting("measure", "m", 1)]
        self.assertEqual(self.worked(jobs), ["m0", "m!", "a0", "a1", "a!", "d0", "d1", "d!"])

    def test_a_delivery_put_sooner_goes_before_the_one_that_is_being_made(self) -> None:
        first, second, third = jobs = [self.waiting("deliver", label) for label in "abc"]

        def sooner() -> None:
            for _ in range(3):
                self.page.json("POST", f"/jobs/{third.pk}/place", {"sooner": True})

        self.assertEqual(self.worked(jobs, sooner), ["a0", "c0", "c1", "c!", "a1", "a!", "b0", "b1", "b!"])

    def test_places_are_changed_among_open_jobs_of_a_kind_only(self) -> None:
        first, other, second = self.waiting("deliver", "a"), self.waiting("measure", "m"), self.waiting("deliver", "b")
        self.page.json("POST", f"/jobs/{first.pk}/place", {"sooner": True})
        self.page.json("POST", f"/jobs/{first.pk}/place", {"sooner": False})
        ranks = {j.label: j.rank for j in Job.objects.all()}
        self.assertEqual((ranks["a"], ranks["m"], ranks["b"]), (second.rank, other.rank, first.rank))
        Job.objects.filter(pk=second.pk).update(state="done")
        told = self.page.json("POST", f"/jobs/{first.pk}/place", {"sooner": True})
        self.assertEqual(told["rank"], second.rank)

    def test_a_worker_that_was_too_slow_takes_the_next_piece(self) -> None:
        job = self.waiting("deliver", "d", 3)
        pieces = list(job.pieces.order_by("position"))
        tries: list[int] = []

        def quicker(chunk_id: int, claim: str) -> bool:
            tries.append(chunk_id)
            if len(tries) == 1:
                raise DatabaseCollision("Deadlock found when trying to get lock; try restarting transaction")
            if len(tries) == 2:
                Chunk.objects.filter(pk=chunk_id).update(state="running", claim="other", heartbeat=timezone.now())
            return _take(chunk_id, claim)

        handler = mock.Mock()
        with mock.patch.dict(HANDLERS, {"deliver": handler}), mock.patch("jobs.tasks._take", quicker):
            run_chunk(pieces[0].pk)
        self.assertEqual([c.state for c in job.pieces.order_by("position")], ["running", "done", "waiting"])
