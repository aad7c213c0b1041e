"""What every kind of a sort has in a document, whatever its own file adds; and the fields that hold one of them."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field, model_validator

from plonket.base.fields import (
    UNSEEN,
    Identifier,
    MeasurementDigest,
    Name,
    Number,
    Rides,
    Settings,
    choice,
    colour,
    number,
    plain,
    reference,
    switch,
    value_at,
)
from plonket.base.registry import OneOf
from plonket.document.kinds import GENERATORS, KEYS, LAYERS, LOOKS, MASKS, MOTIONS, TREATMENTS

PURPLES = ("#b48ad8", "#6fb3b8", "#e0a74e", "#d98880", "#8fb573", "#7f9fd4")
"""Colours that masks are given in turn, so that several can be told apart."""

BLENDS: dict[str, str] = {
    "normal": "Normal",
    "add": "Add light",
    "screen": "Screen",
    "multiply": "Multiply",
    "lighten": "Lighten",
    "darken": "Darken",
    "overlay": "Overlay",
    "soft light": "Soft light",
    "difference": "Difference",
}
"""How a layer may mix with what lies below, and what that is called."""
BlendName = Literal["normal", "add", "screen", "multiply", "lighten", "darken", "overlay", "soft light", "difference"]


class Named(Settings):
    """Something with an id and a name."""

    id: Identifier
    name: Name


class Item(Named):
    """Something of a registered kind."""

    kind: str

    def frames_set(self) -> list[tuple[str, int]]:
        """The clip's frames on which something of it was set by hand, each with the name of that."""
        return []

    def emptied(self, frames: int) -> dict[str, Any] | None:
        """Values that take off what belongs to the clip before, for one of so many frames; None: nothing is left of it."""
        return {}


class KeyBase(Settings):
    """A key: how a picture's background is taken out."""

    kind: str


class GeneratorBase(Settings):
    """What a generated element is."""

    kind: str


Key = Annotated[KeyBase, OneOf(KEYS)]


class MaskBase(Item):
    """A mask's name and colour, how it goes with those before it, and what it rides on.

    What is kept from the layer's key may have another `key` of its own, which takes off what that one would not.

    `rides` says in which pixels it is drawn: of the *footage*; of the finished *screen*; of the masked
    layer's *own* picture; or ``to:ID``, of a motion's reference frame or from a perch.
    """

    shown: bool = switch(True, label="On")
    colour: Annotated[str, UNSEEN] = colour(PURPLES[0], label="Colour", group="Mask",
                                            help="How it is drawn over the picture.")  # fmt: skip
    mode: Literal["add", "subtract", "intersect", "keep"] = choice(
        "add", label="Goes", group="Mask",
        names={"add": "With those above", "subtract": "Off those above", "intersect": "Only where both are",
               "keep": "Kept from the key"},
        help="How it goes with the masks above it in the list.")  # fmt: skip
    inverted: bool = switch(False, label="Inverted", group="Mask", help="Everything but what it shows.")
    strength: Number = number(100.0, label="Strength", low=0, high=100, step=1, unit="%", group="Mask")
    rides: Rides = "footage"
    reference_frame: int = Field(default=0, ge=0)
    key: Key | None = Field(default=None, description="The key inside it, where it is kept from the layer's own")

    @property
    def target(self) -> str | None:
        """The motion or perch that it rides on."""
        return target_of(self.rides)


def target_of(rides: str) -> str | None:
    """The id in ``to:ID``, None in anything else."""
    return rides.removeprefix("to:") if rides.startswith("to:") else None


Mask = Annotated[MaskBase, OneOf(MASKS)]


class LookBase(Item):
    """A look's name, how much of it is seen, and where."""

    shown: bool = switch(True, label="On")
    mix: Number = number(100.0, label="Mix", low=0, high=100, step=1, unit="%", group="Where",
                         help="How much of the look is seen.")  # fmt: skip
    masks: list[Mask] = Field(default_factory=list, max_length=100)


class PlacedLook(LookBase):
    """A look that has a place: in pixels of what it rides on, as a mask's outline."""

    rides: Rides = "footage"
    reference_frame: int = Field(default=0, ge=0)

    @property
    def target(self) -> str | None:
        """The motion or perch that it rides on."""
        return target_of(self.rides)


Look = Annotated[LookBase, OneOf(LOOKS)]
Generator = Annotated[GeneratorBase, OneOf(GENERATORS)]


