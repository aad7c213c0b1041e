"""A plane motion without a shot round it: made from outlines, with a matte that is at hand."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

import numpy as np

from plonket.base.conventions import F64
from plonket.base.errors import BadInput
from plonket.base.outlines import Outline, control_points, flatten, polygon_outline
from plonket.track.plane.settings import Freedom, PlaneMotion, Region

MATTE = "0" * 64


class Drawn(Protocol):
    """An outline read from a file."""

    @property
    def name(self) -> str: ...
    @property
    def use(self) -> bool: ...
    @property
    def outline(self) -> Outline: ...


def plane_motion(
    outlines: Sequence[tuple[F64, bool]], drawn: Sequence[Drawn], size: tuple[int, int], *, frame: int, freedom: Freedom,
    reach_px: float, matte: bool,
) -> PlaneMotion:  # fmt: skip
    """A motion that looks at polygons (n, 2) and at outlines from a file; its quad is the box round what is used.

    Raises `BadInput` when nothing is to be looked at, or it lies outside the picture.
    """
    regions = [
        Region(id=f"r{k + 1}", name=f"Region {k + 1}", use=use, outline=polygon_outline(xy, frame))
        for k, (xy, use) in enumerate(outlines)
    ]
    regions += [
        Region(id=f"d{k + 1}", name=d.name, use=d.use, outline=d.outline) for k, d in enumerate(drawn)
    ]
    used = [flatten(control_points(r.outline, frame)) for r in regions if r.use]
    if not used:
        raise BadInput("plane.region", "No region to look at was given: use --region or --regions.")
    every = np.concatenate(used)
    low, high = every.min(axis=0), every.max(axis=0)
    if (high <= 0).any() or low[0] >= size[0] or low[1] >= size[1]:
        raise BadInput(
            "plane.outside", f"The region lies outside the picture of {size[0]} x {size[1]} pixels."
        )
    (x0, y0), (x1, y1) = low.tolist(), high.tolist()
    return PlaneMotion(
        id="plane", name="Plane", reference_frame=frame, regions=regions, quad=((x0, y0), (x1, y0), (x1, y1), (x0, y1)),
        freedom=freedom, reach_px=reach_px, ignore_matte=MATTE if matte else None,
    )  # fmt: skip
