"""Work that is cut short at the worst moment: between the last piece and the end, frozen, on a full disk, twice at once."""

from __future__ import annotations

import asyncio
import errno
import shutil
import threading
import uuid
from datetime import timedelta
from pathlib import Path
from typing import Any
from unittest import mock

from django.db import connection, transaction
from django.utils import timezone
from kombu.exceptions import OperationalError

from deliveries.models import Delivery
from deliveries.work import sweep
from jobs.keeper import STEPS, Step
from jobs.management.commands import keep_jobs
from jobs.management.commands.keep_jobs import put_back
from jobs.models import Chunk, Event, Job
from jobs.stream import Reader
from jobs.tasks import run_chunk
from jobs.working import HANDLERS
from library.models import Asset
from library.uploads import take_in_complete
from plonket.base.errors import MediaError
from plonket.media import open_clip
from plonket.media.conform import conform
from plonket_server import store
from shots.exchange import look_outside
from shots.models import Shot
from tests.core.clips import number_of, phone_clip
from tests.server.test_server import WithFolder

LONG_AGO = timedelta(minutes=2)


class Killed(BaseException):
    """Stands for a worker's death: nothing of ours catches it."""


class JobTest(WithFolder):
    def delivery(self, frames: int = 70) -> tuple[str, Job]:
        """A delivery of two pieces or three that waits for its workers."""
        shot = self.shot_with_clip(phone_clip(self.folder / "n.mp4", frames=frames))
        with mock.patch("deliveries.work.FRAMES_PER_CHUNK", 35), mock.patch("jobs.queue.send"):
            made = self.page.json("POST", f"/shots/{shot}/deliver")
        return shot, Job.objects.get(pk=made["id"])

    def forget_heartbeats(self, job: Job) -> None:
        Chunk.objects.filter(job=job, state="running").update(heartbeat=timezone.now() - LONG_AGO)
        Job.objects.filter(pk=job.pk).update(created=timezone.now() - LONG_AGO)

    def assert_delivered(self, job: Job, frames: int = 70) -> None:
        job.refresh_from_db()
        self.assertEqual((job.state, job.done), ("done", job.total), job.message)
        one = Delivery.objects.get(job=job)
        clip = open_clip(store.delivery_folder(one.folder) / "finished.mp4")
        self.assertEqual([number_of(clip.rgb(i)) for i in range(0, frames, 9)], list(range(0, frames, 9)))
        self.assertEqual([p.name for p in store.delivery_folder(one.folder).iterdir()], ["finished.mp4"])


class Finishing(JobTest):
    def test_a_worker_that_dies_before_or_while_joining_costs_nothing(self) -> None:
        for when in ("deliveries.work.finish", "deliveries.models.Delivery.objects.update_or_create"):
            with self.subTest(when):
                _, job = self.delivery()
                pieces = list(job.pieces.order_by("position").values_list("pk", flat=True))
                run_chunk(pieces[0])
                with mock.patch(when, side_effect=Killed), self.assertRaises(Killed):
                    run_chunk(pieces[1])
                job.refresh_from_db()
                self.assertEqual(job.state, "running")
                self.forget_heartbeats(job)
                self.assertEqual(put_back(), 1)
                self.assert_delivered(job)

    def test_a_worker_that_dies_between_the_last_piece_and_the_end_costs_nothing(self) -> None:
        _, job = self.delivery()
        for pk in job.pieces.values_list("pk", flat=True):
            with mock.patch("jobs.tasks._complete", lambda chunk: Chunk.objects.filter(pk=chunk.pk).update(state="done") and None):
                run_chunk(pk)
        self.assertEqual(put_back(), 0, "it may only just have been finished")
        self.forget_heartbeats(job)
        self.assertEqual(put_back(), 1)
        self.assert_delivered(job)

    def test_joining_that_fails_is_told_and_retry_goes_on_with_what_is_there(self) -> None:
        _, job = self.delivery()
        pieces = list(job.pieces.order_by("position").values_list("pk", flat=True))
        with mock.patch("deliveries.work.finish", side_effect=OSError(errno.ENOSPC, "full")):
            for pk in pieces:
                run_chunk(pk)
        job.refresh_from_db()
        self.assertEqual(job.state, "failed")
        self.assertIn("The disk is full", job.message)
        with mock.patch("deliveries.work.write_pieces", side_effect=AssertionError("a piece was rendered again")):
            self.page.json("POST", f"/jobs/{job.pk}/retry")
        self.assert_delivered(job)

    def test_a_job_s_last_piece_never_ends_it_before_the_others(self) -> None:
        _, job = self.delivery()
        run_chunk(job.chunks.get(final=True).pk)
        self.assertEqual(job.chunks.get(final=True).state, "waiting")
        job.refresh_from_db()
        self.assertEqual(job.state, "queued")


