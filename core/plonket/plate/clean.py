"""Clean frame: a frame put right once, cut to its masks and carried through the shot."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from plonket.base.fields import AssetDigest, Identifier, Number, Settings, choice, colour, number, plain, reference, switch
from plonket.document.bases import MaskedTreatment
from plonket.document.kinds import TREATMENTS, TreatmentEntry
from plonket.plate.mend import keep_view

Spot = tuple[Annotated[float, Field(ge=-32768, le=32768)], Annotated[float, Field(ge=-32768, le=32768)]]


class Stroke(Settings):
    """One stroke of the paint desk, in pixels of its frame.

    `dx`, `dy` lead from a painted spot to where its picture is taken from (clone and heal).
    """

    tool: Literal["clone", "heal", "paint", "restore", "suggest"]
    path: list[Spot] = Field(min_length=1, max_length=4000)
    size: float = Field(default=40, ge=1, le=2000, description="Diameter")
    hard: float = Field(default=60, ge=0, le=100, description="Share of the brush that is full, in %")
    flow: float = Field(default=100, ge=1, le=100, description="How much it covers, in %")
    dx: float = Field(default=0, ge=-32768, le=32768)
    dy: float = Field(default=0, ge=-32768, le=32768)
    colour: str = colour("#808080", label="Colour")
    seed: int = Field(default=1, ge=0, le=99999)


class CleanFrame(Settings):
    """A frame that was put right: as it is, or as it came back from elsewhere, with strokes over it."""

    frame: int = Field(ge=0)
    picture: AssetDigest | None = Field(default=None, description="The frame as painted elsewhere; none: as filmed")
    suggest: bool = Field(default=False, description="What the masks cover is filled with texture like its surroundings first")
    seed: int = Field(default=1, ge=0, le=99999, description="Another one suggests another fill")
    strokes: list[Stroke] = Field(default_factory=list, max_length=3000)


class Clean(MaskedTreatment):
    """One frame or several, each put right, that take the place of what the masks cover."""

    kind: Literal["clean"] = "clean"
    frames: list[CleanFrame] = Field(min_length=1, max_length=40)
    target: Annotated[Identifier | None, reference("motion", says="rides on a motion")] = None
    opacity: Number = number(100.0, label="Opacity", low=0, high=100, step=1, unit="%", group="Clean frame")
    light: Literal["none", "even", "rim"] = choice(
        "rim", label="Light", group="Clean frame",
        names={"none": "As it was", "even": "Followed, one for all", "rim": "Followed all round"},
        help="Brings it to each frame's light, measured round the masks.")  # fmt: skip
    grain: bool = switch(True, label="Fresh grain", group="Clean frame",
                         help="Takes the frozen grain off and gives each frame its own. Off: as it was filmed.")  # fmt: skip
    shift_x: Number = number(0.0, label="Shift x", low=-4000, high=4000, step=0.05, unit="px", group="Line it up",
                             soft=(-20, 20))  # fmt: skip
    shift_y: Number = number(0.0, label="Shift y", low=-4000, high=4000, step=0.05, unit="px", group="Line it up",
                             soft=(-20, 20))  # fmt: skip
    turn: Number = number(0.0, label="Turn", low=-180, high=180, step=0.05, unit="°", group="Line it up", soft=(-10, 10))
    size: Number = number(100.0, label="Size", low=10, high=1000, step=0.05, unit="%", group="Line it up", soft=(90, 110))
    gain: Number = number(100.0, label="Brightness", low=0, high=800, step=1, unit="%", group="Levels", soft=(50, 150))
    gamma: Number = number(1.0, label="Middle", low=0.1, high=10, step=0.01, group="Levels", soft=(0.5, 2))
    lift: Number = number(0.0, label="Black", low=-100, high=100, step=0.5, unit="%", group="Levels", soft=(-20, 20))
    warm: Number = number(0.0, label="Warmer", low=-100, high=100, step=1, unit="%", group="Levels", soft=(-30, 30))
    fade: float = plain(100, label="Cross-fade", low=0, high=100, step=5, unit="%", group="Clean frame",
                        help="How much of the time between two frames they are faded into each other.")  # fmt: skip

    def emptied(self, frames: int) -> dict[str, Any] | None:
        kept = [one for one in self.frames if one.frame < frames]
        return {"frames": kept} if kept else None

    def frames_set(self) -> list[tuple[str, int]]:
        return [(f"A clean frame of {self.name}", one.frame) for one in self.frames]

    @model_validator(mode="after")
    def _in_order(self) -> Clean:
        frames = [f.frame for f in self.frames]
        if frames != sorted(set(frames)):
            raise ValueError(f"{self.name}: clean frames must be in order, one per frame")
        return self


TREATMENTS.add(TreatmentEntry(
    kind="clean", order=40, label="Clean frame", settings=Clean, run=keep_view, traits=frozenset({"mends", "masked"}),
    help="A frame put right once, cut to its masks and carried through the shot.",
    groups=("Clean frame", "Levels", "Line it up"),
    says={"": "A frame put right once, cut to its masks, carried through the shot in each frame's light."},
))  # fmt: skip
