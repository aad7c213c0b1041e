"""Child processes that never outlive the launcher."""

from __future__ import annotations

import contextlib
import ctypes
import os
import shutil
import signal
import socket
import subprocess
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from launch.say import Stop

PR_SET_PDEATHSIG = 1
MOST_LOG_BYTES = 8 * 1024**2
"""A log that has grown beyond this is set aside as ``.1``, in place of the one before."""


def _die_with_parent() -> None:
    """In the child: be told to end when the launcher dies, even by kill -9; ignore the terminal's Ctrl-C."""
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGTERM)
    os.setpgrp()


@dataclass(frozen=True, kw_only=True)
class Program:
    """How a child process is started, the first time and whenever it has died."""

    name: str
    command: list[str]
    env: dict[str, str]
    log: Path
    pid_file: Path
    cwd: Path


class Child:
    """One child process with its log and pid file."""

    def __init__(self, program: Program) -> None:
        self.program, self.name = program, program.name
        rotate(program.log)
        self.started = time.monotonic()
        with program.log.open("ab") as out:
            self._log_start = out.tell()
            self.process = subprocess.Popen(
                program.command, env=program.env, cwd=program.cwd, stdin=subprocess.DEVNULL, stdout=out,
                stderr=subprocess.STDOUT, preexec_fn=_die_with_parent,
            )  # fmt: skip
        program.pid_file.write_text(str(self.process.pid))

    def alive(self) -> bool:
        return self.process.poll() is None

    def stop(self, grace_s: float = 15) -> None:
        """Ask it to end; insist when it does not. Nothing that it started is left either."""
        if self.alive():
            self.process.terminate()
            with contextlib.suppress(subprocess.TimeoutExpired):
                self.process.wait(grace_s)
        # The group outlives its first process where that has left others behind.
        with contextlib.suppress(ProcessLookupError):
            os.killpg(self.process.pid, signal.SIGKILL)
        with contextlib.suppress(subprocess.TimeoutExpired):
            self.process.wait(5)
        self.program.pid_file.unlink(missing_ok=True)

    def ending(self) -> str:
        """How it ended, in words: by which signal or with which code."""
        code = self.process.poll()
        if code is None:
            return "is running"
        if code < 0:
            return f"was ended by {signal.Signals(-code).name}"
        return f"ended with code {code}"

    def tail(self, lines: int = 8) -> str:
        """The last lines that it wrote since it was started, never an earlier run's."""
        with contextlib.suppress(OSError), self.program.log.open("rb") as log:
            log.seek(self._log_start if self.program.log.stat().st_size >= self._log_start else 0)
            return "\n".join(log.read().decode(errors="replace").splitlines()[-lines:])
        return ""


def rotate(log: Path) -> None:
    """Set a log aside that has grown too large. Whoever writes to it goes on at its new end."""
    with contextlib.suppress(OSError):
        if log.stat().st_size > MOST_LOG_BYTES:
            shutil.copyfile(log, log.with_suffix(log.suffix + ".1"))
            os.truncate(log, 0)


def end_leftovers(run: Path, mark: str) -> None:
    """End processes of an earlier launcher that died: recorded in `run`, with `mark` in their command line."""
    for pid_file in run.glob("*.pid"):
        with contextlib.suppress(ValueError, OSError):
            pid = int(pid_file.read_text())
            line = Path(f"/proc/{pid}/cmdline").read_bytes().replace(b"\0", b" ").decode(errors="replace")
            environment = Path(f"/proc/{pid}/environ").read_bytes().decode(errors="replace")
            if mark in line or f"PLONKET_DATA={mark}" in environment:
                os.kill(pid, signal.SIGTERM)
                wait_for(lambda pid=pid: not Path(f"/proc/{pid}").exists(), 15)  # type: ignore[misc]
        pid_file.unlink(missing_ok=True)


def wait_for(ready: Callable[[], bool], seconds: float, every: float = 0.05) -> bool:
    """Ask until `ready` or the time is over."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if ready():
            return True
        time.sleep(every)
    return ready()


def port_is_free(port: int) -> bool:
    with socket.socket() as s:
        s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            s.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True


def free_port(preferred: int) -> int:
    """`preferred` or the next free port above it."""
    for port in range(preferred, preferred + 200):
        if port_is_free(port):
            return port
    raise Stop(f"No free port was found from {preferred} on.")
