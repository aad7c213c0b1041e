"""How a shot leaves: the frames that its picture is cut to, and the files that are made of it."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from plonket.base.fields import Identifier, Number, Settings, choice, colour, number, plain, reference, switch
from plonket.base.registry import Entry, OneOf
from plonket.document.bases import Item, Named
from plonket.document.kinds import FRAMES, OUTPUTS

SHAPES = {"9:16": (9, 16), "4:5": (4, 5), "1:1": (1, 1), "16:9": (16, 9)}
SHAPED = {"shape": tuple(SHAPES)}
FOLLOWING = {"shape": (*SHAPES, "free")}


class DeliveryFrame(Named):
    """The part of the finished picture that is delivered, at the size in which it is.

    Its middle lies at `x`, `y`: in pixels of the picture; of the reference frame of the motion that it follows; from the middle
    of a matte, if that is what it follows.
    """

    kind: Literal["frame"] = "frame"
    shape: Literal["9:16", "4:5", "1:1", "16:9", "free"] = choice(
        "9:16", label="Shape", group="Frame",
        names={"9:16": "9:16 upright", "4:5": "4:5", "1:1": "1:1 square", "16:9": "16:9 wide", "free": "Free"})  # fmt: skip
    pixels: Literal["cut", "720", "1080", "1440", "2160"] = choice(
        "1080", label="Short side", group="Frame", when=SHAPED,
        names={"cut": "As it is cut", "720": "720 px", "1080": "1080 px", "1440": "1440 px", "2160": "2160 px"},
        help="Of the finished video. Filmed smaller, it is enlarged.")  # fmt: skip
    width: int = plain(1080, label="Width", low=16, high=8192, step=2, unit="px", group="Frame", whole=True, soft=(240, 3840),
                       when={"shape": ("free",)})  # fmt: skip
    height: int = plain(1920, label="Height", low=16, high=8192, step=2, unit="px", group="Frame", whole=True, soft=(240, 3840),
                        when={"shape": ("free",)})  # fmt: skip
    x: Number = number(0.0, label="Across", low=-32768, high=32768, step=1, unit="px", group="Place")
    y: Number = number(0.0, label="Down", low=-32768, high=32768, step=1, unit="px", group="Place")
    size: Number = number(100.0, label="Takes in", low=5, high=1000, step=0.5, unit="%", group="Place", soft=(20, 200),
                          help="Of the largest that fits into the picture. Less is nearer.")  # fmt: skip
    target: Annotated[Identifier | None, reference("motion", says="follows something", leads=True)] = None
    reference_frame: int = Field(default=0, ge=0)
    smooth: float = plain(1.0, label="Smoothed", low=0, high=10, step=0.1, unit="s", group="Follow", soft=(0, 4),
                          help="How long it takes to follow: small moves do not reach it.")  # fmt: skip
    within: bool = switch(True, label="Kept inside", group="Place",
                          help="Stops at the picture's edge, however far it would follow.")  # fmt: skip
    beyond: Literal["blur", "colour", "clear"] = choice(
        "blur", label="Beyond", group="Beyond", names={"blur": "The picture, blurred", "colour": "A colour",
                                                        "clear": "Seen through"},
        help="What is seen where the picture ends. Seen through is black in files without coverage.")  # fmt: skip
    colour: str = colour("#101214", label="Colour", group="Beyond")

    @property
    def ratio(self) -> float:
        """Its width over its height."""
        w, h = (self.width, self.height) if self.shape == "free" else SHAPES[self.shape]
        return w / h


FRAMES.add(Entry(kind="frame", label="Frame", settings=DeliveryFrame, run=DeliveryFrame,
                 groups=("Frame", "Place", "Follow", "Beyond"), help="The part of the picture that is delivered."))  # fmt: skip


class OutputBase(Item):
    """A file that is made of a shot.

    `frame` is the delivery frame that it shows; none: the whole picture. `file` is what it is called: ``{shot}``, ``{frame}``,
    ``{format}`` and ``{size}`` stand for those.
    """

    frame: Annotated[Identifier | None, reference("frame", says="shows a frame")] = None
    file: str = Field(default="{shot} {frame}", max_length=120)


Output = Annotated[OutputBase, OneOf(OUTPUTS)]


class Delivery(Settings):
    """What is made of a shot.

    Without `outputs` it is one video by itself for each frame, or of the whole picture, as `quality` says.
    """

    quality: Literal["small", "good", "best"] = choice(
        "good", label="Quality", names={"small": "Small file", "good": "Good", "best": "Best"}
    )
    scale: Literal["full", "half"] = choice("full", label="Size", names={"full": "Full size", "half": "Half size"})
    sound: bool = True
    outputs: list[Output] = Field(default_factory=list, max_length=40)

    @model_validator(mode="after")
    def _apart(self) -> Delivery:
        if len({one.id for one in self.outputs}) != len(self.outputs):
            raise ValueError("two files have the same id")
        return self
