"""What a creator gives to a camera motion."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from plonket.base.fields import GOES, Identifier, MeasurementDigest, Number, number, plain, reference, switch
from plonket.track.room_motion import LookingMotion

BY_HAND = ("aside", "up", "ahead", "pan", "tilt", "roll", "zoom_by", "smoothed", "smooth_over")
"""What puts a solved camera right by hand: numbers that may be keyed on the clip's frames, and how long is smoothed over."""


class CameraMotion(LookingMotion):
    """The movement of the camera through a set that stands still.

    `set_aside` are details that have no say, by their number; `strong` are point motions whose points do not move
    in the set and count more than details found by themselves. `solved` is the solve where `measurement` is that put right
    by hand.
    """

    MEASURING = LookingMotion.MEASURING | {
        "first", "last", "zoom", "distortion", "rolling", "count", "spacing", "strength", "strong", "set_aside", "solved",
        *BY_HAND,
    }  # fmt: skip

    kind: Literal["camera"] = "camera"
    first: int | None = Field(default=None, ge=0)
    last: int | None = Field(default=None, ge=0)
    zoom: bool = switch(False, label="It zooms", group="Lens", help="The focal length changes through the clip.")
    distortion: bool = switch(True, label="Bent lines", group="Lens",
                              help="Estimate how the lens bends straight lines, when the clip tells.")  # fmt: skip
    rolling: bool = switch(True, label="Rolling shutter", group="Lens",
                           help="Estimate how long the sensor is read, when the clip tells.")  # fmt: skip
    count: float = plain(400, label="Details", low=60, high=2000, step=20, group="Details",
                         help="How many details are followed at a time.")  # fmt: skip
    spacing: float = plain(1.25, label="Apart", low=0.4, high=8, step=0.05, unit="%", group="Details",
                           help="Least distance between two details, as a share of the picture's longer side.")  # fmt: skip
    strength: float = plain(1.5, label="Strength", low=0.2, high=12, step=0.1, group="Details",
                            help="How clear a detail must be. Lower it where the set is plain or dark.")  # fmt: skip
    strong: Annotated[list[Identifier], reference("points", says="counts on a point motion", left=GOES)] = Field(
        default_factory=list, max_length=100
    )
    set_aside: list[int] = Field(default_factory=list, max_length=20000)
    solved: MeasurementDigest | None = None
    aside: Number = number(0.0, label="Aside", low=-1000, high=1000, step=0.001, unit="m", group="By hand",
                           soft=(-0.2, 0.2), help="Steps to the camera's right.")  # fmt: skip
    up: Number = number(0.0, label="Up", low=-1000, high=1000, step=0.001, unit="m", group="By hand", soft=(-0.2, 0.2))
    ahead: Number = number(0.0, label="Ahead", low=-1000, high=1000, step=0.001, unit="m", group="By hand", soft=(-0.2, 0.2))
    pan: Number = number(0.0, label="Pan", low=-180, high=180, step=0.01, unit="°", group="By hand", soft=(-3, 3),
                         help="Turns to the right.")  # fmt: skip
    tilt: Number = number(0.0, label="Tilt", low=-90, high=90, step=0.01, unit="°", group="By hand", soft=(-3, 3),
                          help="Turns up.")  # fmt: skip
    roll: Number = number(0.0, label="Roll", low=-180, high=180, step=0.01, unit="°", group="By hand", soft=(-3, 3),
                          help="Leans as the clock goes.")  # fmt: skip
    zoom_by: Number = number(0.0, label="Longer lens", low=-90, high=1000, step=0.01, unit="%", group="By hand",
                             soft=(-5, 5), help="Its focal length, over what was solved.")  # fmt: skip
    smoothed: Number = number(0.0, label="Smoothed", low=0, high=100, step=1, unit="%", group="By hand",
                              help="How much of the path's short swings is left out. Keyed, only of a part.")  # fmt: skip
    smooth_over: float = plain(0.4, label="Over", low=0.05, high=10, step=0.05, unit="s", group="By hand", soft=(0.1, 2),
                               help="Swings shorter than that are short.")  # fmt: skip

    def emptied(self, frames: int) -> dict[str, Any] | None:
        return (super().emptied(frames) or {}) | {"set_aside": [], "first": None, "last": None, "solved": None}

    @property
    def untouched(self) -> str | None:
        return self.solved or self.measurement

    def measured_as(self, digest: str) -> dict[str, Any]:
        return {"measurement": digest, "solved": None}

    def frames_set(self) -> list[tuple[str, int]]:
        return [(self.name, frame) for frame in (self.reference_frame, self.first, self.last) if frame is not None]

    @model_validator(mode="after")
    def _range(self) -> CameraMotion:
        if self.first is not None and self.last is not None and self.last <= self.first:
            raise ValueError(f"{self.name}: the last frame to measure must come after the first")
        return self
