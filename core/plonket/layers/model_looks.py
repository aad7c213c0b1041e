"""What a creator makes of a model's looks: presets, colours of single materials, and movements that its file describes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

from plonket.base.colour import linear_of
from plonket.base.fields import COLOUR
from plonket.raytrace.request import Coat

Surface = Literal["own", "matte", "glossy", "metal", "glass", "paper", "glow"]
SURFACE_NAMES = {"own": "As in its file", "matte": "Matte", "glossy": "Glossy", "metal": "Metal", "glass": "Clear glass",
                 "paper": "Paper", "glow": "Glows"}  # fmt: skip
MOST_PARTS = 64
COATS: dict[str, Coat] = {
    "own": Coat(),
    "matte": Coat(metal=0.0, rough=0.9, clear=0.0),
    "glossy": Coat(metal=0.0, rough=0.15, clear=0.0),
    "metal": Coat(metal=1.0, rough=0.25, clear=0.0),
    "glass": Coat(metal=0.0, rough=0.05, clear=1.0),
    "paper": Coat(metal=0.0, rough=0.95, clear=0.0, paper=0.6),
    "glow": Coat(glow=1.5),
}
"""What the presets make of a surface. Paper lets a third of the light from behind come through, scattered."""


class PartLook(BaseModel):
    """How one material of a model looks instead of as in its file."""

    model_config = ConfigDict(extra="forbid")

    material: str = Field(max_length=80, description="Its name, see what is known of the model; empty for all of them")
    shown: bool = True
    paint: str | None = Field(default=None, pattern=COLOUR, description="sRGB in place of its colours and pictures")
    surface: Surface = "own"


def coats_of(surface: str, parts: Sequence[PartLook]) -> tuple[tuple[str, Coat], ...]:
    """What takes the place of a model's materials: for all of it first, then for single ones."""
    out = [("", COATS[surface])]
    for part in sorted(parts, key=lambda part: bool(part.material)):
        if part.paint is not None:
            red, green, blue = (float(v) for v in linear_of(part.paint))
            out.append((part.material, Coat(colour=(red, green, blue))))
        coat = COATS[part.surface]
        out.append((part.material, coat if part.shown else Coat(shown=False)))
    return tuple((name, coat) for name, coat in out if coat != Coat())


def seconds_at(when: float, fps: float, begins: float, pace: float, length: float, goes: str) -> float:
    """How many seconds of a movement have gone by at a frame.

    Parameters
    ----------
    begins : frame. pace : times as fast as in the file; less than 0 runs backwards. length : of the movement, in seconds.
    """
    if length <= 0:
        return 0.0
    gone = max(when - begins, 0.0) / fps * abs(pace)
    if goes == "round":
        at = gone % length
    elif goes == "to_and_fro":
        at = length - abs(gone % (2 * length) - length)
    else:
        at = min(gone, length)
    return length - at if pace < 0 else at