class Frozen(JobTest):
    def freeze(self, job: Job, chunk: Chunk, ends: Any) -> None:
        """Run a chunk in a worker that is taken for dead in the middle of it, and then goes on to an end of its own."""
        handler = HANDLERS[job.kind]
        real = handler.run

        def run(job: Job, held: Chunk, work: Any) -> None:
            if held.pk != chunk.pk or chunk.payload.get("thawed"):
                real(job, held, work)
                return
            chunk.payload["thawed"] = True
            self.forget_heartbeats(job)
            put_back()  # another worker takes over, here and now
            ends(job, held, work)

        with mock.patch.object(handler, "run", run):
            run_chunk(chunk.pk)

    def test_one_that_wakes_up_cannot_end_what_another_has_taken_over(self) -> None:
        def fails(*_: Any) -> None:
            raise MediaError("media.x", "It failed, long ago.")

        _, job = self.delivery()
        first, second = job.pieces.order_by("position")
        run_chunk(first.pk)
        self.freeze(job, second, fails)
        self.assert_delivered(job)
        _, job = self.delivery()
        first, second = job.pieces.order_by("position")
        run_chunk(first.pk)
        self.freeze(job, second, lambda *_: None)
        self.assert_delivered(job)
        self.assertEqual(Delivery.objects.count(), 2)

    def test_one_that_wakes_up_does_not_store_its_measurement_again(self) -> None:
        shot = self.shot_with_clip()
        self.add_point(shot)
        with mock.patch("jobs.queue.send"):
            made = self.page.json("POST", f"/shots/{shot}/motions/m/measure", {})
        job = Job.objects.get(pk=made["id"])
        real = HANDLERS["measure"].run
        self.freeze(job, job.pieces.get(), lambda *args: real(*args))
        job.refresh_from_db()
        self.assertEqual(job.state, "done")
        labels = list(Shot.objects.get(pk=shot).revisions.values_list("label", flat=True))
        self.assertEqual(labels.count("Measure M") + labels.count("Measure Rose"), 1, labels)

    def test_a_failure_is_not_called_a_stop_by_a_sibling_that_notices_it(self) -> None:
        _, job = self.delivery()
        first, second = job.pieces.order_by("position")
        handler = HANDLERS["deliver"]
        real = handler.run

        def run(job: Job, chunk: Chunk, work: Any) -> None:
            if chunk.pk == first.pk:
                with mock.patch.object(handler, "run", side_effect=MediaError("m", "The clip is gone.")):
                    run_chunk(second.pk)
            real(job, chunk, work)

        with mock.patch.object(handler, "run", run):
            run_chunk(first.pk)
        job.refresh_from_db()
        self.assertEqual((job.state, job.message), ("failed", "The clip is gone."))


class Room(JobTest):
    def test_work_stops_where_the_disk_fills_up_meanwhile_and_goes_on_when_there_is_room(self) -> None:
        _, job = self.delivery()
        calls = iter(range(10_000))
        with mock.patch("plonket_server.store.free_bytes", lambda: 10**12 if next(calls) < 2 else store.RESERVE - 1):
            for pk in job.pieces.order_by("position").values_list("pk", flat=True):
                run_chunk(pk)
        job.refresh_from_db()
        self.assertEqual(job.state, "failed")
        self.assertIn("The disk is full. What was made so far is kept", job.message)
        self.page.json("POST", f"/jobs/{job.pk}/retry")
        self.assert_delivered(job)

    def test_room_for_a_clip_is_estimated_from_its_pixels_and_frames(self) -> None:
        shot = self.new_shot()
        with mock.patch("plonket_server.store.free_bytes", lambda: store.RESERVE + 2 * 10**6):
            self.page.upload(phone_clip(self.folder / "n.mp4", frames=60), shot=shot)
        job = Job.objects.get(kind="conform")
        self.assertEqual(job.state, "failed")
        self.assertIn("are needed", job.message)
        self.page.json("POST", f"/jobs/{job.pk}/retry")
        self.assertEqual(Asset.objects.get().state, "ready")


