"""The launcher's own parts: processes that die and are started again, their logs, its folders, and the test command's last line."""

from __future__ import annotations

import io
import json
import os
import signal
import stat
import subprocess
import sys
import tempfile
import threading
import unittest
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from typing import Any
from unittest import mock

from django.test import tag

from launch import install, places, processes, supervisor
from launch.places import Data
from launch.processes import Child, Program, rotate
from launch.supervisor import Part, Supervisor
from launch.tests import AGAIN_AT_MOST, LAUNCHER, _again, _closing, _told
from tests.browser.stage import until


@tag(LAUNCHER)
class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def program(self, code: str, name: str = "part") -> Program:
        return Program(name=name, command=[sys.executable, "-c", code], env=dict(os.environ), log=self.folder / f"{name}.log",
                       pid_file=self.folder / f"{name}.pid", cwd=self.folder)  # fmt: skip

    def child(self, code: str, name: str = "part") -> Child:
        made = Child(self.program(code, name))
        self.addCleanup(made.stop, 1)
        return made


class Children(InFolder):
    def test_how_it_ended_is_said_with_what_it_said_since_it_was_started(self) -> None:
        log = self.folder / "part.log"
        log.write_text("Traceback: an old, unrelated one\n")
        made = self.child("import time; print('just now', flush=True); time.sleep(60)")
        until(lambda: "just now" in made.tail(), 10, "its words")
        os.kill(made.process.pid, signal.SIGSEGV)
        made.process.wait(10)
        self.assertEqual(made.ending(), "was ended by SIGSEGV")
        self.assertEqual(made.tail(), "just now")
        failed = self.child("raise SystemExit(3)", "other")
        failed.process.wait(10)
        self.assertEqual(failed.ending(), "ended with code 3")

    def test_nothing_that_it_started_is_left(self) -> None:
        code = "import subprocess, sys, time; p = subprocess.Popen([sys.executable, '-c', 'import time; time.sleep(99)']); print(p.pid, flush=True); time.sleep(99)"
        for ends_first in (False, True):
            made = self.child(code, f"parent-{ends_first}")
            until(lambda made=made: made.tail().isdigit(), 10, "the grandchild")  # type: ignore[misc]
            grandchild = int(made.tail())
            if ends_first:
                made.process.kill()
                made.process.wait(10)
            made.stop(5)
            until(lambda pid=grandchild: not _runs(pid), 10, "the grandchild to end")  # type: ignore[misc]

    def test_a_log_that_grows_is_set_aside_while_it_is_written(self) -> None:
        log = self.folder / "part.log"
        with mock.patch.object(processes, "MOST_LOG_BYTES", 1000), log.open("ab", buffering=0) as out:
            out.write(b"a" * 2000)
            rotate(log)
            out.write(b"after")
            self.assertEqual(log.read_bytes(), b"after")
            self.assertEqual(log.with_suffix(".log.1").stat().st_size, 2000)
            rotate(log)
            self.assertEqual(log.read_bytes(), b"after")


