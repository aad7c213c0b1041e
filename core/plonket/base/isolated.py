"""One call in a process of its own, with limits of time and memory: for files that nobody has looked at yet."""

from __future__ import annotations

import pickle
import resource
import subprocess
import sys
from collections.abc import Callable
from typing import Any, TypeVar

from plonket.base.errors import FormatError, PlonketError

Result = TypeVar("Result")


def call_apart(
    function: Callable[..., Result], *args: Any, seconds: float, most_bytes: int, what: str
) -> Result:
    """What a module's function gives for these arguments.

    Parameters
    ----------
    function : of a module's top level. args, and what it gives : anything that can be pickled.
    seconds, most_bytes : it may take so much processor time and memory. what : is named when that is not enough.

    Raises
    ------
    PlonketError
        What it raised itself, or `FormatError` where it went beyond a limit or died.
    """
    order = pickle.dumps((function, args))
    command = [sys.executable, "-m", "plonket.base.isolated", str(int(seconds)), str(most_bytes)]
    try:
        done = subprocess.run(command, input=order, stdout=subprocess.PIPE, timeout=3 * seconds + 20)
    except subprocess.TimeoutExpired as error:
        raise _too_much(what) from error
    if not done.stdout:
        raise _too_much(what)
    good, answer = pickle.loads(done.stdout)
    if good:
        return answer  # type: ignore[no-any-return]
    raise answer


def _too_much(what: str) -> FormatError:
    return FormatError("apart.limit", f"{what} took too long or too much memory. Reduce it first.")


def main() -> None:
    """The far side: limits first, then the call; the answer goes to standard output, whatever libraries print."""
    seconds, most_bytes = int(sys.argv[1]), int(sys.argv[2])
    function, args = pickle.load(sys.stdin.buffer)
    resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds + 1))
    resource.setrlimit(resource.RLIMIT_AS, (most_bytes, most_bytes))
    out, sys.stdout = sys.stdout.buffer, sys.stderr
    try:
        answer: tuple[bool, Any] = (True, function(*args))
    except PlonketError as error:
        answer = (False, error)
    except MemoryError:
        return
    out.write(pickle.dumps(answer))
    out.flush()


if __name__ == "__main__":
    main()
