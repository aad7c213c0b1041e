"""A perch: a named place that follows a motion, for things to sit on."""

from __future__ import annotations

from plonket.base.fields import Number, number
from plonket.document.bases import Named
from plonket.document.follow import Follow
from plonket.document.spot import Spot


class Perch(Named):
    """A place with a turn and a size of its own. Perches may sit on perches.

    One that follows a camera motion may be a spot in the room; its place is then pixels from there.
    """

    follow: Follow = Follow()
    spot: Spot | None = None
    x: Number = number(0.0, label="Place x", low=-32768, high=32768, step=0.1, unit="px", group="Place")
    y: Number = number(0.0, label="Place y", low=-32768, high=32768, step=0.1, unit="px", group="Place")
    turn: Number = number(0.0, label="Turn", low=-3600, high=3600, step=0.1, unit="°", group="Place", soft=(-180, 180))
    size: Number = number(100.0, label="Size", low=0.1, high=5000, step=0.1, unit="%", group="Place", soft=(1, 300))
