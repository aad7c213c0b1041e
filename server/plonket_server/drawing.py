"""Pictures are drawn in a process of their own: a crash in compiled code costs the picture that was drawn, and nothing else.

The near side is `Drawer`, in the web process; the far side is the command ``draw``. Orders and answers are pickles over pipes.
"""

from __future__ import annotations

import contextlib
import functools
import hashlib
import logging
import os
import pickle
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from concurrent.futures import Future
from typing import Any, TypeVar

from django.conf import settings
from django.db import connection

from plonket.base.errors import PlonketError
from plonket.raytrace.worker import read_message, write_message

Result = TypeVar("Result")
DIED = "died"
BLAMED_S = 30.0
"""For so long a picture that ended the process is refused at once."""
MOST_BLAMED = 200


log = logging.getLogger(__name__)


class ProcessDied(Exception):
    """The process ended while it had an order."""


class _Run:
    """One life of the process, and who waits for its answers."""

    def __init__(self, command: list[str], env: dict[str, str], cwd: str) -> None:
        self.process = subprocess.Popen(command, env=env, cwd=cwd, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
        self._lock = threading.Lock()
        self._number = 0
        self._waiting: dict[int, Future[tuple[str, Any]]] | None = {}
        threading.Thread(target=self._listen, daemon=True).start()

    def alive(self) -> bool:
        return self._waiting is not None and self.process.poll() is None

    def ask(self, function: Callable[..., Any], args: tuple[Any, ...]) -> tuple[str, Any]:
        """The kind of answer and the answer. Raises `ProcessDied`."""
        answer: Future[tuple[str, Any]] = Future()
        with self._lock:
            if self._waiting is None:
                raise ProcessDied
            self._number += 1
            self._waiting[self._number] = answer
            assert self.process.stdin is not None
            # Its end is noticed by whoever listens.
            with contextlib.suppress(OSError):
                write_message(self.process.stdin, (self._number, function, args))
        kind, what = answer.result()
        if kind == DIED:
            raise ProcessDied
        return kind, what

    def end(self) -> None:
        """End the process."""
        self.process.terminate()
        with contextlib.suppress(subprocess.TimeoutExpired):
            self.process.wait(5)
        self.process.kill()
        self.process.wait()

    def _listen(self) -> None:
        """Pass answers on to those who wait; at the end of the process tell all of them."""
        assert self.process.stdout is not None and self.process.stdin is not None
        with contextlib.suppress(OSError, EOFError, pickle.UnpicklingError):
            while (message := read_message(self.process.stdout)) is not None:
                number, kind, what = message
                with self._lock:
                    waits = self._waiting.pop(number, None) if self._waiting else None
                if waits is not None:
                    waits.set_result((kind, what))
        self.process.kill()
        self.process.wait()
        with self._lock:
            lost, self._waiting = self._waiting or {}, None
            for pipe in (self.process.stdin, self.process.stdout):
                with contextlib.suppress(OSError):
                    pipe.close()
        for one in lost.values():
            one.set_result((DIED, None))


class Drawer:
    """Sends orders from many threads to one process, which is started when it is needed and again when it has died."""

    def __init__(self, command: list[str], env: dict[str, str], cwd: str) -> None:
        self._start: Callable[[], _Run] = lambda: _Run(command, env, cwd)
        self._lock = threading.Lock()
        self._run: _Run | None = None
        self._turns = _Turns()
        self._blamed: dict[bytes, float] = {}

    def call(self, function: Callable[..., Result], *args: Any) -> Result:
        """What a function of a module's top level gives for these arguments, over there.

        When the process dies, everyone who waited for it asks once more, one at a time: only the one over which it dies
        again is refused. Raises what the function raised, if that was a `PlonketError`.
        """
        blame = hashlib.sha256(pickle.dumps((function, args))).digest()
        if time.monotonic() - self._blamed.get(blame, -BLAMED_S) < BLAMED_S:
            raise _crashed()
        try:
            with self._turns.shared():
                return self._ask(function, args)
        except ProcessDied:
            log.warning("The drawing process ended; what it had in hand is drawn again one by one")
        try:
            with self._turns.alone():
                return self._ask(function, args)
        except ProcessDied:
            while len(self._blamed) >= MOST_BLAMED:
                self._blamed.pop(next(iter(self._blamed)), None)
            self._blamed[blame] = time.monotonic()
            raise _crashed() from None

    def start(self) -> int:
        """Start the process ahead of the first order; returns its id."""
        return self._running().process.pid

    def close(self) -> None:
        """End the process."""
        with self._lock:
            run, self._run = self._run, None
        if run is not None:
            run.end()

    def _ask(self, function: Callable[..., Result], args: tuple[Any, ...]) -> Result:
        kind, what = self._running().ask(function, args)
        if kind == "done":
            return what  # type: ignore[no-any-return]
        if kind == "refused":
            raise what
        raise PlonketError("drawing.failed", "Something went wrong while this picture was drawn. Try again.")

    def _running(self) -> _Run:
        with self._lock:
            if self._run is None or not self._run.alive():
                self._run = self._start()
            return self._run


class _Turns:
    """Many at once, or one alone."""

    def __init__(self) -> None:
        self._changed = threading.Condition()
        self._running = 0
        self._alone = 0

    @contextlib.contextmanager
    def shared(self) -> Any:
        with self._changed:
            self._changed.wait_for(lambda: self._alone == 0)
            self._running += 1
        try:
            yield
        finally:
            with self._changed:
                self._running -= 1
                self._changed.notify_all()

    @contextlib.contextmanager
    def alone(self) -> Any:
        with self._changed:
            # New ones wait from now on; those that run come to their end.
            self._alone += 1
            self._changed.wait_for(lambda: self._running == 0)
            self._running += 1
        try:
            yield
        finally:
            with self._changed:
                self._running -= 1
                self._alone -= 1
                self._changed.notify_all()


def _crashed() -> PlonketError:
    return PlonketError(
        "drawing.crashed",
        "This picture cannot be drawn: the renderer stopped over it twice. Nothing else is harmed. Undo the last change, or"
        " try other values.",
    )


@functools.cache
def drawer() -> Drawer:
    """The drawing process of this one."""
    env = dict(os.environ, PLONKET_DB_NAME=str(connection.settings_dict["NAME"]), PLONKET_STORE=str(settings.STORE))
    env.pop("PLONKET_TESTING", None)
    return Drawer([sys.executable, "manage.py", "draw"], env, str(settings.ROOT / "server"))


def draw(function: Callable[..., Result], *args: Any) -> Result:
    """Call a function that draws: in the drawing process, or right here where there is none (in tests)."""
    return drawer().call(function, *args) if settings.DRAWS_APART else function(*args)
