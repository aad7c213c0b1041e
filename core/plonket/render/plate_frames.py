"""The frames of a shot's plate: as filmed, mended, keyed, and between two of the clip's."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property

import numpy as np

from plonket.base.colour import bytes_of, colours_to_8bit, deep_codes
from plonket.base.conventions import F32, U8, Codes
from plonket.document.bases import KeyBase
from plonket.document.hashes import mends_hash
from plonket.document.references import references
from plonket.document.shot import Shot
from plonket.image.interpolation import interpolated, mixed
from plonket.image.pair_flow import PairFlow
from plonket.image.picture import StillSource
from plonket.plate.repair.filled import Filled
from plonket.plate.repair.mended import Mending
from plonket.plate.repair.patches import Patch, mended
from plonket.render.media_pool import MediaPool


class PlateFrames:
    """Pictures of a shot's footage at moments of its clip.

    Parameters
    ----------
    shot : in the shot's time or in the clip's; it has footage if a picture is asked for.
    filmed : the same in the clip's own time, to which mends belong; None: this is it.
    mending : makes what mends the frames, when it is first needed.
    """

    def __init__(self, shot: Shot, pool: MediaPool, filmed: PlateFrames | None, mending: Callable[[], Mending]) -> None:
        self.shot, self.pool = shot, pool
        self.filmed = filmed or self
        self._make_mending = mending

    @cached_property
    def mending(self) -> Mending:
        return self._make_mending()

    @cached_property
    def _patches(self) -> list[Patch]:
        return self.mending.patches() if self.shot.footage else []

    @cached_property
    def _mends_key(self) -> str:
        return mends_hash(self.filmed.shot)

    @cached_property
    def covered(self) -> bool:
        """Whether the footage has a coverage of its own."""
        footage = self.shot.footage
        return footage is not None and self.pool.clip(footage.asset).info.has_alpha

    def codes(self, asset: str, moment: float) -> Codes:
        """The plate's pixels, as coded, (h, w, 3)."""
        low, share = apart(moment)
        if share:
            return self.pool.between((self._mends_key, moment, self._way), lambda: self._made_between(asset, moment))
        if self.filmed is not self:
            return self.filmed.codes(asset, low)
        if not self._patches:
            return self.pool.clip(asset).codes(low)
        mended = self.pool.mended((self._mends_key, low), lambda: self.mend_now(asset, low))
        return _as_deep(mended, self.pool.clip(asset).codes(low))

    def mend_now(self, asset: str, frame: int, told: Filled | None = None) -> U8:
        """A frame mended here and now, whatever is kept of it: 8-bit (h, w, 3)."""
        clip = self.pool.clip(asset)
        return mended(frame, self._patches, clip.rgb, clip.luma, clip.info.frames, told, self.mending.grain,
                      self.mending.behind)  # fmt: skip

    def donor(self, asset: str, frame: int) -> StillSource:
        """A frame of the clip, mended, ready for placing."""
        mends = self.filmed._patches
        return StillSource(self.filmed.codes(asset, frame)) if mends else self.pool.element(asset, frame)

    def keyed(self, moment: float, key: KeyBase | None, level: int = 0) -> StillSource:
        """The plate cut by a key, or by the coverage that the clip has, at the size halved `level` times."""
        low, share = apart(moment)
        if not share:
            return self._keyed_frame(low, key, level)
        # Each frame is keyed as it was filmed, so that what lies between two is made once for a key and for the whole.
        sides = [self._keyed_frame(k, key, level) for k in (low, low + 1)]
        (first, there), (second, _) = (side.level(level) for side in sides)
        return StillSource.of_light(self._between(moment, first, second), (sides[0].width, sides[0].height), there)

    def _keyed_frame(self, frame: int, key: KeyBase | None, level: int) -> StillSource:
        assert self.shot.footage is not None
        asset = self.shot.footage.asset
        if key is None:
            return self._covered_frame(asset, frame)
        wanted = next((one.id for one in references(key) if one.declared.to == "matte"), None)
        matte = None if wanted is None else self.shot.motion(wanted).measurement
        if not self.filmed._patches:
            return self.pool.keyed(asset, frame, key, level, matte=matte)
        return self.pool.keyed(
            asset, frame, key, level, self._mends_key, lambda: self.filmed.codes(asset, frame), matte=matte
        )  # fmt: skip

    def _covered_frame(self, asset: str, frame: int) -> StillSource:
        """A frame with the coverage that the clip has."""
        if not self.filmed._patches:
            return self.pool.element(asset, frame)
        alpha = self.pool.clip(asset).rgba(frame)[..., 3]
        return StillSource(np.dstack([bytes_of(self.filmed.codes(asset, frame)), alpha]))

    def _made_between(self, asset: str, moment: float) -> Codes:
        low, _ = apart(moment)
        sides = [self.filmed.donor(asset, k) for k in (low, low + 1)]
        light = self._between(moment, *(side.level(0)[0] for side in sides))
        is_deep = self.pool.clip(asset).codes(low).dtype != np.uint8
        return deep_codes(light) if is_deep else colours_to_8bit(light)

    def _between(self, moment: float, first: F32, second: F32) -> F32:
        """The footage between two of its frames, of whose pictures, keyed or not, those given show as much: (h, w, 4)."""
        assert self.shot.footage is not None
        asset = self.shot.footage.asset
        low, share = apart(moment)
        if self._way == "mixed":
            return np.ascontiguousarray(mixed(first, second, share)[1:-1, 1:-1])
        before, here, after = (self._flow(asset, k) for k in (low - 1, low, low + 1))
        assert here is not None
        return interpolated(first, second, here, share, before, after)

    def _flow(self, asset: str, frame: int) -> PairFlow | None:
        """The movement from a frame of the clip to the next; None: there is none, or it is another picture altogether."""
        assert self.shot.footage is not None
        if not 0 <= frame < self.shot.footage.frames - 1:
            return None
        first, second = (lambda k=k: bytes_of(self.filmed.codes(asset, k)) for k in (frame, frame + 1))
        return self.pool.flow((self._mends_key, frame), first, second)

    @property
    def _way(self) -> str:
        """How frames between frames are made."""
        time = self.shot.footage.time if self.shot.footage else None
        return "nearest" if time is None else time.between


def _as_deep(mended: U8, filmed: Codes) -> Codes:
    """Mends have 8 bits; where nothing is mended, what was filmed keeps its own."""
    if filmed.dtype == np.uint8:
        return mended
    changed = (bytes_of(filmed) != mended).any(axis=2, keepdims=True)
    return np.where(changed, mended.astype(np.uint16) * np.uint16(257), filmed)


def apart(moment: float) -> tuple[int, float]:
    """The frame of the clip before a moment, and how far on from it that lies."""
    low = int(moment)
    return low, moment - low
