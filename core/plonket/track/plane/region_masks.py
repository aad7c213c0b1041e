"""Where a plane motion looks in each frame: regions, mattes, and what is to be ignored."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64, U8
from plonket.base.errors import BadInput
from plonket.base.outlines import carry, control_points, fill, flatten
from plonket.media.clip import Clip
from plonket.track.context import MeasureContext
from plonket.track.plane.settings import Region

MATTE_RIM_PX = 3
"""A matte is taken a little wider: what it covers bleeds into its surroundings."""


class HasRegions(Protocol):
    """A motion that looks through regions and a matte."""

    @property
    def regions(self) -> Sequence[Region]: ...
    @property
    def reference_frame(self) -> int: ...
    @property
    def ignore_matte(self) -> str | None: ...
    @property
    def ignored(self) -> Sequence[str]: ...


class RegionMasks:
    """Turns regions and mattes into masks, frame by frame."""

    def __init__(self, motion: HasRegions, clip: Clip, context: MeasureContext) -> None:
        self.motion, self.size = motion, clip.info.size
        self.context = context
        self.uses = [r for r in motion.regions if r.use]
        self.ignores = [r for r in motion.regions if not r.use]
        self.matte: Clip | None = context.matte(motion.ignore_matte) if motion.ignore_matte else None
        if self.matte is not None and self.matte.info.frames < 1:
            raise BadInput("plane.matte", "The matte to ignore has no frames.")
        self._moving_use = any(r.follow != "surface" or len(r.outline.keys) > 1 for r in self.uses)

    def at_reference(self) -> U8:
        """8-bit (h, w): what the reference frame's template is cut from."""
        out = self._union(self.uses, self.motion.reference_frame, np.eye(3))
        out[self.ignored(self.motion.reference_frame, np.eye(3), moving_use=False) > 60] = 0
        return out

    def ignores_anything(self) -> bool:
        return bool(self.ignores) or self.matte is not None or bool(self.motion.ignored) or self._moving_use

    def ignored(self, frame: int, frame_from_reference: F64, *, moving_use: bool = True) -> U8:
        """8-bit (h, w), bright where nothing may be looked at in this frame."""
        out = self._union(self.ignores, frame, frame_from_reference)
        if self.matte is not None:
            grey = self.matte.luma(min(frame, self.matte.info.frames - 1))
            if (grey.shape[1], grey.shape[0]) != self.size:
                grey = np.asarray(cv2.resize(grey, self.size, interpolation=cv2.INTER_LINEAR), np.uint8)
            out = np.maximum(out, _wider(grey)).astype(np.uint8)
        out = np.maximum(out, picked_ones(self.motion.ignored, frame, self.size, self.context)).astype(np.uint8)
        if moving_use and self._moving_use:
            out = np.maximum(out, 255 - self._union(self.uses, frame, frame_from_reference)).astype(np.uint8)
        return out

    def _union(self, regions: list[Region], frame: int, frame_from_reference: F64) -> U8:
        out = np.zeros((self.size[1], self.size[0]), np.uint8)
        for region in regions:
            polygon = self.polygon(region, frame, frame_from_reference)
            out = np.maximum(out, fill(polygon, self.size)).astype(np.uint8)
        return out

    def polygon(self, region: Region, frame: int, frame_from_reference: F64) -> F64:
        """A region's outline in a frame, (m, 2) pixels."""
        flat = flatten(control_points(region.outline, frame))
        if region.follow == "screen":
            return flat
        if region.follow == "surface":
            return carry(flat, frame_from_reference)
        moved = self.context.movement(region.follow.removeprefix("motion:"), self.motion.reference_frame)
        return flat if moved is None else carry(flat, moved[min(frame, len(moved) - 1)])


def picked_ones(mattes: Sequence[str], frame: int, size: tuple[int, int], context: MeasureContext) -> U8:
    """8-bit (h, w), bright where any of those mattes covers a picture of that size, or nearly."""
    out = np.zeros((size[1], size[0]), np.uint8)
    for one in mattes:
        covered = context.picked(one, frame)
        if covered is not None:
            out = np.maximum(out, _wider(covered)).astype(np.uint8)
    return out


def _wider(matte: U8) -> U8:
    side = 2 * MATTE_RIM_PX + 1
    return np.asarray(cv2.dilate(matte, np.ones((side, side), np.uint8)), np.uint8)


def pixels_ignored(motion: HasRegions, clip: Clip, context: MeasureContext) -> Callable[[int], NDArray[np.bool_]] | None:
    """Which pixels (h, w) of a frame nothing may be looked at in, for a motion without a surface; None: it may everywhere."""
    looking = RegionMasks(motion, clip, context)
    if not looking.ignores_anything():
        return None
    return lambda frame: np.asarray(looking.ignored(frame, np.eye(3)) > 60)
