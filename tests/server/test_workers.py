"""Real workers on the real broker: killed in the middle of their work, and told to stop."""

from __future__ import annotations

import asyncio
import os
import signal
import subprocess
import sys
import tempfile
from datetime import timedelta
from fractions import Fraction
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.db import connection
from django.test import AsyncRequestFactory, TransactionTestCase
from django.utils import timezone

from jobs.management.commands.keep_jobs import put_back
from jobs.models import Chunk, Event, Job
from jobs.stream import events
from plonket.media import open_clip
from plonket.media.write import VideoWriter
from plonket_server import store
from plonket_server.celery import app
from tests.browser.stage import until
from tests.core.clips import number_of, numbered
from tests.server.client import ServerTest


class Workers(ServerTest):
    def setUp(self) -> None:
        super().setUp()
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        clip = self.folder / "n.mp4"
        with VideoWriter(clip, (640, 360), Fraction(30)) as out:
            for i in range(150):
                out.write(numbered(i, (640, 360)))
        self.shot = self.new_shot()
        self.page.upload(clip, shot=self.shot)
        app.conf.task_always_eager = False
        self.addCleanup(setattr, app.conf, "task_always_eager", True)
        app.control.purge()

    def worker(self) -> subprocess.Popen[bytes]:
        env = dict(os.environ, PLONKET_DB_NAME=str(connection.settings_dict["NAME"]), PLONKET_STORE=str(settings.STORE))
        env.pop("PLONKET_TESTING")
        process = subprocess.Popen(
            [sys.executable, "-m", "celery", "-A", "plonket_server", "worker", "--pool", "solo", "--loglevel", "error"],
            cwd=settings.ROOT / "server", env=env, start_new_session=True, stdout=subprocess.DEVNULL,
        )  # fmt: skip
        self.addCleanup(lambda: process.poll() is None and os.killpg(process.pid, signal.SIGKILL))
        return process

    def job(self, pk: str) -> Job:
        return Job.objects.get(pk=pk)

    def test_killed_workers_chunk_is_done_again_and_nothing_is_lost(self) -> None:
        with mock.patch("deliveries.work.FRAMES_PER_CHUNK", 40):
            pk = self.page.json("POST", f"/shots/{self.shot}/deliver")["id"]
        first = self.worker()
        until(lambda: Chunk.objects.filter(job=pk, state="done").exists(), 60, "the first chunk")
        until(lambda: Chunk.objects.filter(job=pk, state="running").exists() or self.job(pk).state == "done", 30, "the next chunk")
        os.killpg(first.pid, signal.SIGKILL)
        first.wait()
        self.assertNotEqual(self.job(pk).state, "done")
        done_before = set(Chunk.objects.filter(job=pk, state="done").values_list("pk", flat=True))
        second = self.worker()
        # What the dead worker held is handed out again once its heart has stopped.
        Chunk.objects.filter(job=pk, state="running").update(heartbeat=timezone.now() - timedelta(minutes=1))
        Job.objects.filter(pk=pk).update(created=timezone.now() - timedelta(minutes=1))
        put_back()
        until(lambda: self.job(pk).state == "done", 90, "the delivery")
        tries = dict(Chunk.objects.filter(job=pk).values_list("pk", "tries"))
        self.assertTrue(all(tries[k] == 1 for k in done_before))
        clip = open_clip(store.delivery_folder(pk) / "finished.mp4")
        self.assertEqual([number_of(clip.rgb(i)) for i in range(0, 150, 7)], list(range(0, 150, 7)))
        self.assertEqual(clip.info.frames, 150)
        second.terminate()
        second.wait(20)

    def test_stop_reaches_a_running_worker_and_retry_goes_on(self) -> None:
        with mock.patch("deliveries.work.FRAMES_PER_CHUNK", 75):
            pk = self.page.json("POST", f"/shots/{self.shot}/deliver")["id"]
        worker = self.worker()
        until(lambda: self.job(pk).done > 0, 60, "the first frames")
        self.page.json("POST", f"/jobs/{pk}/stop")
        until(lambda: self.job(pk).state == "stopped", 20, "the stop")
        self.page.json("POST", f"/jobs/{pk}/retry")
        until(lambda: self.job(pk).state == "done", 90, "the delivery")
        self.assertEqual(self.job(pk).done, 150)
        worker.terminate()
        worker.wait(20)


class Stream(TransactionTestCase):
    def test_events_come_in_order_and_go_on_after_a_dropped_connection(self) -> None:
        made = [Event.objects.create(kind="job", data={"n": n}) for n in range(4)]

        async def read(last: str, count: int) -> list[str]:
            request = AsyncRequestFactory().get("/api/events", headers={"Last-Event-ID": last} if last else {})
            response = await events(request)
            out: list[str] = []
            async for piece in response.streaming_content:  # type: ignore[union-attr]
                out.append(piece.decode())
                if len(out) == count:
                    return out
            return out

        got = asyncio.run(asyncio.wait_for(read(str(made[1].pk), 3), 20))
        self.assertIn("event: hello", got[0])
        self.assertIn(f"id: {made[2].pk}\nevent: job\ndata: {{\"n\": 2}}", got[1])
        self.assertIn('"n": 3', got[2])
        fresh = asyncio.run(asyncio.wait_for(read("", 1), 20))
        self.assertIn(f"id: {made[3].pk}", fresh[0])
