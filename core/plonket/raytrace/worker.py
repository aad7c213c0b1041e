"""The renderer's process: orders come in, pictures go out, over pipes. A crash in native code ends only this process."""

from __future__ import annotations

import os
import pickle
import struct
import sys
from typing import IO, Any

from plonket.base.errors import PlonketError


def read_message(pipe: IO[bytes]) -> Any:
    """One message, or None at the end."""
    head = pipe.read(8)
    if len(head) < 8:
        return None
    return pickle.loads(pipe.read(struct.unpack("<Q", head)[0]))


def write_message(pipe: IO[bytes], message: Any) -> None:
    data = pickle.dumps(message, protocol=pickle.HIGHEST_PROTOCOL)
    pipe.write(struct.pack("<Q", len(data)) + data)
    pipe.flush()


def main() -> None:
    # What libraries print must not get among the messages.
    pipe_out = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)
    studio: Any = None
    while (order := read_message(sys.stdin.buffer)) is not None:
        try:
            if studio is None:
                from plonket.raytrace.tracer import FilmSet

                studio = FilmSet()
            write_message(pipe_out, ("picture", studio.film(order)))
        except PlonketError as error:
            write_message(pipe_out, ("refused", (error.code, error.message)))
        except Exception as error:
            write_message(pipe_out, ("failed", f"{type(error).__name__}: {error}"))


if __name__ == "__main__":
    main()
