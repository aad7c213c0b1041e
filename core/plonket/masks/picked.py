"""A mask by the matte of a thing that was picked."""

from __future__ import annotations

from typing import Annotated, Literal

import cv2
import numpy as np
from pydantic import model_validator

from plonket.base.conventions import F32, F64
from plonket.base.fields import PART_GOES, Identifier, Number, number, reference, switch, value_at
from plonket.base.registry import Entry
from plonket.document.bases import MaskBase
from plonket.document.kinds import MASKS
from plonket.masks.combine import Mattes, no_mattes
from plonket.matting.matte_shape import moved_edge, without_holes


class PickedMask(MaskBase):
    """What a picked thing covers, frame by frame; in the clip's own pixels."""

    kind: Literal["picked"] = "picked"
    motion: Annotated[Identifier, reference("matte", says="uses a matte", left=PART_GOES)]
    grow: Number = number(0.0, label="Wider by", low=-200, high=200, step=0.5, unit="px", group="Edge", soft=(-20, 40),
                          help="Moves the whole edge out, or in when negative.")  # fmt: skip
    soft: Number = number(0.0, label="Soft", low=0, high=400, step=0.5, unit="px", group="Edge", soft=(0, 40),
                          help="Width over which the edge fades, besides its own.")  # fmt: skip
    holes: Number = number(0.0, label="Holes shut", low=0, high=400, step=1, unit="px", group="Edge", soft=(0, 60),
                           help="Shuts holes in it that are no wider.")  # fmt: skip

    shadow: bool = switch(False, label="Its shadow too", group="Edge",
                          help="With the shadow that it casts, told by what it darkens as it goes.")  # fmt: skip

    @model_validator(mode="after")
    def _where_filmed(self) -> PickedMask:
        if self.rides != "footage":
            raise ValueError(f"{self.name}: what was picked lies where it was filmed")
        return self


def cover(mask: PickedMask, frame: float, size: tuple[int, int], matrix: F64, mattes: Mattes = no_mattes) -> F32:
    """Coverage (h, w) of a picture of `size`; `matrix` leads from the clip's pixels to the picture's."""
    found = mattes(mask.motion, frame, shadow=mask.shadow)
    if found is None:
        return np.zeros((size[1], size[0]), np.float32)
    alpha = found.astype(np.float32) / np.float32(255)
    holes, grow, soft = (value_at(one, frame) for one in (mask.holes, mask.grow, mask.soft))
    if holes >= 1:
        alpha = without_holes(alpha, holes)
    if grow:
        alpha = moved_edge(alpha, -grow)
    if soft > 0:
        alpha = np.asarray(cv2.GaussianBlur(alpha, (0, 0), soft / 3), np.float32)
    if size == (alpha.shape[1], alpha.shape[0]) and np.allclose(matrix, np.eye(3), atol=1e-9):
        return alpha
    # Pixel centres lie at halves.
    half, back = np.array([[1, 0, 0.5], [0, 1, 0.5], [0, 0, 1]]), np.array([[1, 0, -0.5], [0, 1, -0.5], [0, 0, 1]])
    lies = back @ matrix @ half
    shrinks = float(np.sqrt(abs(np.linalg.det(matrix[:2, :2] / matrix[2, 2]))))
    if shrinks < 0.75:
        alpha = np.asarray(cv2.GaussianBlur(alpha, (0, 0), 0.4 / max(shrinks, 0.02)), np.float32)
    return np.asarray(cv2.warpPerspective(alpha, lies, size, flags=cv2.INTER_LINEAR), np.float32)


MASKS.add(Entry(
    kind="picked", order=30, label="Picked thing", settings=PickedMask, run=cover,
    help="What a matte among the motions covers, frame by frame.", groups=("Edge", "Mask"),
))  # fmt: skip
