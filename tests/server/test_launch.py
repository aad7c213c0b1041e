"""Starting and stopping for real: a clean end, a killed launcher, a taken port."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import tempfile
import time
import unittest
import urllib.request
from pathlib import Path

from django.conf import settings
from django.test import tag

from launch.tests import LAUNCHER
from tests.browser.stage import until


def free_port() -> int:
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return int(s.getsockname()[1])


@tag(LAUNCHER)
class Starting(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.data = Path(folder.name) / "data"
        self.port = free_port()

    def start(self, *more: str) -> subprocess.Popen[str]:
        env = {k: v for k, v in os.environ.items() if not k.startswith(("PLONKET", "DJANGO", "PYTHONPATH"))}
        process = subprocess.Popen(
            [str(settings.ROOT / "bin" / "plonket"), "start", "--no-demo", "--data", str(self.data), "--port", str(self.port), *more],
            stderr=subprocess.PIPE, text=True, env=env,
        )  # fmt: skip
        self.addCleanup(lambda: process.poll() is None and process.kill())
        self.addCleanup(lambda: process.stderr and process.stderr.close())
        return process

    def answers(self) -> bool:
        try:
            with urllib.request.urlopen(f"http://127.0.0.1:{self.port}/api/health", timeout=2) as answer:
                return bool(answer.status == 200)
        except OSError:
            return False

    def wait(self, wanted: bool, seconds: float = 240) -> None:
        end = time.monotonic() + seconds
        while self.answers() is not wanted:
            self.assertLess(time.monotonic(), end, f"the page answers: {not wanted}")
            time.sleep(0.2)

    def ours(self) -> list[str]:
        """Commands of processes that work on our data folder."""
        found = []
        for entry in Path("/proc").iterdir():
            if entry.name.isdigit():
                try:
                    if f"PLONKET_DATA={self.data}" in (entry / "environ").read_text(errors="replace") or str(
                        self.data / "mariadb"
                    ) in (entry / "cmdline").read_text(errors="replace"):
                        found.append((entry / "cmdline").read_text(errors="replace"))
                except OSError:
                    continue
        return found

    def wait_gone(self, seconds: float = 240) -> None:
        # What was only just started reads all of its modules before it sees that it is alone.
        end = time.monotonic() + seconds
        while self.ours():
            self.assertLess(time.monotonic(), end, self.ours())
            time.sleep(0.2)

    def test_clean_end_then_kill_then_start_again(self) -> None:
        first = self.start()
        self.wait(True)
        second = self.start()
        self.assertEqual(second.wait(90), 1)
        assert second.stderr
        self.assertIn("already running", second.stderr.read())
        first.send_signal(signal.SIGINT)
        self.assertEqual(first.wait(120), 0)
        self.wait_gone()
        killed = self.start()
        self.wait(True)
        killed.kill()
        killed.wait(10)
        self.wait(False, 120)
        self.wait_gone()
        again = self.start()
        self.wait(True)
        again.send_signal(signal.SIGTERM)
        self.assertEqual(again.wait(120), 0)
        self.wait_gone()

    def pid(self, part: str) -> int:
        """A part's process; 0 while there is none."""
        path = self.data / "run" / f"{part}.pid"
        try:
            return int(path.read_text() or 0)
        except FileNotFoundError:
            return 0

    def test_every_part_is_started_again_when_it_is_killed(self) -> None:
        process = self.start()
        self.wait(True)
        # Once the warm-up runs the launcher has seen the page answer too, and watches over the parts.
        until((self.data / "run" / "warm.pid").exists, 20, "the launcher to be done")
        # The database listens on its socket and nowhere else.
        self.assertIn("--skip-networking", Path(f"/proc/{self.pid('mariadb')}/cmdline").read_text())
        for part in ("web", "mariadb", "redis", "worker", "keeper"):
            before = self.pid(part)
            os.kill(before, signal.SIGKILL)
            end = time.monotonic() + 180
            while self.pid(part) in (before, 0):
                self.assertLess(time.monotonic(), end, f"{part} did not come back")
                self.assertIsNone(process.poll(), "the launcher lives on")
                time.sleep(0.1)
            self.wait(True)
        process.send_signal(signal.SIGTERM)
        self.assertEqual(process.wait(120), 0)
        assert process.stderr
        said = process.stderr.read()
        for part in ("web", "mariadb", "redis", "worker", "keeper"):
            self.assertIn(f"{part} was ended by SIGKILL. It starts again in", said)
        self.wait_gone()

    def test_ending_while_it_warms_up_leaves_nothing(self) -> None:
        process = self.start()
        self.wait(True)
        until((self.data / "run" / "warm.pid").exists, 20, "the warm-up to begin")
        until(lambda: sum("plonket.cli.warm" in line or "multiprocessing" in line for line in self.ours()) >= 2, 60, "its processes")
        process.send_signal(signal.SIGINT)
        self.assertEqual(process.wait(120), 0)
        self.wait_gone(5)

    def test_taken_port_is_said(self) -> None:
        with socket.socket() as s:
            s.bind(("127.0.0.1", self.port))
            s.listen()
            process = self.start()
            self.assertEqual(process.wait(120), 1)
        assert process.stderr
        self.assertIn(f"Port {self.port} is taken", process.stderr.read())
