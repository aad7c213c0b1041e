"""What was counted while frames were filled from others, and how that is said."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

NOWHERE = 0.9
"""From this share on that no frame shows, the same place is hidden in all of them."""
NOTED = 0.005
"""Shares below this are not spoken of."""


@dataclass(slots=True)
class Filled:
    """Pixels that were filled; those of them that no frame shows; and those that were found by how the whole picture moves, for
    too little is seen round them."""

    filled: int = 0
    unseen: int = 0
    by_whole: int = 0

    @staticmethod
    def sum(parts: Sequence[Filled]) -> Filled:
        return Filled(*(sum(getattr(p, name) for p in parts) for name in ("filled", "unseen", "by_whole")))

    def count(self, wanted: NDArray[np.bool_], unseen: NDArray[np.bool_], by_whole: NDArray[np.bool_]) -> None:
        """Those of a frame, (h, w) each."""
        self.filled += int(wanted.sum())
        self.unseen += int((unseen & wanted).sum())
        self.by_whole += int((by_whole & wanted).sum())

    @property
    def unseen_share(self) -> float:
        return self.unseen / max(self.filled, 1)

    def says(self) -> str:
        """Which way was used for how much; "" if nothing was filled."""
        if not self.filled:
            return ""
        unseen, whole = self.unseen_share, self.by_whole / self.filled
        if unseen > NOWHERE:
            return (
                f"It hides the same place in all frames: {_share(unseen)} of it is seen in no frame, and was made up from its "
                "edges. A clean frame, or a texture fill, may serve better."
            )
        out = "All of it was borrowed from other frames"
        if unseen > NOTED:
            out = f"{_share(1 - unseen)} of it was borrowed from other frames, {_share(unseen)} is seen in none and was made up"
            out += " from its edges"
        if whole > NOTED:
            out += f"; {_share(whole)} was found by how the whole picture moves, for too little is seen round it"
        return out + "."


def _share(share: float) -> str:
    percent = 100 * share
    return f"{percent:.0f} %" if 10 <= percent <= 99 or percent == 100 else f"{percent:.1f} %"
