"""Keyed pictures, worked out once and kept for the next frame."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Hashable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Protocol

import numpy as np

from plonket.base.colour import bytes_of, linear_from_codes
from plonket.base.conventions import F32, U8, Codes
from plonket.base.lru_cache import Budget, LruCache
from plonket.document.bases import KeyBase
from plonket.document.kinds import KEYS
from plonket.image.picture import StillSource, halved
from plonket.keying.chroma import restored
from plonket.keying.common import KeyContext, scaled
from plonket.media.clip import Clip
from plonket.render.mask_files import MaskFiles

MOST_HALVED = 2
"""A key is worked out at a quarter of the size at the least: below that hair is gone."""
MOST_SOLVED = 3
"""So many frames whose cloth is told already are kept for what is still to be changed about their spill."""


class Clips(Protocol):
    """What is keyed."""

    def clip(self, asset: str) -> Clip: ...

    def length(self, asset: str) -> int: ...

    def picked(self, digest: str, frame: int) -> U8 | None: ...


@dataclass(frozen=True, slots=True, kw_only=True)
class _Begun:
    """A frame's light at the size it is keyed at, the whole picture's size, and what the key told of it."""

    light: F32
    size: tuple[int, int]
    solved: Any

    @property
    def nbytes(self) -> int:
        return self.light.nbytes * 3


class Keyer:
    """Frames of clips and stills, keyed; `scratch` is a folder for what keys learn of whole clips, None: there is none."""

    def __init__(self, clips: Clips, budget: Budget, scratch: Path | None) -> None:
        self._clips, self._scratch = clips, scratch
        self._keyed: LruCache[tuple[str, int, str, int], StillSource] = LruCache(_no_maker, 10, budget=budget)
        self._begun: LruCache[tuple[str, int, str, int], _Begun] = LruCache(_no_maker, MOST_SOLVED, budget=budget)
        self._contexts: LruCache[tuple[str, str, str], KeyContext] = LruCache(_no_maker, 16)

    def keyed(
        self, asset: str, frame: int, key: KeyBase, level: int, mends: str = "", rgb: Callable[[], Codes] | None = None,
        matte: str | None = None,
    ) -> StillSource:
        """One frame keyed at the size halved `level` times; see `MediaPool.keyed`."""
        at = min(level, MOST_HALVED)
        entry = KEYS.of(key)
        whose = asset + mends + (matte or "")

        def make() -> StillSource:
            own = scaled(key, 0.5**at) if at else key
            cover = None if matte is None else self._clips.picked(matte, frame)
            context = replace(self.context(asset, key), frame=frame, matte=cover)

            def begun() -> _Begun:
                light, size = self._light(asset, key, at, rgb() if rgb else self._clips.clip(asset).codes(frame))
                return _Begun(light=light, size=size, solved=entry.solve(light, own, context) if entry.solve else None)

            if entry.finish:
                first = self._begun.get((whose, frame, key.model_dump_json(exclude=set(entry.finish_by)), at), begun)
                rgba = entry.finish(first.light, first.solved, own)
            else:
                first = begun()
                rgba = entry.run(first.light, own, context)
            if self._clips.clip(asset).info.has_alpha:
                rgba = rgba * self._own_coverage(asset, frame, at)
            return StillSource.of_light(rgba, first.size, at)

        return self._keyed.get((whose, frame, key.model_dump_json(), at), make)

    def context(self, asset: str, key: KeyBase) -> KeyContext:
        """What a key knows of a whole clip: found once, so that it does not change from frame to frame."""
        entry = KEYS.of(key)
        if entry.learn is None:
            return KeyContext()
        given = key.model_dump_json(include=set(entry.learns_from))
        learn = entry.learn
        return self._contexts.get((asset, key.kind, given), lambda: learn(key, _Element(self._clips, asset, self._scratch)))

    def _light(self, asset: str, key: KeyBase, level: int, rgb: Codes) -> tuple[F32, tuple[int, int]]:
        """Linear light (h, w, 3) at the size halved `level` times, and the whole size."""
        # Halved, a picture is as fine in colour as in brightness anyway.
        if level == 0 and KEYS.of(key).restores(key) and self._clips.length(asset) > 1:
            rgb = restored(bytes_of(rgb))
        light = linear_from_codes(rgb)
        size = (light.shape[1], light.shape[0])
        for _ in range(level):
            light = halved(light)
        return light, size

    def _own_coverage(self, asset: str, frame: int, level: int) -> F32:
        """(h, w, 1) what a clip lets be seen of itself, at the size halved `level` times."""
        cover = self._clips.clip(asset).rgba(frame)[..., 3:].astype(np.float32) / np.float32(255)
        for _ in range(level):
            cover = halved(cover)[..., None]
        return cover


def _no_maker(key: Hashable) -> Any:
    raise KeyError(key)


class _Element:
    """What a key may ask for of the element it keys."""

    def __init__(self, clips: Clips, asset: str, scratch: Path | None) -> None:
        self._clips, self._asset, self._scratch = clips, asset, scratch
        self.frames = clips.clip(asset).info.frames

    def rgb(self, frame: int) -> U8:
        return np.ascontiguousarray(self._clips.clip(self._asset).rgba(frame)[..., :3])

    def still(self, asset: str) -> U8:
        return np.ascontiguousarray(self._clips.clip(asset).rgba(0)[..., :3])

    def kept(self, what: str, text: str) -> MaskFiles | None:
        digest = hashlib.sha256((self._asset + text).encode()).hexdigest()[:24]
        return None if self._scratch is None else MaskFiles(self._scratch / what / digest)
