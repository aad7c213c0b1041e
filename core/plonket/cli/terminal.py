"""What commands share: ranges, progress on a terminal, and how they end."""

from __future__ import annotations

import argparse
import sys
import time
from collections.abc import Callable

from plonket.base.errors import BadInput, PlonketError
from plonket.base.progress import Work


def run_command(options: argparse.Namespace) -> int:
    """Run what a command's parser has chosen, ``options.run``; returns the exit code."""
    try:
        run: Callable[[argparse.Namespace], None] = options.run
        run(options)
    except PlonketError as error:
        print(f"plonket: {error.message}", file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        print("plonket: stopped.", file=sys.stderr)
        return 130
    except OSError as error:
        print(f"plonket: {error.strerror or error}: {error.filename or ''}".rstrip(": "), file=sys.stderr)
        return 1
    return 0


def parse_range(text: str | None, frames: int) -> tuple[int, int]:
    """``A:B`` to (A, B); either may be left out."""
    if text is None:
        return 0, frames
    a, colon, b = text.partition(":")
    try:
        if not colon:
            raise ValueError
        start, stop = int(a or 0), int(b or frames)
    except ValueError:
        raise BadInput("cli.range", f"{text!r} is not a range. Write A:B such as 10:50.") from None
    if not 0 <= start < stop <= frames:
        raise BadInput("cli.range", f"The range {text} does not lie within 0:{frames}.")
    return start, stop


def terminal_work(what: str) -> Work:
    """Progress on stderr: a line that is rewritten on a terminal, now and then a line otherwise."""
    state = {"shown": 0.0, "start": time.monotonic()}

    def show(done: int, total: int) -> None:
        now = time.monotonic()
        if now - state["shown"] < (0.1 if sys.stderr.isatty() else 5) and done < total:
            return
        state["shown"] = now
        left = (now - state["start"]) / max(done, 1) * (total - done)
        end = "\r" if sys.stderr.isatty() and done < total else "\n"
        print(f"{what} {done}/{total}, {left:.0f} s left ", end=end, file=sys.stderr, flush=True)

    return Work(on_progress=show)
