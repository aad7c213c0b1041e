"""What motions share that solve a room: what is known of the lens, and where the room lies."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field

from plonket.base.fields import AssetDigest, choice, plain
from plonket.document.bases import FramedMotion
from plonket.room.alignment import Room
from plonket.track.ignored import Ignored
from plonket.track.plane.settings import Region

Knows = Literal["unknown", "equivalent", "sensor", "pixels"]
Moves = Literal["object", "camera"]


class RoomMotion(FramedMotion):
    """A motion whose measurement is a camera's path through a room."""

    MEASURING = frozenset({"knows", "equivalent_mm", "sensor_mm", "focal_mm", "focal_px"})

    knows: Knows = choice("unknown", label="Known", group="Lens",
                          names={"unknown": "Nothing: find it", "equivalent": "35 mm equivalent",
                                 "sensor": "Sensor and focal length", "pixels": "Focal length in pixels"},
                          help="What is known of the lens. A known one makes a short or straight move safer.")  # fmt: skip
    equivalent_mm: float = plain(26, label="35 mm equivalent", low=8, high=600, step=0.5, unit="mm", group="Lens",
                                 when={"knows": ("equivalent",)},
                                 help="As phones state it: the main camera of most is 24 to 28.")  # fmt: skip
    sensor_mm: float = plain(36, label="Sensor width", low=2, high=100, step=0.1, unit="mm", group="Lens",
                             when={"knows": ("sensor",)})  # fmt: skip
    focal_mm: float = plain(35, label="Focal length", low=1, high=1000, step=0.5, unit="mm", group="Lens",
                            when={"knows": ("sensor",)})  # fmt: skip
    focal_px: float = plain(1000, label="Focal length", low=50, high=100000, step=1, unit="px", group="Lens",
                            when={"knows": ("pixels",)})  # fmt: skip
    room: Room = Room()

    def emptied(self, frames: int) -> dict[str, Any] | None:
        return (super().emptied(frames) or {}) | {"room": Room()}

    def focal(self, size: tuple[int, int]) -> float | None:
        """The focal length in pixels that is known, or None."""
        if self.knows == "equivalent":
            return self.equivalent_mm / 36.0 * max(size)
        if self.knows == "sensor":
            return self.focal_mm / self.sensor_mm * max(size)
        return self.focal_px if self.knows == "pixels" else None

    @property
    def before_still_camera(self) -> bool:
        """Whether it is the thing that moves, not the camera: light then stays where the camera is."""
        return getattr(self, "moves", "camera") == "object"


class LookingMotion(RoomMotion):
    """One that looks at the picture by itself, and may be told where not to look."""

    MEASURING = RoomMotion.MEASURING | {"regions", "ignore_matte", "ignored"}

    regions: list[Region] = Field(default_factory=list, max_length=60)
    ignore_matte: AssetDigest | None = Field(default=None, description="A matte clip: white is ignored")
    ignored: Ignored = Field(default_factory=list, max_length=20)


def moves_choice() -> Moves:
    """Whose movement it is."""
    return choice(
        "object", label="It is", group="Movement",
        names={"object": "The thing's own", "camera": "The camera's"},
        help="Of a thing before a still camera, or of the camera round a still thing. Light stays with the set.")  # type: ignore[no-any-return]  # fmt: skip
