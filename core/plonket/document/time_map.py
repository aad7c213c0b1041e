"""The shot's time and the clip's: which moment of the clip each frame of the shot shows."""

from __future__ import annotations

import math
from typing import Literal

from pydantic import model_validator

from plonket.base.fields import Key, Keyed, Number, Settings, Wobbling, choice, number, value_at
from plonket.base.registry import Entry
from plonket.document.kinds import FOOTAGE

MOST_FRAMES = 100_000
"""Frames of a shot, however slowly its clip runs."""


class TimeMap(Settings):
    """How the footage runs: a number over the shot's frames says which of the clip's it shows, between two of them too.

    The last of its keys is the shot's last frame. A key that *holds*, with the next one a frame later, is a cut.
    """

    kind: Literal["time"] = "time"
    moment: Number = number(
        0.0, label="Shows the clip's frame", low=0, high=1_000_000, step=0.01, unit="fr", group="Time",
        help="How steeply it rises is how fast the footage runs; where it falls it runs backwards.")  # fmt: skip
    between: Literal["moved", "mixed", "nearest"] = choice(
        "moved", label="Shown", group="Between frames",
        names={"moved": "Made by movement", "mixed": "Two frames mixed", "nearest": "The nearest frame"},
        help="What is shown where the clip has no frame of its own.")  # fmt: skip

    @model_validator(mode="after")
    def _not_endless(self) -> TimeMap:
        if self.length > MOST_FRAMES:
            raise ValueError(f"the shot would be {self.length} frames long; {MOST_FRAMES} is the most")
        return self

    @property
    def keys(self) -> list[Key]:
        """The keys of the moment; none of a clip that stands still."""
        base = self.moment.base if isinstance(self.moment, Wobbling) else self.moment
        return base.keys if isinstance(base, Keyed) else []

    @property
    def length(self) -> int:
        """Frames of the shot."""
        return self.keys[-1].frame + 1 if self.keys else 1

    def at(self, frame: float) -> float:
        """The clip's moment, in its frames, that a moment of the shot shows.

        The instants of an exposure stay on their own frame's side of a cut.
        """
        whole = math.floor(frame)
        part = frame - whole
        if part and self.is_cut(whole):
            near, other = (whole, whole - 1) if part < 0.5 else (whole + 1, whole + 2)
            here = value_at(self.moment, near)
            return here + (here - value_at(self.moment, other)) * (frame - near) / (near - other)
        return value_at(self.moment, frame)

    def is_cut(self, frame: int) -> bool:
        """Whether the clip jumps after a frame of the shot."""
        return frame in {a.frame for a, b in zip(self.keys, self.keys[1:], strict=False)
                         if a.ease == "hold" and b.frame == a.frame + 1}  # fmt: skip


FOOTAGE.add(Entry(kind="time", label="Time", settings=TimeMap, run=TimeMap, groups=("Time", "Between frames"),
                  help="How the footage runs."))  # fmt: skip
