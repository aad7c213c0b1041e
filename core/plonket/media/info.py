"""What is known about a clip."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from fractions import Fraction
from typing import Any, Literal

Kind = Literal["video", "folder", "still"]

LARGEST_SIDE = 16384
SMALLEST_SIDE = 16


@dataclass(frozen=True, slots=True, kw_only=True)
class ClipInfo:
    """Facts about a clip, seen upright and at one constant rate.

    Attributes
    ----------
    kind : a video file, a folder of numbered pictures, or one still.
    width, height : upright size in pixels.
    rate : frames per second of the conformed clip; 1 for a still.
    frames : number of frames at that rate.
    rotation : degrees the stored picture is turned clockwise to stand upright: 0, 90, 180 or 270.
    has_alpha, has_audio : whether there is transparency, whether there is sound.
    bit_depth : bits per channel as stored. transfer : "sdr", "pq" or "hlg".
    variable : whether the stored frame times are uneven.
    codec : short name of the stored coding, such as "h264".
    taken : when it was filmed, ISO 8601 with its zone where the file tells that; empty where it tells nothing.
    equivalent_mm : focal length as the 35 mm equivalent, where the file tells it.
    gyroscope : whether the camera's turning was recorded beside the picture.
    missing : frames of numbered pictures that are not there; the one before each stands for it.
    """

    kind: Kind
    width: int
    height: int
    rate: Fraction
    frames: int
    rotation: int = 0
    has_alpha: bool = False
    has_audio: bool = False
    bit_depth: int = 8
    transfer: Literal["sdr", "pq", "hlg"] = "sdr"
    variable: bool = False
    codec: str = ""
    taken: str = ""
    equivalent_mm: float | None = None
    gyroscope: bool = False
    missing: tuple[int, ...] = ()

    @property
    def size(self) -> tuple[int, int]:
        return self.width, self.height

    @property
    def seconds(self) -> Fraction:
        return self.frames / self.rate

    def to_json(self) -> dict[str, Any]:
        """A JSON-serialisable record; the rate is a string such as ``"30000/1001"``."""
        record = asdict(self)
        rate = record.pop("rate")
        record["fps"] = f"{rate.numerator}/{rate.denominator}"
        record["seconds"] = float(self.seconds)
        return record
