"""Files that are made again when they are gone: written whole, and the oldest given up for room."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

YOUNG_S = 3600.0
"""What was used within so many seconds may be in use still."""


@contextmanager
def written_aside(path: Path) -> Iterator[Path]:
    """A path beside another, which is moved there whole; two that write one file at once do no harm. Raises `OSError`."""
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_name(f"{path.name}.{threading.get_ident()}.{os.getpid()}.part")
    try:
        yield part
        part.replace(path)
    except BaseException:
        part.unlink(missing_ok=True)
        raise


def give_up_oldest(folder: Path, pattern: str, most_bytes: int, young_s: float = 0.0) -> None:
    """Remove the least recently used files of a folder until the rest takes no more than that; none that is `young_s` old or
    younger."""
    found = []
    for path in folder.glob(pattern):
        try:
            about = path.stat()
        except OSError:
            continue
        found.append((about.st_mtime, about.st_size, path))
    total = sum(size for _, size, _ in found)
    for used, size, path in sorted(found):
        if total <= most_bytes or time.time() - used < young_s:
            return
        path.unlink(missing_ok=True)
        total -= size
