"""What a creator gives to a camera motion."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from plonket.fields import Digest, Identifier, Model, Name, choice, plain, switch
from plonket.motion.camera.room import Room
from plonket.motion.plane.settings import Region

Knows = Literal["unknown", "equivalent", "sensor", "pixels"]


class CameraMotion(Model):
    """The movement of the camera through a set that stands still.

    `set_aside` are details that have no say, by their number; `strong` are point motions whose points do not move
    in the set and count more than details found by themselves.
    """

    kind: Literal["camera"] = "camera"
    id: Identifier
    name: Name
    reference_frame: int = Field(default=0, ge=0)
    first: int | None = Field(default=None, ge=0)
    last: int | None = Field(default=None, ge=0)
    knows: Knows = choice("unknown", label="Known", group="Lens",
                          names={"unknown": "Nothing: find it", "equivalent": "35 mm equivalent",
                                 "sensor": "Sensor and focal length", "pixels": "Focal length in pixels"},
                          help="What is known of the lens. A known one makes a short or straight move safer.")  # fmt: skip
    equivalent_mm: float = plain(26, label="35 mm equivalent", low=8, high=600, step=0.5, unit="mm", group="Lens",
                                 help="As phones state it: the main camera of most is 24 to 28.")  # fmt: skip
    sensor_mm: float = plain(36, label="Sensor width", low=2, high=100, step=0.1, unit="mm", group="Lens")
    focal_mm: float = plain(35, label="Focal length", low=1, high=1000, step=0.5, unit="mm", group="Lens")
    focal_px: float = plain(1000, label="Focal length", low=50, high=100000, step=1, unit="px", group="Lens")
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
    regions: list[Region] = Field(default_factory=list, max_length=60)
    ignore_matte: Digest | None = Field(default=None, description="A matte clip: white is ignored")
    strong: list[Identifier] = Field(default_factory=list, max_length=100)
    set_aside: list[int] = Field(default_factory=list, max_length=20000)
    room: Room = Room()
    measurement: Digest | None = None

    @model_validator(mode="after")
    def _range(self) -> CameraMotion:
        if self.first is not None and self.last is not None and self.last <= self.first:
            raise ValueError(f"{self.name}: the last frame to measure must come after the first")
        return self

    def focal(self, size: tuple[int, int]) -> float | None:
        """The focal length in pixels that is known, or None."""
        if self.knows == "equivalent":
            return self.equivalent_mm / 36.0 * max(size)
        if self.knows == "sensor":
            return self.focal_mm / self.sensor_mm * max(size)
        return self.focal_px if self.knows == "pixels" else None
