"""Filmed pictures kept on disk, so that what was waited for once is there for playing and delivering."""

from __future__ import annotations

import os
import threading
from pathlib import Path

import numpy as np

from plonket.base.conventions import F32
from plonket.base.kept_files import give_up_oldest

ROOM_BYTES = 3 * 1024**3
"""What all pictures together may take; the least recently used go first."""


class FilmStore:
    """Pictures (h, w, c) by the hash of what was asked for. Half floats: far finer than any screen shows.

    Several processes may share the folder; whole files only are ever seen. Whatever cannot be read is filmed again.
    """

    def __init__(self, folder: Path, room_bytes: int = ROOM_BYTES) -> None:
        self._folder, self._room = folder, room_bytes
        self._written = 0

    def has(self, digest: str) -> bool:
        return self._file(digest).exists()

    def load(self, digest: str) -> F32 | None:
        path = self._file(digest)
        try:
            with np.load(path, allow_pickle=False) as stored:
                picture = stored["picture"].astype(np.float32)
            os.utime(path)
        except (OSError, ValueError, KeyError, EOFError):
            return None
        return picture

    def save(self, digest: str, picture: F32) -> None:
        """Keep a picture; a full disk keeps nothing and stops nothing."""
        path = self._file(digest)
        part = path.with_name(f"{digest}.{os.getpid()}.{threading.get_ident()}.part.npz")
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            with part.open("wb") as out:
                np.savez_compressed(out, picture=np.clip(picture, -60000, 60000).astype(np.float16))
            part.replace(path)
            self._written += path.stat().st_size
        except OSError:
            part.unlink(missing_ok=True)
            return
        if self._written > self._room // 20:
            self._written = 0
            give_up_oldest(self._folder, "*/*.npz", self._room)

    def _file(self, digest: str) -> Path:
        return self._folder / digest[:2] / f"{digest}.npz"
