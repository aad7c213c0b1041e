"""What a creator gives to a matte that is picked."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field

from plonket.base.fields import Settings, choice, plain
from plonket.document.bases import MotionBase

Coordinate = Annotated[float, Field(ge=-32768, le=32768)]
"""Pixels of the clip."""


class PickClick(Settings):
    """A place of the clip's picture that is, or is not, what is meant."""

    frame: int = Field(ge=0)
    x: Coordinate
    y: Coordinate
    subject: bool = True


class PickBox(Settings):
    """A loose box round what is meant, in the clip's pixels."""

    frame: int = Field(ge=0)
    x0: Coordinate
    y0: Coordinate
    x1: Coordinate
    y1: Coordinate


class MatteMotion(MotionBase):
    """The matte of a thing that was clicked on, or boxed, on one frame or more: what it covers in every frame."""

    MEASURING: ClassVar[frozenset[str]] = frozenset({"clicks", "boxes", "edge", "band"})

    kind: Literal["matte"] = "matte"
    clicks: list[PickClick] = Field(default_factory=list, max_length=400)
    boxes: list[PickBox] = Field(default_factory=list, max_length=50)
    edge: Literal["soft", "hard"] = choice("soft", label="Its edge is", group="Edge", names={"soft": "Soft", "hard": "Hard"},
                                           help="Soft: hair and blur told by their colours. Hard: the bare cut.")  # fmt: skip
    band: float = plain(4, label="Edge band", low=1, high=80, step=0.5, unit="px", group="Edge", when={"edge": ("soft",)},
                        help="How far to both sides of the cut soft edges and hair are looked for.")  # fmt: skip

    @property
    def home(self) -> int:
        frames = self.staked()
        return frames[0] if frames else 0

    def staked(self) -> list[int]:
        """The frames on which something says what is meant, in order."""
        return sorted({c.frame for c in self.clicks if c.subject} | {b.frame for b in self.boxes})

    def frames_set(self) -> list[tuple[str, int]]:
        return [(self.name, frame) for frame in sorted({c.frame for c in self.clicks} | {b.frame for b in self.boxes})]

    def emptied(self, frames: int) -> dict[str, Any] | None:
        return {"measurement": None, "clicks": [], "boxes": []}