class Preparing(JobTest):
    def footage(self, shot: str) -> Any:
        return self.page.json("GET", f"/shots/{shot}")["document"]["footage"]

    def test_one_clip_on_two_shots_is_prepared_once_and_given_to_both(self) -> None:
        clip = phone_clip(self.folder / "n.mp4", frames=40)
        first, second = self.new_shot(), self.new_shot()
        made: list[Any] = []

        def conform_slowly(*args: Any) -> Any:
            made.append(args)
            if len(made) == 1:
                self.page.upload(clip, shot=second)
            return conform(*args)

        with mock.patch("library.work.conform", conform_slowly):
            self.page.upload(clip, shot=first)
        self.assertEqual(len(made), 1)
        self.assertEqual(Job.objects.filter(kind="conform").count(), 1)
        self.assertEqual(self.page.json("GET", "/jobs")[0]["waiting"], [first, second])
        for shot in (first, second):
            self.assertEqual(self.footage(shot)["frames"], 40)
        found = open_clip(store.derived_folder(Asset.objects.get().digest) / "clip.mp4")
        self.assertEqual([number_of(found.rgb(i)) for i in range(40)], list(range(40)))

    def test_what_was_damaged_is_prepared_again_from_the_original(self) -> None:
        shot = self.shot_with_clip(phone_clip(self.folder / "n.mp4", frames=30))
        asset = Asset.objects.get()
        shutil.rmtree(store.derived_folder(asset.digest))
        self.assertEqual(self.page.json("POST", f"/assets/{asset.digest}/prepare")["state"], "ready")
        found = open_clip(store.derived_folder(asset.digest) / "clip.mp4")
        self.assertEqual(number_of(found.rgb(29)), 29)
        self.assertEqual(self.footage(shot)["asset"], asset.digest)

    def test_one_that_failed_is_prepared_when_it_is_brought_in_again(self) -> None:
        clip = phone_clip(self.folder / "n.mp4", frames=30)
        shot = self.new_shot()
        with mock.patch("library.work.conform", side_effect=MediaError("m", "Not today.")):
            self.page.upload(clip, shot=shot)
        self.assertEqual(Asset.objects.get().state, "failed")
        self.assertIsNone(self.footage(shot))
        self.page.upload(clip, shot=shot)
        self.assertEqual(Asset.objects.get().state, "ready")
        self.assertEqual(self.footage(shot)["frames"], 30)


