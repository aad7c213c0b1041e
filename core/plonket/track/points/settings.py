"""What a creator gives to a point motion."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from plonket.base.fields import UNSEEN, Identifier, Name, Settings, choice, plain, switch
from plonket.document.bases import MotionBase
from plonket.track.ignored import Ignored
from plonket.track.path_fields import gaps_choice, smooth_field

Channel = Literal["luma", "red", "green", "blue"]
PatternChange = Literal["shift", "similar", "affine", "perspective"]
Direction = Literal["forward", "backward", "both", "gap"]


class Given(Settings):
    """A point put right by hand: frame and pixel."""

    frame: int = Field(ge=0)
    x: float
    y: float


class TrackPoint(Settings):
    """One named point: what it looks like and where it was put by hand.

    The earliest given frame is the reference unless `reference` names another; the others are stakes.
    """

    id: Identifier
    name: Name
    pattern_px: Annotated[float, UNSEEN] = plain(23, label="Pattern", low=7, high=201, step=1, unit="px", group="Point",
                              help="Size of the detail that is followed (the solid ring).")  # fmt: skip
    reach_px: Annotated[float, UNSEEN] = plain(40, label="Reach", low=4, high=400, step=1, unit="px", group="Point",
                            help="How far from the expected place it is looked for (the dashed ring).")  # fmt: skip
    given: Annotated[list[Given], UNSEEN] = Field(min_length=1)

    @model_validator(mode="after")
    def _ordered(self) -> TrackPoint:
        frames = [g.frame for g in self.given]
        if frames != sorted(set(frames)):
            raise ValueError(f"{self.name}: frames given by hand must be in order, one each")
        return self


class PointMotion(MotionBase):
    """A motion made of one or more points."""

    MEASURING = frozenset({"channel", "change", "adapt", "strictness", "ignored"})

    kind: Literal["points"] = "points"
    points: list[TrackPoint] = Field(default_factory=list, max_length=500)
    ignored: Ignored = Field(default_factory=list, max_length=20)
    channel: Channel = choice("luma", label="Looks at", group="How it looks for it",
                              names={"luma": "Brightness", "red": "Red", "green": "Green", "blue": "Blue"},
                              help="Pick the colour in which the detail stands out most.")  # fmt: skip
    change: PatternChange = choice("similar", label="Pattern may", group="How it looks for it",
                                   names={"shift": "Only shift", "similar": "Turn and grow", "affine": "Also skew",
                                          "perspective": "Perspective"},
                                   help="How the detail may change while it is still the same.")  # fmt: skip
    adapt: bool = switch(True, label="Adapt pattern", group="How it looks for it",
                         help="Take a fresh pattern when the detail has changed too much for the first one.")  # fmt: skip
    strictness: float = plain(70, label="Lost below", low=30, high=98, step=1, unit="%", group="How it looks for it",
                              help="Likeness under which the point is called lost.")  # fmt: skip
    gives: Literal["similar", "perspective"] = choice(
        "similar", label="Gives", group="Path", names={"similar": "Shift, turn, size", "perspective": "Perspective"},
        help="What several points make together: two give turn and size; perspective needs four.")  # fmt: skip
    gaps: Literal["line", "curve"] = gaps_choice()
    smooth: float = smooth_field()

    @property
    def home(self) -> int:
        """The frame on which its first point was put first."""
        return self.points[0].given[0].frame if self.points else 0

    def emptied(self, frames: int) -> dict[str, Any] | None:
        return {"measurement": None, "points": []}

    def frames_set(self) -> list[tuple[str, int]]:
        return [(p.name, g.frame) for p in self.points for g in p.given]
