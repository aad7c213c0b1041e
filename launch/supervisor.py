"""Keeps the parts running: whatever dies is started again, a little later each time it dies anew."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable

from launch.processes import Child, Program, rotate
from launch.say import say

EVERY_S = 0.5
FIRST_DELAY_S, LONGEST_DELAY_S = 0.5, 30.0
CALM_S = 60.0
"""A part that has run for this long starts again at once when it dies."""
ROTATES_S = 60.0


class Part:
    """A program that should always run."""

    def __init__(self, child: Child) -> None:
        self.child = child
        self._delay = FIRST_DELAY_S
        self._due: float | None = None

    def look(self, now: float) -> None:
        """Notice when it has died, say so once, and start it again when its delay is over."""
        if self.child.alive():
            return
        if self._due is None:
            if now - self.child.started > CALM_S:
                self._delay = FIRST_DELAY_S
            self._due = now + self._delay
            said = self.child.tail()
            say(f"{self.child.name} {self.child.ending()}. It starts again in {self._delay:g} s; what was saved is safe.")
            if said:
                say(f"What it said since it was started:\n{said}")
            self._delay = min(2 * self._delay, LONGEST_DELAY_S)
        elif now >= self._due:
            self._due = None
            self.child.stop(0)
            self.child = Child(self.child.program)


class Supervisor:
    """All parts, and helpers that run once."""

    def __init__(self) -> None:
        self._parts: list[Part] = []
        self._helpers: list[tuple[Child, Callable[[Child], None]]] = []

    def keep(self, child: Child) -> None:
        """Keep a child running from now on."""
        self._parts.append(Part(child))

    def once(self, program: Program, ended: Callable[[Child], None] = lambda child: None) -> None:
        """Start something that runs once; `ended` hears of its end."""
        self._helpers.append((Child(program), ended))

    def watch(self, stopping: threading.Event) -> None:
        """Until told to stop."""
        rotates = time.monotonic() + ROTATES_S
        while not stopping.wait(EVERY_S):
            now = time.monotonic()
            for part in self._parts:
                part.look(now)
            for one in [h for h in self._helpers if not h[0].alive()]:
                self._helpers.remove(one)
                one[0].stop(0)
                one[1](one[0])
            if now > rotates:
                rotates = now + ROTATES_S
                for part in self._parts:
                    rotate(part.child.program.log)

    def stop(self) -> None:
        """End everything, the latest first."""
        for child, _ in reversed(self._helpers):
            child.stop()
        for part in reversed(self._parts):
            part.child.stop()
