"""One pool of open media per process."""

from __future__ import annotations

import functools
from pathlib import Path

from plonket.render.media_pool import MediaPool
from plonket.track.movement import Measured
from plonket.track.stored import read_measured
from plonket_server import store
from plonket_server.connections import let_go
from plonket_server.problems import NotHere


def read_measurement(digest: str) -> Measured:
    """A stored measurement by its digest."""
    path = store.measurement_path(digest)
    if not path.exists():
        raise NotHere("measurement")
    return read_measured(path.read_bytes())


@functools.cache
def pool() -> MediaPool:
    from library.assets import readable_path

    def path(digest: str) -> Path:
        try:
            return readable_path(digest)
        finally:
            let_go()

    return MediaPool(path, read_measurement, stored=store.mended_frame, scratch=store.root() / "scratch")
