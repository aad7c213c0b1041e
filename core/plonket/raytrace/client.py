"""The near side of the renderer's process."""

from __future__ import annotations

import atexit
import contextlib
import pickle
import subprocess
import sys
import threading

from plonket.base.conventions import F32
from plonket.base.errors import BadInput, PlonketError
from plonket.raytrace.request import RenderRequest
from plonket.raytrace.worker import read_message, write_message

LONGEST_S = 900.0
"""Far beyond any frame that is meant: whatever hangs must end, for others wait behind it."""


class Renderer:
    """Starts the process when something is to be filmed, and again after it has died. Calls come from threads."""

    def __init__(self, longest_s: float = LONGEST_S) -> None:
        self.longest_s = longest_s
        self._process: subprocess.Popen[bytes] | None = None
        self._lock = threading.Lock()

    def film(self, order: RenderRequest) -> F32:
        """What an order asks for: (h, w, 7), see `FilmSet.film`.

        Raises `PlonketError` when the process dies over it twice, or takes longer than `LONGEST_S`.
        """
        with self._lock:
            for _ in range(2):
                process = self._started()
                assert process.stdin is not None and process.stdout is not None
                # Others wait for their turn: it ends, whatever the process does.
                limit = _Limit(self.longest_s, process)
                try:
                    write_message(process.stdin, order)
                    answer = read_message(process.stdout)
                except (OSError, EOFError, pickle.UnpicklingError):
                    answer = None
                finally:
                    limit.cancel()
                if limit.passed:
                    self.close()
                    raise PlonketError(
                        "scene.slow", f"The 3D renderer did not film this within {self.longest_s / 60:.3g} minutes."
                        " Take fewer samples, or a smaller model.",
                    )  # fmt: skip
                if answer is not None:
                    kind, what = answer
                    if kind == "picture":
                        return what  # type: ignore[no-any-return]
                    if kind == "refused":
                        raise BadInput(*what)
                    raise PlonketError("scene.failed", f"The 3D renderer could not film this: {what}")
                self.close()
        raise PlonketError(
            "scene.crashed", "The 3D renderer stopped twice over this model. Nothing else is harmed; try another one."
        )

    def _started(self) -> subprocess.Popen[bytes]:
        if self._process is None or self._process.poll() is not None:
            self.close()
            self._process = subprocess.Popen(
                [sys.executable, "-m", "plonket.raytrace.worker"], stdin=subprocess.PIPE, stdout=subprocess.PIPE
            )
            atexit.register(self.close)
        return self._process

    def close(self) -> None:
        """End the process."""
        process, self._process = self._process, None
        if process is None:
            return
        if process.poll() is None:
            process.terminate()
            try:
                process.wait(5)
            except subprocess.TimeoutExpired:
                process.kill()
        for pipe in (process.stdin, process.stdout):
            if pipe is not None:
                with contextlib.suppress(OSError):
                    pipe.close()


class _Limit:
    """Kills a process when its time is over."""

    def __init__(self, seconds: float, process: subprocess.Popen[bytes]) -> None:
        self.passed = False
        self._process = process
        self._timer = threading.Timer(seconds, self._kill)
        self._timer.daemon = True
        self._timer.start()

    def _kill(self) -> None:
        self.passed = True
        self._process.kill()

    def cancel(self) -> None:
        self._timer.cancel()
