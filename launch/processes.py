"""Child processes that never outlive the launcher."""

from __future__ import annotations

import contextlib
import ctypes
import os
import signal
import socket
import subprocess
import time
from collections.abc import Callable
from pathlib import Path

from launch.say import Stop

PR_SET_PDEATHSIG = 1


def _die_with_parent() -> None:
    """In the child: be told to end when the launcher dies, even by kill -9; ignore the terminal's Ctrl-C."""
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGTERM)
    os.setpgrp()


class Child:
    """One child process with its log and pid file."""

    def __init__(self, name: str, command: list[str], *, env: dict[str, str], log: Path, pid_file: Path, cwd: Path) -> None:
        self.name, self.pid_file, self.log = name, pid_file, log
        with log.open("ab") as out:
            self.process = subprocess.Popen(
                command, env=env, cwd=cwd, stdin=subprocess.DEVNULL, stdout=out, stderr=subprocess.STDOUT,
                preexec_fn=_die_with_parent,
            )  # fmt: skip
        pid_file.write_text(str(self.process.pid))

    def alive(self) -> bool:
        return self.process.poll() is None

    def stop(self, grace_s: float = 15) -> None:
        """Ask it to end; insist when it does not."""
        if self.alive():
            self.process.terminate()
            try:
                self.process.wait(grace_s)
            except subprocess.TimeoutExpired:
                with contextlib.suppress(ProcessLookupError):
                    os.killpg(self.process.pid, signal.SIGKILL)
                self.process.wait(5)
        self.pid_file.unlink(missing_ok=True)

    def tail(self, lines: int = 8) -> str:
        with contextlib.suppress(OSError):
            return "\n".join(self.log.read_text(errors="replace").splitlines()[-lines:])
        return ""


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
