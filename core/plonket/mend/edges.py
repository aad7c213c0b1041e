"""Edge fill: each hole filled in every frame from its own surroundings, so that light changes survive."""

from __future__ import annotations

import numpy as np

from plonket.colour import encode, linear_from_8bit
from plonket.conventions import F32, U8
from plonket.mend.grain import Grain, make, measure
from plonket.mend.holes import Hole, holes_of
from plonket.mend.membrane import rim_values, stretch


def fill_edges(rgb: U8, matte: U8, *, frame: int, reach_px: float = 10.0, rim_px: int = 2, grain: bool = True) -> U8:
    """A frame with its holes filled.

    Parameters
    ----------
    rgb : 8-bit (h, w, 3). matte : 8-bit (h, w), white is filled. frame : seeds the grain, so that a frame always
        comes out the same. reach_px : width of the band round a hole whose light is taken.
    rim_px : how much wider than the matte holes are taken. grain : put the surroundings' grain back.
    """
    out = rgb.copy()
    for k, hole in enumerate(holes_of(matte, rim_px=rim_px, margin_px=int(3 * reach_px) + 6)):
        light = linear_from_8bit(np.ascontiguousarray(hole.cut(rgb)))
        smooth = _membrane(light, hole, reach_px)
        rough = measure(np.ascontiguousarray(hole.cut(rgb)), ~hole.barred) if grain else None
        _lay(hole.cut(out), smooth, hole, rough, np.random.default_rng([frame, k]))
    return out


def _membrane(light: F32, hole: Hole, reach_px: float) -> F32:
    """Linear light with the hole filled smoothly; the rest is the averaged surroundings."""
    return stretch(rim_values(light, ~hole.barred, reach_px), hole.barred)


def _lay(window: U8, light: F32, hole: Hole, grain: Grain | None, rng: np.random.Generator) -> None:
    coded = encode(np.clip(light, 0, 1)) * 255
    if grain is not None:
        coded = coded + make(hole.mask.shape, grain, rng)
    window[hole.mask] = np.clip(coded[hole.mask] + 0.5, 0, 255).astype(np.uint8)
