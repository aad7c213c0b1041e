"""What is followed, from which frame, and which parts of its movement: one setting for everything that follows."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from plonket.base.fields import Identifier, Settings, plain, reference, switch


class Follow(Settings):
    """What is followed, from which frame, and which parts of the movement.

    `target` is a motion or a perch. Places of what follows a motion are pixels of the reference
    frame; places of what sits on a perch are pixels from the perch.
    """

    target: Annotated[Identifier | None, reference("place", says="follows something", leads=True)] = None
    reference_frame: int = Field(default=0, ge=0)
    shift: bool = switch(True, label="Shift", group="Follow", help="Go where it goes.")
    turn: bool = switch(True, label="Turn", group="Follow", help="Turn as it turns.")
    size: bool = switch(True, label="Size", group="Follow", help="Grow as it grows.")
    perspective: bool = switch(False, label="Perspective", group="Follow",
                               help="Tilt with the surface, as if painted on it. Takes turn and size with it.")  # fmt: skip
    hidden: bool = switch(True, label="Hidden by the set", group="Follow",
                          help="Where depth is measured: goes behind what the footage shows before it.")  # fmt: skip
    inverted: bool = switch(False, label="Inverted", group="Follow", help="Move the opposite way.")
    smooth: float = plain(0, label="Smoothed", low=0, high=120, step=1, unit="fr", group="Follow",
                          help="Leave small shakes out: follow a path averaged over so many frames.")  # fmt: skip