class Keeping(JobTest):
    def test_the_keeper_outlives_whatever_its_steps_raise(self) -> None:
        seen: list[str] = []

        def bad(name: str) -> Any:
            def step() -> None:
                seen.append(name)
                if len(seen) > 6:
                    raise SystemExit
                raise RuntimeError(name)

            return step

        with (
            mock.patch.object(keep_jobs, "STEPS", [Step(0.01, bad("outside")), Step(3600, bad("sweep"))]),
            mock.patch.object(keep_jobs, "put_back", bad("back")), mock.patch.object(keep_jobs, "LOOKS_S", 0.01),
            mock.patch.object(keep_jobs, "EVERY_S", 0.01), self.assertLogs("jobs.management.commands.keep_jobs"),
            mock.patch("signal.signal"), self.assertRaises(SystemExit),
        ):  # fmt: skip
            keep_jobs.Command().handle()
        self.assertTrue({"outside", "sweep"} <= set(seen))

    def test_apps_announce_what_they_do(self) -> None:
        self.assertEqual(set(HANDLERS), set(Job.Kind))
        self.assertTrue({take_in_complete, look_outside, sweep} <= {step.run for step in STEPS})

    def test_a_broker_that_is_away_loses_no_work(self) -> None:
        shot = self.shot_with_clip()
        with mock.patch.object(run_chunk, "delay", side_effect=OperationalError("gone")), self.assertLogs("jobs.queue"):
            made = self.page.json("POST", f"/shots/{shot}/deliver")
        job = Job.objects.get(pk=made["id"])
        self.assertEqual(job.state, "queued")
        self.forget_heartbeats(job)
        put_back()
        job.refresh_from_db()
        self.assertEqual(job.state, "done")

    def test_what_waits_its_turn_is_not_handed_out_again_and_again(self) -> None:
        _, first = self.delivery(70)
        _, second = self.delivery(70)
        for job in (first, second):
            self.forget_heartbeats(job)
        now = timezone.now()
        Chunk.objects.filter(job=first, final=False).update(state="running", claim="alive", heartbeat=now)
        with mock.patch.object(keep_jobs, "WORKERS", 2), mock.patch.object(keep_jobs, "hand_out") as handed_out:
            self.assertEqual(put_back(), 0, "both workers are at it")
            one = first.pieces.order_by("position").first()
            Chunk.objects.filter(pk=one.pk).update(state="done")
            self.assertEqual(put_back(), 1, "one has nothing to do: the broker may have lost what was said to it")
        self.assertIn(handed_out.call_args.args[0], set(second.pieces.values_list("pk", flat=True)))

    def test_every_open_job_is_told_however_many_ended_since(self) -> None:
        _, job = self.delivery()
        for _ in range(60):
            Job.objects.create(kind="check", label="x", state="done")
        told = self.page.json("GET", "/jobs")
        self.assertEqual(told[0]["id"], str(job.pk))
        self.assertEqual(len(told), 41)

    def test_only_what_nothing_refers_to_is_swept_away(self) -> None:
        _, job = self.delivery()
        old = timezone.now().timestamp() - 3 * 86400
        names = (str(job.pk), str(uuid.uuid4()))
        for name in names:
            folder = store.delivery_folder(name)
            folder.mkdir(parents=True, exist_ok=True)
            (folder / "00000.mp4").touch()
        part = store.upload_path(str(uuid.uuid4()))
        part.touch()
        fresh = store.upload_path(str(uuid.uuid4()))
        fresh.touch()
        import os

        for path in (*map(store.delivery_folder, names), part):
            os.utime(path, (old, old))
        sweep()
        self.assertEqual([store.delivery_folder(n).exists() for n in names], [True, False])
        self.assertEqual((part.exists(), fresh.exists()), (False, True))
        fresh.unlink()


class Events(JobTest):
    def test_an_event_that_is_committed_after_a_later_one_is_heard(self) -> None:
        start = Event.objects.create(kind="job", data={}).pk
        reader = Reader(start)
        began, ends = threading.Event(), threading.Event()

        def late() -> None:
            with transaction.atomic():
                Event.objects.create(kind="job", data={"n": "late"})
                began.set()
                ends.wait(20)
            connection.close()

        thread = threading.Thread(target=late)
        thread.start()
        self.assertTrue(began.wait(20))
        Event.objects.create(kind="job", data={"n": "early"})
        heard = [e.data["n"] for e in asyncio.run(reader.fresh())]
        self.assertEqual(heard, ["early"])
        ends.set()
        thread.join(20)
        self.assertEqual([e.data["n"] for e in asyncio.run(reader.fresh())], ["late"])
        self.assertEqual(asyncio.run(reader.fresh()), [])


class Finished(JobTest):
    def test_finished_videos_outlive_their_shot_and_project(self) -> None:
        shot = self.shot_with_clip()
        self.page.json("POST", f"/shots/{shot}/deliver")
        one = self.page.json("GET", "/deliveries")[0]
        project = self.page.json("GET", f"/shots/{shot}")["project"]
        self.page.json("DELETE", f"/shots/{shot}", status=204)
        self.page.json("DELETE", f"/projects/{project}", status=204)
        left = self.page.json("GET", "/deliveries")
        self.assertEqual([(d["id"], d["shot"]) for d in left], [(one["id"], None)])
        self.assertEqual(self.page.get(f"/deliveries/{one['id']}/file").status_code, 200)
        folder = Path(store.delivery_folder(Delivery.objects.get().folder))
        sweep()
        self.assertTrue((folder / "finished.mp4").exists())
        self.page.json("DELETE", f"/deliveries/{one['id']}", status=204)
        self.assertFalse(folder.exists())
