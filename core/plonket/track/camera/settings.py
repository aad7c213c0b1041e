"""What a creator gives to a camera motion."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from plonket.base.fields import GOES, Identifier, plain, reference, switch
from plonket.track.room_motion import LookingMotion


class CameraMotion(LookingMotion):
    """The movement of the camera through a set that stands still.

    `set_aside` are details that have no say, by their number; `strong` are point motions whose points do not move
    in the set and count more than details found by themselves.
    """

    MEASURING = LookingMotion.MEASURING | {
        "first", "last", "zoom", "distortion", "rolling", "count", "spacing", "strength", "strong", "set_aside",
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

    def emptied(self, frames: int) -> dict[str, Any] | None:
        return (super().emptied(frames) or {}) | {"set_aside": [], "first": None, "last": None}

    def frames_set(self) -> list[tuple[str, int]]:
        return [(self.name, frame) for frame in (self.reference_frame, self.first, self.last) if frame is not None]

    @model_validator(mode="after")
    def _range(self) -> CameraMotion:
        if self.first is not None and self.last is not None and self.last <= self.first:
            raise ValueError(f"{self.name}: the last frame to measure must come after the first")
        return self
