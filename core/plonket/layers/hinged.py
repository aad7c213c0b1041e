"""A picture whose two halves hang on a hinge: wings, a book, a folded card. On a spot of a solved room."""

from __future__ import annotations

from typing import TypeVar

import numpy as np
from pydantic import Field
from scipy.spatial.transform import Rotation

from plonket.base.conventions import F64
from plonket.base.fields import Number, number, switch, value_at
from plonket.document.perch import Perch
from plonket.document.spot import Spot
from plonket.layers.common import PictureLayer
from plonket.layers.placed import PlacedLayer

OVERLAP_PX = 0.5
"""By so much of its own pixels each half goes on beyond the hinge, so that no light comes through between them."""


class HingedLayer(PlacedLayer, PictureLayer):
    """A placed picture that may fold along the upright line through its middle."""

    hinged: bool = switch(False, label="Hinged", group="Hinge",
                          help="Its halves turn about the line between them, as wings or a book do.")  # fmt: skip
    fold: Number = number(30.0, label="Folded", low=-180, high=180, step=0.5, unit="°", group="Hinge", soft=(-90, 90),
                          when={"hinged": (True,)},
                          help="How far each half is turned to its front. Key it to flap.")  # fmt: skip


Hinged = TypeVar("Hinged", bound=HingedLayer)


class FoldedSpot(Spot):
    """The spot of one half of a hinged picture: what is drawn in its pixels lies on that half.

    `side` is 1 for the right half and -1 for the left one, as they are seen from the front.
    """

    layer: HingedLayer = Field(exclude=True)
    side: int

    def stood(self, frame: float, eye: F64, turn: F64) -> tuple[F64, F64, F64]:
        place, right, up = super().stood(frame, eye, turn)
        hinge, _, along = self._laid(frame, place, right, up)
        turned = Rotation.from_rotvec(-self.side * np.radians(value_at(self.layer.fold, frame)) * along)
        return hinge + turned.apply(place - hinge), np.asarray(turned.apply(right)), np.asarray(turned.apply(up))

    def middle(self, frame: float, eye: F64, turn: F64) -> F64:
        _, middle, _ = self._laid(frame, *self.stood(frame, eye, turn))
        return middle

    def _laid(self, frame: float, place: F64, right: F64, up: F64) -> tuple[F64, F64, F64]:
        """Of the picture as it lies in a plane, (3,) in the room: a place on its hinge, the middle of its half, and the unit
        way along the hinge."""
        one = self.layer
        angle, size = np.radians(value_at(one.turn, frame)), value_at(one.size, frame) / 100
        across = np.array([np.cos(angle), np.sin(angle)])
        down = np.array([-across[1], across[0]])
        x, y = (0.5 - value_at(v, frame) / 100 for v in (one.anchor_x, one.anchor_y))
        at = np.array([value_at(one.x, frame), value_at(one.y, frame)])
        at = at + size * (x * one.width * across + y * one.height * down)
        mm = value_at(self.pixel_mm, frame) / 1000
        ways = np.stack([right, -up], axis=1)
        half = at + self.side * size * one.width / 4 * across
        return place + mm * ways @ at, place + mm * ways @ half, -ways @ down


def halves_of(layer: Hinged, perch: Perch) -> tuple[list[Hinged], list[Perch]]:
    """Both halves as layers of their own, the left one first, each on a perch of its own.

    perch : that the layer sits on, a spot of a solved room.
    """
    assert perch.spot is not None
    share = 50 - 100 * OVERLAP_PX / layer.width
    layers, perches = [], []
    for side in (-1, 1):
        spot = FoldedSpot(**dict(perch.spot), layer=layer, side=side)
        own = perch.model_copy(update={"id": f"{layer.id}~{'left' if side < 0 else 'right'}~place", "spot": spot})
        # What is mirrored has its own left on the other side.
        on_left = (side < 0) != (layer.mirror in ("across", "both"))
        edge = "crop_right" if on_left else "crop_left"
        off = getattr(layer, edge)
        layers.append(layer.model_copy(update={
            "id": layer.id if side < 0 else f"{layer.id}~right", "hinged": False,
            edge: max(off, share) if isinstance(off, float | int) else share,
            "follow": layer.follow.model_copy(update={"target": own.id, "perspective": True}),
        }))  # fmt: skip
        perches.append(own)
    return layers, perches