class LayerBase(Item):
    """Name, visibility and how a layer mixes with what lies below."""

    shown: bool = switch(True, label="Shown")
    opacity: Number = number(100.0, label="Opacity", low=0, high=100, step=1, unit="%", group="Mix")
    blend: BlendName = choice("normal", label="Blend", names=BLENDS, group="Mix", help="How it mixes with what lies below.")
    masks: list[Mask] = Field(default_factory=list, max_length=100)
    looks: list[Look] = Field(default_factory=list, max_length=50)
    matte: Annotated[Identifier | None, reference("layer", says="has a layer as matte")] = Field(
        default=None, description="A layer that cuts this one by its own picture"
    )
    matte_by: Literal["alpha", "luma"] = choice(
        "alpha", label="Taken from", group="Matte", names={"alpha": "What it covers", "luma": "How bright it is"})  # fmt: skip
    matte_inverted: bool = switch(False, label="Inverted", group="Matte")
    begins: int | None = Field(default=None, ge=0, le=1_000_000, description="First frame on which it is there; none: always")
    ends: int | None = Field(default=None, ge=0, le=1_000_000, description="Last frame on which it is there; none: to the end")
    fade_in: int = plain(0, label="Fades in", low=0, high=100000, step=1, unit="fr", group="Time", whole=True, soft=(0, 100),
                         help="Frames from where it begins until it is seen whole.")  # fmt: skip
    fade_out: int = plain(0, label="Fades out", low=0, high=100000, step=1, unit="fr", group="Time", whole=True, soft=(0, 100),
                          help="Frames over which it goes, up to where it ends.")  # fmt: skip

    def is_there(self, frame: float) -> bool:
        """Whether a frame of the shot lies between its beginning and its end."""
        return (self.begins is None or frame >= self.begins) and (self.ends is None or frame <= self.ends)

    def presence(self, frame: float) -> float:
        """How much of it is seen at a frame, 0 to 1: its opacity, faded in and out; nought before and after its time."""
        if not self.is_there(frame):
            return 0.0
        share = min(max(value_at(self.opacity, frame) / 100, 0.0), 1.0)
        if self.fade_in:
            share *= min((frame - (self.begins or 0) + 1) / (self.fade_in + 1), 1.0)
        if self.fade_out and self.ends is not None:
            share *= min((self.ends - frame + 1) / (self.fade_out + 1), 1.0)
        return share

    @property
    def unseen(self) -> bool:
        """Whether it has no picture as it is set, though it is shown: it only does something to others."""
        return False

    @model_validator(mode="after")
    def _masked(self) -> LayerBase:
        ids = [m.id for m in self.masks]
        if len(set(ids)) != len(ids):
            raise ValueError(f"{self.name}: two masks have the same id")
        if self.begins is not None and self.ends is not None and self.begins > self.ends:
            raise ValueError(f"{self.name} ends before it begins")
        if len({look.id for look in self.looks}) != len(self.looks):
            raise ValueError(f"{self.name}: two looks have the same id")
        return self


Layer = Annotated[LayerBase, OneOf(LAYERS)]


class TreatmentBase(Item):
    """A treatment of the plate."""

    shown: bool = switch(True, label="On")


class MaskedTreatment(TreatmentBase):
    """A treatment of what masks cover."""

    masks: list[Mask] = Field(default_factory=list, max_length=100)

    @model_validator(mode="after")
    def _masked(self) -> MaskedTreatment:
        ids = [m.id for m in self.masks]
        if len(set(ids)) != len(ids):
            raise ValueError(f"{self.name}: two masks have the same id")
        if any(m.rides == "own" for m in self.masks):
            raise ValueError(f"{self.name}: a mask of the plate rides on the footage, the screen or a motion")
        return self


Treatment = Annotated[TreatmentBase, OneOf(TREATMENTS)]


class MotionBase(Item):
    """Something that is measured in the clip."""

    MEASURING: ClassVar[frozenset[str]] = frozenset()
    """Fields that only say how it is measured: pictures depend on what was measured, not on them."""

    measurement: MeasurementDigest | None = None

    @property
    def untouched(self) -> str | None:
        """What was measured, before anything was put right by hand."""
        return self.measurement

    def measured_as(self, digest: str) -> dict[str, Any]:
        """The fields that change where it is measured anew."""
        return {"measurement": digest}

    @property
    def home(self) -> int:
        """The frame whose pixels are the motion's own."""
        return 0


class FramedMotion(MotionBase):
    """A motion that is told in the pixels of one frame."""

    reference_frame: int = Field(default=0, ge=0)

    @property
    def home(self) -> int:
        return self.reference_frame

    def frames_set(self) -> list[tuple[str, int]]:
        return [(self.name, self.reference_frame)]

    def emptied(self, frames: int) -> dict[str, Any] | None:
        return {"measurement": None, "reference_frame": min(self.reference_frame, frames - 1)}


Motion = Annotated[MotionBase, OneOf(MOTIONS)]
