"""How far away everything in a frame is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from plonket.base.conventions import F32

UNSURE = 0.34
"""Share of the frames that agree under which a place is not sure."""


@dataclass(frozen=True, slots=True)
class FrameDepth:
    """What is known of a frame: z-depth (h, w) along the camera's axis, 0 where unknown; and how sure it is (h, w), 0 to 1, the
    share of the frames looked at that agree."""

    depth: F32
    sure: F32

    def scaled(self, by: float) -> FrameDepth:
        """The same in other units."""
        return FrameDepth(self.depth * np.float32(by), self.sure)
