"""Mend: something taken out of the footage, where an outline says so."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import numpy as np
from pydantic import Field

from plonket.conventions import F64, U8
from plonket.fields import Identifier, Model, Name, choice, plain, switch
from plonket.outline import Outline, carry, control_points, fill, flatten
from plonket.plate.view import PlateContext, ViewPath


class Mend(Model):
    """An outline that is filled in every frame.

    Its points are pixels of the clip: of `reference_frame` when it rides on a motion, else of every frame.
    """

    kind: Literal["mend"] = "mend"
    id: Identifier
    name: Name
    shown: bool = switch(True, label="On")
    method: Literal["time", "edges"] = choice(
        "time", label="Filled", group="Mend",
        names={"time": "Borrowed from other frames", "edges": "From its edges"},
        help="Borrow what other frames show there, or go on from what lies round it.")  # fmt: skip
    target: Identifier | None = None
    reference_frame: int = Field(default=0, ge=0)
    outline: Outline
    rim: int = plain(2, label="Wider by", low=0, high=40, step=1, unit="px", group="Mend", whole=True,
                     help="How much further than the outline it is filled.")  # fmt: skip
    reach: float = plain(10, label="Light from", low=2, high=80, step=1, unit="px", group="From its edges",
                         help="Width of the band round the hole whose light is taken.")  # fmt: skip
    grain: bool = switch(True, label="Grain back", group="From its edges", help="Put the surroundings' grain back.")


def mask_of(mend: Mend, frame: int, movement: Callable[[str, int], F64 | None], size: tuple[int, int]) -> U8:
    """8-bit (h, w): what the outline covers in a frame of the clip."""
    polygon = flatten(control_points(mend.outline, frame))
    moved = movement(mend.target, mend.reference_frame) if mend.target else None
    if moved is not None:
        polygon = carry(polygon, np.asarray(moved[min(frame, len(moved) - 1)], np.float64))
    return fill(polygon, size)


def keep_view(settings: Mend, context: PlateContext, view: ViewPath) -> ViewPath:
    """Mending leaves the clip where it lies."""
    return view
