"""What was counted while frames were filled from others, and how that is said."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from plonket.plate.repair.borrow import Mended

NOWHERE = 0.9
"""From this share on that no frame shows, the same place is hidden in all of them."""
DEEPER = " Measure the depth of the footage, and what lies behind at several distances is borrowed by that."
COUNTED = ("filled", "unseen", "by_whole", "by_depth")
NOTED = 0.005
"""Shares below this are not spoken of."""


@dataclass(slots=True)
class Filled:
    """Pixels that were filled; those of them that no frame shows; and those that were found by how the whole picture moves, for
    too little is seen round them; and those by the clip's measured depth."""

    filled: int = 0
    unseen: int = 0
    by_whole: int = 0
    by_depth: int = 0

    @staticmethod
    def sum(parts: Sequence[Filled]) -> Filled:
        return Filled(*(sum(getattr(p, name) for p in parts) for name in COUNTED))

    def count(self, wanted: NDArray[np.bool_], made: Mended) -> None:
        """Those of a frame that were wanted (h, w)."""
        self.filled += int(wanted.sum())
        self.unseen += int((made.unseen & wanted).sum())
        self.by_whole += int((made.by_whole & wanted).sum())
        self.by_depth += int((made.by_depth & wanted).sum())

    @property
    def unseen_share(self) -> float:
        return self.unseen / max(self.filled, 1)

    def says(self, *, deeper: bool = False) -> str:
        """Which way was used for how much; "" if nothing was filled. `deeper` : depth could be measured, to tell more."""
        if not self.filled:
            return ""
        more = DEEPER if deeper else ""
        unseen, whole, depth = self.unseen_share, self.by_whole / self.filled, self.by_depth / self.filled
        if unseen > NOWHERE:
            return (
                f"It hides the same place in all frames: {_share(unseen)} of it is seen in no frame, and was made up from its "
                f"edges. A clean frame, or a texture fill, may serve better.{more}"
            )
        out = "All of it was borrowed from other frames"
        if unseen > NOTED:
            out = f"{_share(1 - unseen)} of it was borrowed from other frames, {_share(unseen)} is seen in none and was made up"
            out += " from its edges"
        if depth > NOTED:
            out += f"; {_share(depth)} by the measured depth of the footage"
        if whole > NOTED:
            out += f"; {_share(whole)} was found by how the whole picture moves, for too little is seen round it"
        return out + "." + more


def _share(share: float) -> str:
    percent = 100 * share
    return f"{percent:.0f} %" if 10 <= percent <= 99 or percent == 100 else f"{percent:.1f} %"
