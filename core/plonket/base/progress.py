"""The context of long work: progress, partial results and Stop."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from plonket.base.errors import Cancelled


class Work:
    """Passed to long computations; the default does nothing and never stops.

    Parameters
    ----------
    on_progress : called with (done, total).
    is_cancelled : asked between frames.
    on_partial : called with partial results as they come; their type is the computation's own.
    """

    def __init__(
        self,
        on_progress: Callable[[int, int], None] | None = None,
        is_cancelled: Callable[[], bool] | None = None,
        on_partial: Callable[[Any], None] | None = None,
    ) -> None:
        self._progress = on_progress
        self._cancelled = is_cancelled
        self._partial = on_partial

    def progress(self, done: int, total: int) -> None:
        if self._progress:
            self._progress(done, total)

    def partial(self, result: Any) -> None:
        if self._partial:
            self._partial(result)

    def check_cancelled(self) -> None:
        """Raise `Cancelled` when the creator has stopped the work."""
        if self._cancelled and self._cancelled():
            raise Cancelled()
