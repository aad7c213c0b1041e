"""Media and measurements, opened once and kept for the next frame."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from pathlib import Path
from typing import Generic, TypeVar

from plonket.comp.picture import StillSource
from plonket.conventions import F64, U8
from plonket.media.clip import Clip, open_clip
from plonket.motion.following import Follow, point_matrices
from plonket.motion.points.tracks import PointTracks
from plonket.shot import Shot

Key = TypeVar("Key", bound=Hashable)
Value = TypeVar("Value")


class MediaPool:
    """Open clips, stills and measurements by content hash, kept for the next frame.

    Parameters
    ----------
    media_path : content hash -> the file to read. measurement : content hash -> the tracks.
    most_clips, most_stills : how many of each are kept open.
    """

    def __init__(
        self,
        media_path: Callable[[str], Path],
        measurement: Callable[[str], PointTracks],
        *,
        most_clips: int = 4,
        most_stills: int = 24,
    ) -> None:
        self._clips: _Kept[str, Clip] = _Kept(lambda key: open_clip(media_path(key)), most_clips, lambda clip: clip.close())
        self._stills: _Kept[str, StillSource] = _Kept(lambda key: StillSource(open_clip(media_path(key)).rgba(0)), most_stills)
        self._tracks = _Kept(measurement, 32)
        self._matrices: _Kept[tuple[str, int, tuple[str, ...]], F64] = _Kept(self._solve, 64)

    def clip(self, asset: str) -> Clip:
        return self._clips.get(asset)

    def still(self, asset: str) -> StillSource:
        return self._stills.get(asset)

    def tracks(self, digest: str) -> PointTracks:
        return self._tracks.get(digest)

    def matrices(self, digest: str, reference: int, points: tuple[str, ...]) -> F64:
        return self._matrices.get((digest, reference, points))

    def _solve(self, key: tuple[str, int, tuple[str, ...]]) -> F64:
        digest, reference, points = key
        return point_matrices(self.tracks(digest).only(points), reference)

    def close(self) -> None:
        """Close every open clip."""
        self._clips.clear()


class _Kept(Generic[Key, Value]):
    """A small thread-safe cache of things that are costly to make; the least recently used go first."""

    def __init__(
        self, make: Callable[[Key], Value], room: int, drop: Callable[[Value], None] | None = None
    ) -> None:
        self._make, self._room, self._drop = make, room, drop
        self._lock = threading.RLock()
        self._items: OrderedDict[Key, Value] = OrderedDict()

    def get(self, key: Key) -> Value:
        with self._lock:
            if key in self._items:
                self._items.move_to_end(key)
                return self._items[key]
            made = self._make(key)
            self._items[key] = made
            while len(self._items) > self._room:
                _, old = self._items.popitem(last=False)
                if self._drop:
                    self._drop(old)
            return made

    def clear(self) -> None:
        with self._lock:
            for value in self._items.values():
                if self._drop:
                    self._drop(value)
            self._items.clear()


class ShotSources:
    """The `Sources` of one document over a pool."""

    def __init__(self, shot: Shot, pool: MediaPool) -> None:
        self.shot, self.pool = shot, pool

    def plate(self, asset: str, frame: int) -> U8:
        return self.pool.clip(asset).rgb(frame)

    def still(self, asset: str) -> StillSource:
        return self.pool.still(asset)

    def motion_matrices(self, follow: Follow) -> F64 | None:
        if follow.motion is None:
            return None
        motion = self.shot.motion(follow.motion)
        if motion.measurement is None:
            return None
        ids = tuple(p.id for p in motion.points)
        return self.pool.matrices(motion.measurement, follow.reference_frame, ids)
