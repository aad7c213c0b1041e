"""A colour or a gradient over the whole picture."""

from __future__ import annotations

from typing import Literal

import numba
import numpy as np

from plonket.base.colour import linear_of
from plonket.base.conventions import F32, F64, FAST
from plonket.base.fields import Number, choice, colour, number, value_at
from plonket.document.bases import LayerBase
from plonket.document.follow import Follow
from plonket.document.kinds import LAYERS, LayerEntry
from plonket.image.picture import Picture
from plonket.layers.common import faded
from plonket.layers.sources import Sources


class FillLayer(LayerBase):
    """A colour, or one that changes into another from spot to spot. Masks limit it."""

    kind: Literal["fill"] = "fill"
    course: Literal["even", "straight", "round"] = choice(
        "even", label="Course", group="Colour",
        names={"even": "One colour", "straight": "From line to line", "round": "From a middle outwards"})  # fmt: skip
    first: str = colour("#20242c", label="Colour", group="Colour")
    cover: Number = number(100.0, label="Covers", low=0, high=100, step=1, unit="%", group="Colour")
    other: str = colour("#c9d6e2", label="Into", group="Colour", help="What it changes into; not used with one colour.")
    other_cover: Number = number(100.0, label="Covers there", low=0, high=100, step=1, unit="%", group="Colour")
    follow: Follow = Follow()
    from_x: Number = number(0.0, label="From x", low=-32768, high=32768, step=0.1, unit="px", group="Ends")
    from_y: Number = number(0.0, label="From y", low=-32768, high=32768, step=0.1, unit="px", group="Ends")
    to_x: Number = number(0.0, label="To x", low=-32768, high=32768, step=0.1, unit="px", group="Ends")
    to_y: Number = number(400.0, label="To y", low=-32768, high=32768, step=0.1, unit="px", group="Ends")


def draw(layer: FillLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """The whole picture filled; colours change evenly in linear light."""
    first = _coloured(layer.first, value_at(layer.cover, frame))
    if layer.course == "even":
        rgba = np.empty((size[1], size[0], 4), np.float32)
        rgba[:] = first
        return faded(Picture(rgba=rgba), layer, frame)
    last = _coloured(layer.other, value_at(layer.other_cover, frame))
    ends = np.array([[value_at(layer.from_x, frame), value_at(layer.from_y, frame)],
                     [value_at(layer.to_x, frame), value_at(layer.to_y, frame)]])  # fmt: skip
    back = np.linalg.inv(view @ sources.spaces.of(layer.follow, frame))
    rgba = np.empty((size[1], size[0], 4), np.float32)
    _graded(rgba, back, ends, layer.course == "round", first, last)
    return faded(Picture(rgba=rgba), layer, frame)


def _coloured(code: str, cover: float) -> F32:
    share = float(np.clip(cover / 100, 0, 1))
    return np.append(linear_of(code) * share, share).astype(np.float32)


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _graded(out: F32, back: F64, ends: F64, round_: bool, first: F32, last: F32) -> None:
    dx, dy = ends[1, 0] - ends[0, 0], ends[1, 1] - ends[0, 1]
    square = max(dx * dx + dy * dy, 1e-6)
    for j in numba.prange(out.shape[0]):
        for i in range(out.shape[1]):
            x, y = i + 0.5, j + 0.5
            d = back[2, 0] * x + back[2, 1] * y + back[2, 2]
            u = (back[0, 0] * x + back[0, 1] * y + back[0, 2]) / d - ends[0, 0]
            v = (back[1, 0] * x + back[1, 1] * y + back[1, 2]) / d - ends[0, 1]
            t = np.sqrt((u * u + v * v) / square) if round_ else (u * dx + v * dy) / square
            t = min(max(t, 0.0), 1.0)
            t = t * t * (3 - 2 * t)
            for c in range(4):
                out[j, i, c] = first[c] + (last[c] - first[c]) * t


LAYERS.add(LayerEntry(
    kind="fill", order=90, label="Colour", settings=FillLayer, run=draw,
    help="One colour or a gradient over the whole picture.",
    traits=frozenset(), handles="ends",
    groups=("Colour", ("Ends", {"course": ("straight", "round")}), "Mix"),
    card={"": "Gradient", "course=even": "Colour"},
    says={"": "A gradient", "course=even": "One colour over everything"},
))  # fmt: skip
