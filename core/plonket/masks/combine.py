"""Several masks as one: with, off and only where both are."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

import numpy as np

from plonket.base.conventions import F32, F64, U8
from plonket.base.fields import value_at
from plonket.document.bases import Mask, MaskBase
from plonket.document.follow import Follow
from plonket.document.kinds import MASKS
from plonket.track.spaces import Spaces


class Mattes(Protocol):
    """What a matte among the motions covers."""

    def __call__(self, motion: str, moment: float, *, shadow: bool = False) -> U8 | None:
        """At a moment of the clip, with the shadow that the thing casts if so asked: 8-bit (h, w) of the clip; None: nothing is
        known of it."""
        ...


Into = Callable[[MaskBase], F64 | None]
"""From a mask's own pixels to the picture's, (3, 3); None: it is not there."""


def no_mattes(motion: str, moment: float, *, shadow: bool = False) -> U8 | None:
    """Where there are no motions."""
    return None


def combined(
    masks: Sequence[Mask], frame: float, size: tuple[int, int], into: Into, mattes: Mattes = no_mattes
) -> F32 | None:
    """Coverage (h, w) of all masks that are on, in their order, on a picture of `size`; None without any.

    A list that begins by taking off or by keeping the common part begins with everything.
    """
    total: F32 | None = None
    for mask in masks:
        # What is kept from a key cuts nothing.
        matrix = into(mask) if mask.shown and mask.mode != "keep" else None
        if matrix is None:
            continue
        part = MASKS.get(mask.kind).run(mask, frame, size, matrix, mattes)
        if mask.inverted:
            part = 1 - part
        part = part * np.float32(np.clip(value_at(mask.strength, frame) / 100, 0, 1))
        if mask.mode == "add":
            total = part if total is None else total + part - total * part
        elif mask.mode == "subtract":
            total = 1 - part if total is None else total * (1 - part)
        else:
            total = part if total is None else total * part
    return None if total is None else np.asarray(total, np.float32)


class Rider(Protocol):
    """Whatever says in whose pixels it is drawn."""

    rides: str
    reference_frame: int

    @property
    def target(self) -> str | None: ...


def space_of(mask: Rider, spaces: Spaces, frame: float, own: F64 | None = None) -> F64 | None:
    """(3, 3) from a mask's pixels to the clip's. `own` is the same for the masked thing's own pixels."""
    if mask.rides == "footage":
        return np.eye(3)
    if mask.rides == "own":
        return own
    return spaces.of(Follow(target=mask.target, reference_frame=mask.reference_frame), frame)
