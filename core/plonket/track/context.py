"""What a measurement may ask about the rest of the shot: mattes, and motions measured before."""

from __future__ import annotations

from typing import Protocol

from plonket.base.conventions import F64
from plonket.media.clip import Clip


class Around(Protocol):
    """Access to what a motion refers to."""

    def matte(self, asset: str) -> Clip:
        """A matte clip by its asset."""
        ...

    def movement(self, motion: str, reference: int) -> F64 | None:
        """(n, 3, 3) from the reference frame to every frame, or None while it is not measured."""
        ...


class Alone:
    """A motion by itself: nothing else is there."""

    def matte(self, asset: str) -> Clip:
        raise KeyError(asset)

    def movement(self, motion: str, reference: int) -> F64 | None:
        return None
