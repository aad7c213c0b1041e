"""What a creator gives to a plane motion."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from plonket.base.fields import AssetDigest, Identifier, Name, Settings, choice, plain, reference, switch
from plonket.base.outlines import Outline
from plonket.document.bases import FramedMotion
from plonket.track.ignored import Ignored
from plonket.track.path_fields import gaps_choice, smooth_field

Freedom = Literal["translation", "similarity", "affine", "perspective"]
FREEDOMS: tuple[Freedom, ...] = ("translation", "similarity", "affine", "perspective")
"""From the fewest degrees of freedom (2) to the most (8); an index into this stands in results."""

Corner = tuple[float, float]


class Region(Settings):
    """An outline that says where the motion looks (*use*) or must not look (*ignore*).

    Its points are pixels. One that follows the surface is drawn on the reference frame and rides
    on the measured motion; one that stays is drawn on the screen; one that follows another motion
    rides on that one from the reference frame.
    """

    id: Identifier
    name: Name
    use: bool = switch(True, label="Use", help="Look here; off: ignore what is here.")
    follow: Annotated[
        Literal["surface", "screen"] | Annotated[str, Field(pattern=r"^motion:[a-z0-9][a-z0-9_-]{0,63}$")],
        reference("motion", prefix="motion:", says="follows a motion", left="screen"),
    ] = "surface"
    outline: Outline


class PlaneStake(Settings):
    """Corners of the quad put right by hand on a frame; None: that corner is left as measured."""

    frame: int = Field(ge=0)
    corners: tuple[Corner | None, Corner | None, Corner | None, Corner | None]

    @model_validator(mode="after")
    def _something(self) -> PlaneStake:
        if all(c is None for c in self.corners):
            raise ValueError("a stake needs a corner")
        return self


class PlaneMotion(FramedMotion):
    """A flat surface outlined by regions on its reference frame.

    `quad` are the corners of what is to be replaced, clockwise from top left, in pixels of the
    reference frame; they may lie outside the regions and outside the picture.
    """

    MEASURING = frozenset({
        "regions", "ignore_matte", "ignored", "freedom", "detail", "reach_px", "light", "strictness", "grid",
    })  # fmt: skip

    kind: Literal["plane"] = "plane"
    regions: list[Region] = Field(default_factory=list, max_length=60)
    quad: tuple[Corner, Corner, Corner, Corner]
    ignore_matte: AssetDigest | None = Field(default=None, description="A matte clip: white is ignored")
    ignored: Ignored = Field(default_factory=list, max_length=20)
    freedom: Freedom = choice("perspective", label="Surface may", group="How it looks for it",
                              names={"translation": "Shift", "similarity": "Turn and grow", "affine": "Skew",
                                     "perspective": "Perspective"},
                              help="How the surface moves. Fewer ways hold better on little detail.")  # fmt: skip
    detail: float = plain(60, label="Detail used", low=5, high=100, step=5, unit="%", group="How it looks for it",
                          help="How many of the region's pixels are compared, the most telling first.")  # fmt: skip
    reach_px: float = plain(48, label="Reach", low=4, high=400, step=2, unit="px", group="How it looks for it",
                            help="How far the surface may jump from one frame to the next.")  # fmt: skip
    light: bool = switch(True, label="Follow light", group="How it looks for it",
                         help="Allow the light on the surface to change, also from one side to the other.")  # fmt: skip
    strictness: float = plain(70, label="Lost below", low=10, high=95, step=1, unit="%", group="How it looks for it",
                              help="Likeness under which the surface is called lost.")  # fmt: skip
    grid: bool = switch(False, label="Grid", group="Shown", help="Draw a grid on the quad, to judge by eye.")
    gaps: Literal["line", "curve"] = gaps_choice()
    smooth: float = smooth_field()
    stakes: list[PlaneStake] = Field(default_factory=list)

    def emptied(self, frames: int) -> dict[str, Any] | None:
        return (super().emptied(frames) or {}) | {"stakes": []}

    def frames_set(self) -> list[tuple[str, int]]:
        return [(self.name, frame) for frame in (self.reference_frame, *(s.frame for s in self.stakes))]

    @model_validator(mode="after")
    def _consistent(self) -> PlaneMotion:
        frames = [s.frame for s in self.stakes]
        if frames != sorted(set(frames)):
            raise ValueError(f"{self.name}: stakes must be in order of frames, one each")
        ids = [r.id for r in self.regions]
        if len(set(ids)) != len(ids):
            raise ValueError(f"{self.name}: two regions have the same id")
        return self
