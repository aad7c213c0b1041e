"""What every kind of mask has."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from plonket.base.fields import Identifier, Model, Name, Number, Rides, choice, colour, number, switch

Mode = Literal["add", "subtract", "intersect", "keep"]
PURPLES = ("#b48ad8", "#6fb3b8", "#e0a74e", "#d98880", "#8fb573", "#7f9fd4")
"""Colours that masks are given in turn, so that several can be told apart."""


class MaskModel(Model):
    """A mask's name and colour, how it goes with those before it, and what it rides on.

    `rides` says in which pixels it is drawn: of the *footage*; of the finished *screen*; of the masked
    layer's *own* picture; or ``to:ID``, of a motion's reference frame or from a perch.
    """

    id: Identifier
    name: Name
    shown: bool = switch(True, label="On")
    colour: str = colour(PURPLES[0], label="Colour", group="Mask", help="How it is drawn over the picture.")
    mode: Mode = choice("add", label="Goes", group="Mask",
                        names={"add": "With those above", "subtract": "Off those above", "intersect": "Only where both are",
                               "keep": "Kept from the key"},
                        help="How it goes with the masks above it in the list.")  # fmt: skip
    inverted: bool = switch(False, label="Inverted", group="Mask", help="Everything but what it shows.")
    strength: Number = number(100.0, label="Strength", low=0, high=100, step=1, unit="%", group="Mask")
    rides: Rides = "footage"
    reference_frame: int = Field(default=0, ge=0)

    @property
    def target(self) -> str | None:
        """The motion or perch that it rides on."""
        return self.rides.removeprefix("to:") if self.rides.startswith("to:") else None
