"""What rendering reads: media and measurements by their ids."""

from __future__ import annotations

from typing import Protocol

from plonket.comp.picture import StillSource
from plonket.conventions import F64, U8
from plonket.motion.following import Follow


class Sources(Protocol):
    """Access to what a document refers to. Implementations cache; calls may come from threads."""

    def plate(self, asset: str, frame: int) -> U8:
        """The conformed clip's frame, 8-bit sRGB-coded (h, w, 3)."""
        ...

    def still(self, asset: str) -> StillSource: ...

    def motion_matrices(self, follow: Follow) -> F64 | None:
        """(n, 3, 3) matrices from the follow's reference frame to every frame; None: follows nothing."""
        ...