def _runs(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


class Supervising(InFolder):
    def test_what_dies_is_started_again_later_each_time_and_at_once_when_it_was_calm(self) -> None:
        child = self.child("print('dying words', flush=True); raise SystemExit(1)")
        part = Part(child)
        self.addCleanup(lambda: part.child.stop(1))
        child.process.wait(10)
        delays, now = [], 1000.0
        said = io.StringIO()
        with redirect_stderr(said):
            for _ in range(9):
                part.child.started = now
                part.child.process.wait(10)
                part.look(now)
                waited = 0.0
                before = part.child
                while part.child is before:
                    waited += 0.25
                    part.look(now + waited)
                delays.append(waited)
                now += waited
        self.assertEqual(delays, [0.5, 1, 2, 4, 8, 16, 30, 30, 30])
        self.assertEqual(said.getvalue().count("part ended with code 1"), 9)
        self.assertIn("dying words", said.getvalue())
        part.child.started = now
        part.child.process.wait(10)
        with redirect_stderr(io.StringIO()):
            part.look(now + supervisor.CALM_S + 1)
            before = part.child
            part.look(now + supervisor.CALM_S + 1.5)
        self.assertIsNot(part.child, before)

    def test_helpers_run_once_and_their_end_is_heard(self) -> None:
        boss, stopping, heard = Supervisor(), threading.Event(), []
        kept = Child(self.program("import time; time.sleep(99)", "kept"))
        boss.keep(kept)

        def ended(child: Child) -> None:
            heard.append(child.process.returncode)
            stopping.set()

        boss.once(self.program("raise SystemExit(4)", "helper"), ended)
        with mock.patch.object(supervisor, "EVERY_S", 0.05):
            boss.watch(stopping)
        self.assertEqual(heard, [4])
        self.assertTrue(kept.alive())
        boss.stop()
        self.assertFalse(kept.alive())


class Folders(InFolder):
    def test_a_run_folder_elsewhere_is_private_cannot_be_guessed_and_is_found_again(self) -> None:
        data = self.folder / ("a" * 60) / ("b" * 60)
        first = Data(data)
        first.make()
        self.addCleanup(lambda: first.run.rmdir())
        self.assertEqual(stat.S_IMODE(first.run.stat().st_mode), 0o700)
        self.assertNotIn(first.run.name, {f"plonket-{os.getuid()}", "plonket"})
        self.assertGreaterEqual(len(first.run.name.removeprefix("plonket-")), 8)  # made up, not told from who or where
        self.assertEqual(Data(data).run, first.run)
        # One that others may enter, or that is a link, is not taken.
        first.run.chmod(0o755)
        other = Data(data).run
        self.addCleanup(lambda: other.rmdir())
        self.assertNotEqual(other, first.run)
        link = self.folder / "link"
        link.symlink_to(first.run)
        self.assertFalse(places._is_private(link))


class Installing(InFolder):
    def run_with(self, uid: int) -> list[str]:
        """What the package manager meets when Plonket installs with sudo (or as root)."""
        met = self.folder / "met"
        policy = self.folder / "policy-rc.d"
        for name, body in {
            "sudo": 'echo sudo >> "$MET"; exec env -i PATH="$PATH" MET="$MET" "$@"',
            "apt-get": f'echo "$1 $DEBIAN_FRONTEND $(cat {policy} 2>/dev/null | tail -1)" >> "$MET"',
        }.items():
            path = self.folder / name
            path.write_text(f"#!/bin/sh\n{body}\n")
            path.chmod(0o755)
        env = {"PATH": f"{self.folder}:{os.environ['PATH']}", "MET": str(met)}
        script = install._INSTALL.replace("/usr/sbin/policy-rc.d", str(policy))
        with (
            mock.patch.dict(os.environ, env), mock.patch("os.getuid", return_value=uid), redirect_stderr(io.StringIO()),
            mock.patch.object(install, "_INSTALL", script),
        ):  # fmt: skip
            install._apt(["mariadb-server"])
        self.assertFalse(policy.exists(), "the policy goes when all is installed")
        return met.read_text().splitlines()

    def test_servers_do_not_start_by_themselves_with_sudo_either(self) -> None:
        self.assertEqual(self.run_with(1000), ["sudo", "update noninteractive exit 101", "install noninteractive exit 101"])

    def test_nor_as_root(self) -> None:
        self.assertEqual(self.run_with(0), ["update noninteractive exit 101", "install noninteractive exit 101"])

    def test_a_policy_that_is_there_stays(self) -> None:
        policy = self.folder / "kept"
        policy.write_text("#!/bin/sh\nexit 0\n")
        script = install._INSTALL.replace("/usr/sbin/policy-rc.d", str(policy))
        subprocess.run(["sh", "-c", script, "install", "true", "x"], check=True)
        self.assertTrue(policy.exists())
        failing = subprocess.run(["sh", "-c", script, "install", "false", "x"])
        self.assertNotEqual(failing.returncode, 0)


class ClosingLine(InFolder):
    def half(self, name: str, **told: object) -> Path:
        path = self.folder / f"{name}.json"
        path.write_text(json.dumps({"passed": 3, "failed": 0, "skipped": 1, "failures": []} | told))
        return path

    def closing(self, *halves: Path) -> tuple[bool, list[str]]:
        said = io.StringIO()
        with redirect_stdout(said):
            good = _closing([_told(half) for half in halves])
        return good, said.getvalue().splitlines()

    def test_one_line_counts_both_halves_and_failures_have_names(self) -> None:
        self.assertEqual(self.closing(self.half("a"), self.half("b")), (True, ["6 passed, 0 failed, 2 skipped"]))
        bad = self.half("b", failed=2, failures=["tests.x", "tests.y"])
        self.assertEqual(
            self.closing(bad, self.half("a")),
            (False, ["FAILED  tests.x", "FAILED  tests.y", "6 passed, 2 failed, 2 skipped"]),
        )

    def test_a_half_that_died_is_a_failure(self) -> None:
        good, said = self.closing(self.half("a"), self.folder / "core.json")
        self.assertFalse(good)
        self.assertEqual(said[-1], "3 passed, 1 failed, 1 skipped")

    def again(self, first: list[str], second: list[str] | None) -> tuple[dict[str, Any], list[list[str]], str]:
        """What is told of a run after its browser tests ran once more, with what that run was asked for, and said."""
        asked: list[list[str]] = []
        path = self.folder / "again.json"

        def run(names: list[str], env: dict[str, str]) -> int:
            asked.append(names)
            if second is not None:
                counts = {"passed": len(names) - len(second), "failed": len(second), "skipped": 0, "failures": second}
                Path(env["PLONKET_TEST_COUNTS"]).write_text(json.dumps(counts))
            return len(second or names)

        told = {"passed": 9, "failed": len(first), "skipped": 0, "failures": first}
        said = io.StringIO()
        with mock.patch("launch.tests._run", run), redirect_stdout(said):
            return _again(told, {}, path), asked, said.getvalue()

    def test_what_failed_in_the_browser_runs_once_more_by_itself_and_is_named(self) -> None:
        told, asked, said = self.again(["tests.browser.a", "tests.server.b", "tests.browser.c"], ["tests.browser.c"])
        self.assertEqual(asked, [["tests.browser.a", "tests.browser.c"]])
        self.assertEqual(told, {"passed": 10, "failed": 2, "skipped": 0, "failures": ["tests.server.b", "tests.browser.c"]})
        self.assertIn("PASSED BY ITSELF ONLY  tests.browser.a", said)
        self.assertNotIn("ONLY  tests.browser.c", said)

    def test_what_fails_elsewhere_or_in_many_places_is_not_tried_again(self) -> None:
        many = [f"tests.browser.{k}" for k in range(AGAIN_AT_MOST + 1)]
        for names in (["tests.server.b"], many):
            told, asked, _ = self.again(names, [])
            self.assertEqual((told["failures"], asked), (names, []))

    def test_a_second_run_that_dies_saves_nothing(self) -> None:
        told, _, said = self.again(["tests.browser.a"], None)
        self.assertEqual((told["failed"], told["failures"]), (1, ["tests.browser.a"]))
        self.assertNotIn("PASSED", said)

