"""What a 3D model in a room is set to."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from plonket.base.fields import AssetDigest, Identifier, Number, choice, colour, number, plain, reference, switch
from plonket.layers.model_looks import MOST_PARTS, SURFACE_NAMES, PartLook, Surface
from plonket.layers.standing import StandingLayer

MOST_COPIES = 64
LIGHT = ("sun", "sun_heading", "sun_height", "sun_soft", "sun_warm", "sun_colour", "sky", "sky_colour", "lit_like")
"""What a model takes over from the one that it was lit like."""


class MeshLayer(StandingLayer):
    """A model on a perch that is a spot in a room: the perch says where it stands, the layer how it looks.

    `extent` is the model's width, height and depth in its file's unit; `pivot` the place on it, from its bottom's middle and in
    that unit, that stands on the spot and about which it turns and grows. `lit_like` is a model whose sun and sky it has.
    """

    kind: Literal["model"] = "model"
    asset: AssetDigest
    extent: tuple[float, float, float]
    pivot: tuple[float, float, float] = (0.0, 0.0, 0.0)
    tall: Number = number(0.2, label="Height", low=0.0001, high=10000, step=0.001, unit="m", group="Model", soft=(0.01, 3),
                          help="How tall it stands in the room.")  # fmt: skip
    surface: Surface = choice("own", label="Surface", group="Model", names=SURFACE_NAMES)
    parts: list[PartLook] = Field(default_factory=list, max_length=MOST_PARTS,
                                  description="Materials that look otherwise than in its file")  # fmt: skip
    moving: bool = Field(default=False, description="Whether it goes through a movement of its file")
    clip: int = Field(default=0, ge=0, le=999, description="Which of its movements")
    clip_seconds: float = Field(default=0.0, ge=0, le=86400, description="How long that takes in its file")
    moves_from: int = plain(0, label="Begins", low=-100000, high=1000000, step=1, unit="frame", group="Movement", whole=True)
    pace: float = plain(100, label="Speed", low=-1000, high=1000, step=1, unit="%", group="Movement", soft=(0, 200),
                        help="Of the speed in its file; less than nought runs backwards.")  # fmt: skip
    goes: Literal["once", "round", "to_and_fro"] = choice(
        "round", label="Goes", group="Movement",
        names={"once": "Once", "round": "Again and again", "to_and_fro": "To and fro"})  # fmt: skip
    quality: Literal["quick", "good", "best"] = choice(
        "good", label="Quality", group="Model", names={"quick": "Quick", "good": "Good", "best": "Best"},
        help="Light paths a pixel. Views at half size are always quick.")  # fmt: skip
    shutter: float = plain(0, label="Motion blur", low=0, high=360, step=5, unit="°", group="Model",
                           help="Shutter angle: 180° is half a frame long. 0 is off.")  # fmt: skip
    lit_like: Annotated[Identifier | None, reference("layer", checked=False, takes=LIGHT)] = Field(
        default=None, description="A model in the room whose sun and sky it has"
    )
    sun: Number = number(100.0, label="Sun", low=0, high=2000, step=1, unit="%", group="Light", soft=(0, 300))
    sun_heading: Number = number(-40.0, label="From", low=-3600, high=3600, step=1, unit="°", group="Light",
                                 soft=(-180, 180),
                                 help="Where the light comes from, about the upright: nought is the room's z.")  # fmt: skip
    sun_height: Number = number(45.0, label="Above", low=1, high=90, step=1, unit="°", group="Light")
    sun_soft: float = plain(4, label="Softness", low=0.2, high=40, step=0.2, unit="°", group="Light",
                            help="How wide the light is: the sun is half a degree, a window twenty.")  # fmt: skip
    sun_warm: Number = number(10.0, label="Warm", low=-100, high=100, step=1, unit="%", group="Light")
    sun_colour: str = colour("#ffffff", label="Sun's colour", group="Light", help="On top of how warm it is.")
    sky: Number = number(100.0, label="From all sides", low=0, high=2000, step=1, unit="%", group="Light", soft=(0, 300))
    sky_colour: str = colour("#ffffff", label="Its colour", group="Light", help="Of what comes from all sides.")
    shadow: bool = switch(True, label="Shadow", group="Shadow ground",
                          help="A surface that nobody sees takes the shadows of all models in the room.")  # fmt: skip
    shadow_on: bool = switch(True, label="On what was filmed", group="Shadow ground",
                             help="By the depth that was measured, shadows climb steps and walls too.")  # fmt: skip
    shadow_strength: Number = number(85.0, label="Strength", low=0, high=100, step=1, unit="%", group="Shadow ground")
    ground_colour: str = colour("#7a6a58", label="Throws back", group="Shadow ground",
                                help="The ground's colour, which shines back on to what stands on it.")  # fmt: skip
    across: int = plain(1, label="Side by side", low=1, high=16, step=1, group="Copies", whole=True)
    deep: int = plain(1, label="Behind each other", low=1, high=16, step=1, group="Copies", whole=True)
    across_gap: float = plain(0.3, label="Apart sideways", low=-100, high=100, step=0.01, unit="m", group="Copies",
                        soft=(0.02, 2))
    deep_gap: float = plain(0.3, label="Apart in depth", low=-100, high=100, step=0.01, unit="m", group="Copies",
                        soft=(0.02, 2))
    scattered: float = plain(0, label="Scattered", low=0, high=200, step=1, unit="%", group="Copies", soft=(0, 100),
                             help="How far from its place each may stand, of the way to the next.")  # fmt: skip
    copies_turned: float = plain(0, label="Turned", low=0, high=180, step=1, unit="°", group="Copies",
                                 help="By how much each may be turned from the first.")  # fmt: skip
    copies_sized: float = plain(0, label="Sizes", low=0, high=90, step=1, unit="%", group="Copies", soft=(0, 50),
                                help="By how much each may be larger or smaller.")  # fmt: skip
    copies_seed: int = plain(1, label="Seed", low=0, high=9999, step=1, group="Copies", whole=True,
                             help="Another number, another crowd.")  # fmt: skip
    haze: Number = number(0.0, label="Haze", low=0, high=100, step=1, unit="%", group="Haze",
                          help="How much of it is lost in the air at the distance below.")  # fmt: skip
    haze_at: Number = number(5.0, label="At", low=0.01, high=100000, step=0.1, unit="m", group="Haze", soft=(0.5, 50))
    haze_colour: str = colour("#aeb8c0", label="Colour", group="Haze")

    @model_validator(mode="after")
    def _few_copies(self) -> MeshLayer:
        if self.across * self.deep > MOST_COPIES:
            raise ValueError(f"{self.name}: at most {MOST_COPIES} copies can be filmed at once")
        return self
