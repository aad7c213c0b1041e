"""Pictures are drawn in a process of their own: a crash costs one of them, and an idle night costs none."""

from __future__ import annotations

import asyncio
import ctypes
import os
import signal
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any
from unittest import mock

import cv2
import numpy as np
from django.conf import settings
from django.db import connection, connections, transaction
from django.test import SimpleTestCase, TransactionTestCase, override_settings

from frames.views import _cache
from library.models import Project
from plonket.base.errors import BadInput, PlonketError
from plonket_server import drawing
from plonket_server.connections import in_thread, let_go
from plonket_server.drawing import Drawer
from tests.core.clips import number_of, phone_clip
from tests.server import test_drawing as here
from tests.server.test_server import WithFolder

ENV = dict(os.environ, PYTHONPATH=os.pathsep.join([str(settings.ROOT / p) for p in ("core", "server", ".")]))
COMMAND = [sys.executable, "manage.py", "draw"]


# What is called over there.


def double(value: int, seconds: float = 0.0) -> int:
    time.sleep(seconds)
    return 2 * value


def die_of(value: int, folder: str) -> int:
    """Leaves a mark and ends the process as a crash in compiled code does."""
    (Path(folder) / f"{value}-{os.getpid()}-{time.monotonic_ns()}").touch()
    ctypes.string_at(0)
    return value


def refuse(words: str) -> None:
    raise BadInput("words.no", words, {"said": words})


def break_down() -> None:
    raise RuntimeError("secret inside")


def process_id() -> int:
    print("libraries print this and that")
    return os.getpid()


class Drawers(SimpleTestCase):
    def setUp(self) -> None:
        self.drawer = Drawer(COMMAND, ENV, str(settings.ROOT / "server"))
        self.addCleanup(self.drawer.close)

    def test_answers_come_back_to_who_asked_and_slow_ones_hold_up_nobody(self) -> None:
        self.drawer.call(here.double, 0)
        with ThreadPoolExecutor(8) as threads:
            slow = threads.submit(self.drawer.call, here.double, 21, 3.0)
            began = time.monotonic()
            quick = list(threads.map(lambda k: self.drawer.call(here.double, k), range(40)))
            self.assertLess(time.monotonic() - began, 3.0)
            self.assertEqual(quick, [2 * k for k in range(40)])
            self.assertEqual(slow.result(), 42)

    def test_refusals_and_errors_are_told_apart(self) -> None:
        with self.assertRaises(BadInput) as caught:
            self.drawer.call(here.refuse, "in words")
        self.assertEqual((caught.exception.code, caught.exception.details), ("words.no", {"said": "in words"}))
        with self.assertRaises(PlonketError) as failed:
            self.drawer.call(here.break_down)
        self.assertNotIn("secret", failed.exception.message)
        self.assertEqual(self.drawer.call(here.process_id), self.drawer.call(here.process_id), "it lives on")

    def test_a_crash_costs_the_one_picture_that_brings_it(self) -> None:
        with tempfile.TemporaryDirectory() as folder, ThreadPoolExecutor(8) as threads, self.assertLogs("plonket_server.drawing"):
            self.drawer.call(here.double, 0)
            others = [threads.submit(self.drawer.call, here.double, k, 1.0) for k in range(3)]
            time.sleep(0.3)
            bad = threads.submit(self.drawer.call, here.die_of, 7, folder)
            self.assertEqual([one.result(60) for one in others], [0, 2, 4])
            with self.assertRaises(PlonketError) as caught:
                bad.result(60)
            self.assertEqual(caught.exception.code, "drawing.crashed")
            self.assertEqual(len(os.listdir(folder)), 2, "it was tried twice, and the second time alone")
            # For a while it is refused at once: a page that asks again and again starts nothing.
            with self.assertRaises(PlonketError):
                self.drawer.call(here.die_of, 7, folder)
            self.assertEqual(len(os.listdir(folder)), 2)
            self.assertEqual(self.drawer.call(here.double, 8), 16)

    def test_a_process_that_is_killed_is_started_again(self) -> None:
        first = self.drawer.call(here.process_id)
        os.kill(first, signal.SIGKILL)
        self.assertNotEqual(self.drawer.call(here.process_id), first)


