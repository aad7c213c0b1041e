"""What all that is filmed in 3D is set to: how well, in which light, with which shadow and haze."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from plonket.base.fields import Identifier, Number, choice, colour, number, plain, reference, switch
from plonket.layers.standing import StandingLayer
from plonket.raytrace.request import Mirror

LIGHT = ("sun", "sun_heading", "sun_height", "sun_soft", "sun_warm", "sun_colour", "sky", "sky_colour", "lit_like")
"""What a model takes over from the one that it was lit like."""


class FilmedLayer(StandingLayer):
    """Something that stands in a room and is filmed there by its camera, lit by its lights.

    `lit_like` is another such layer whose sun and sky it has.
    """

    grounded: ClassVar[bool] = True
    """Whether it stands on an endless level floor at its spot, which throws light back and takes its shadow."""
    quality: Literal["quick", "good", "best"] = choice(
        "good", label="Quality", group="Filmed", names={"quick": "Quick", "good": "Good", "best": "Best"},
        help="Light paths a pixel. Views at half size are always quick.")  # fmt: skip
    shutter: float = plain(0, label="Motion blur", low=0, high=360, step=5, unit="°", group="Filmed",
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
    haze: Number = number(0.0, label="Haze", low=0, high=100, step=1, unit="%", group="Haze",
                          help="How much of it is lost in the air at the distance below.")  # fmt: skip
    haze_at: Number = number(5.0, label="At", low=0.01, high=100000, step=0.1, unit="m", group="Haze", soft=(0.5, 50))
    haze_colour: str = colour("#aeb8c0", label="Colour", group="Haze")

    def floor(self, level: float) -> float | None:
        """The height in metres of the floor under it, where its spot is at `level`; None: there is none but itself."""
        return level

    def brings_shadows(self, frame: float) -> bool:
        """Whether it may bring the shadows of all that stands in the room."""
        return self.shadow and (self.grounded or self.opens(frame))

    def mirrors(self, frame: float) -> Mirror | None:
        """How the ground mirrors it; None: not at all."""
        return None

    def opens(self, frame: float) -> bool:
        """Whether the floor that it lies in is another than was filmed: what stands there is shown with that in its place."""
        return False
