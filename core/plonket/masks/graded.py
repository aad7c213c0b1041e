"""A mask that fades from one line to another."""

from __future__ import annotations

from typing import Literal

import numpy as np

from plonket.base.conventions import F32, F64
from plonket.base.fields import Number, choice, number, value_at
from plonket.base.registry import Entry
from plonket.document.bases import MaskBase
from plonket.document.kinds import MASKS
from plonket.masks.combine import Mattes, no_mattes


class GradedMask(MaskBase):
    """Full on one side, nothing on the other; in between it fades from one spot to the other."""

    kind: Literal["graded"] = "graded"
    from_x: Number = number(0.0, label="Full at x", low=-32768, high=32768, step=0.1, unit="px", group="Grade")
    from_y: Number = number(0.0, label="Full at y", low=-32768, high=32768, step=0.1, unit="px", group="Grade")
    to_x: Number = number(0.0, label="Gone at x", low=-32768, high=32768, step=0.1, unit="px", group="Grade")
    to_y: Number = number(100.0, label="Gone at y", low=-32768, high=32768, step=0.1, unit="px", group="Grade")
    fade: Literal["smooth", "even"] = choice("smooth", label="Fades", group="Grade",
                                             names={"smooth": "Smoothly", "even": "Evenly"})  # fmt: skip


def cover(mask: GradedMask, frame: float, size: tuple[int, int], matrix: F64, mattes: Mattes = no_mattes) -> F32:
    """Coverage (h, w) of a picture of `size`; `matrix` leads from the mask's pixels to the picture's."""
    start = np.array([value_at(mask.from_x, frame), value_at(mask.from_y, frame)])
    step = np.array([value_at(mask.to_x, frame), value_at(mask.to_y, frame)]) - start
    square = max(float(step @ step), 1e-6)
    back = np.linalg.inv(matrix)
    y, x = np.mgrid[0 : size[1], 0 : size[0]] + 0.5
    d = back[2, 0] * x + back[2, 1] * y + back[2, 2]
    u = (back[0, 0] * x + back[0, 1] * y + back[0, 2]) / d - start[0]
    v = (back[1, 0] * x + back[1, 1] * y + back[1, 2]) / d - start[1]
    t = np.clip(1 - (u * step[0] + v * step[1]) / square, 0, 1)
    if mask.fade == "smooth":
        t = t * t * (3 - 2 * t)
    return np.asarray(t, np.float32)


MASKS.add(Entry(
    kind="graded", order=20, label="Graded", settings=GradedMask, run=cover, help="Fades from one line to another.",
    groups=("Edge", "Grade", "Mask"), handles="grade",
))  # fmt: skip