class Frames(WithFolder):
    """The whole way: over the API, into the drawing process and back."""

    def setUp(self) -> None:
        super().setUp()
        env = dict(ENV, PLONKET_DB_NAME=str(connection.settings_dict["NAME"]), PLONKET_STORE=str(settings.STORE))
        env.pop("PLONKET_TESTING", None)
        drawer = Drawer(COMMAND, env, str(settings.ROOT / "server"))
        self.addCleanup(drawer.close)
        patch = mock.patch.object(drawing, "drawer", lambda: drawer)
        patch.start()
        self.addCleanup(patch.stop)
        apart = override_settings(DRAWS_APART=True)
        apart.enable()
        self.addCleanup(apart.disable)
        self.drawer = drawer

    def frame(self, shot: str, number: int, view: str = "final") -> Any:
        picture = self.page.json("GET", f"/shots/{shot}")["picture"]
        return self.page.get(f"/frames/{shot}/{picture}/{view}/100/{number}.jpg")

    def number(self, answer: Any) -> int:
        found = cv2.imdecode(np.frombuffer(answer.content, np.uint8), cv2.IMREAD_COLOR)
        assert found is not None
        return number_of(found[..., ::-1])

    def test_frames_previews_and_small_pictures(self) -> None:
        shot = self.shot_with_clip(phone_clip(self.folder / "n.mp4", frames=12))
        picture = self.page.json("GET", f"/shots/{shot}")["picture"]
        self.assertEqual(self.number(self.frame(shot, 7)), 7)
        small = self.page.get(f"/thumbs/{shot}/{picture}/6.jpg")
        self.assertEqual(small["Content-Type"], "image/jpeg")
        with mock.patch.object(self.drawer, "call", side_effect=AssertionError), self.assertRaises(AssertionError):
            self.page.get(f"/thumbs/{shot}/{picture}/5.jpg")
        self.assertEqual(self.page.get("/generated/sparks.jpg").status_code, 200)
        self.assertEqual(self.page.get("/generated/nothing.jpg").status_code, 400)
        self.assertEqual(self.frame(shot, 99).status_code, 400)

    def test_a_shot_that_brings_the_process_down_is_told_and_another_one_is_drawn(self) -> None:
        good = self.shot_with_clip(phone_clip(self.folder / "n.mp4", frames=12))
        bad = self.shot_with_clip(phone_clip(self.folder / "m.mp4", frames=14))
        with mock.patch("frames.views.shot_jpeg", here.crashing_jpeg):
            told = self.frame(bad, 3)
        self.assertEqual((told.status_code, told.json()["code"]), (400, "drawing.crashed"))
        self.assertEqual(self.number(self.frame(good, 3)), 3)
        self.assertEqual(self.page.get("/health").status_code, 200)

    def test_pictures_after_a_night_in_which_the_database_let_go_of_everything(self) -> None:
        shot = self.shot_with_clip(phone_clip(self.folder / "n.mp4", frames=30))
        for k in range(12):
            self.assertEqual(self.frame(shot, k).status_code, 200)
        self.end_idle_connections()
        _cache._items.clear()
        for k in range(12, 30):
            self.assertEqual(self.number(self.frame(shot, k)), k)

    def end_idle_connections(self) -> None:
        """What the idle limit does: the server ends every connection but this one."""
        with connection.cursor() as cursor:
            cursor.execute("SELECT CONNECTION_ID()")
            own = cursor.fetchone()[0]
            cursor.execute("SELECT ID FROM information_schema.PROCESSLIST WHERE USER = 'plonket'")
            for (other,) in cursor.fetchall():
                if other != own:
                    cursor.execute(f"KILL {int(other)}")


def crashing_jpeg(shot_id: Any, *more: Any) -> bytes:
    ctypes.string_at(0)
    return b""


class Threads(TransactionTestCase):
    def test_threads_of_a_pool_keep_no_connection(self) -> None:
        left: list[list[Any]] = []

        def ask() -> int:
            count = Project.objects.count()
            left.append([one.connection for one in connections.all(initialized_only=True)])
            return count

        async def both() -> None:
            await in_thread(ask)
            await in_thread(lambda: left.append([one.connection for one in connections.all(initialized_only=True)]))

        asyncio.run(both())
        self.assertIsNotNone(left[0][0])
        self.assertEqual([one for one in left[1] if one is not None], [])

    def test_a_transaction_keeps_its_own(self) -> None:
        with transaction.atomic():
            Project.objects.create(name="A")
            let_go()
            self.assertEqual(Project.objects.count(), 1)
        self.assertEqual(Project.objects.count(), 1)
