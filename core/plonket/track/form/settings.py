"""What a creator gives to a form: its shape, and tugs on a few frames."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field, model_validator

from plonket.base.fields import AssetDigest, Settings, choice, plain, switch
from plonket.room.meshes.forms import FormKind
from plonket.track.room_motion import LookingMotion, Moves, moves_choice

Quaternion = tuple[float, float, float, float]
Place = tuple[float, float, float]


class Tug(Settings):
    """A handle dropped on a form and dragged to where it belongs in the picture.

    `at` is a place on the form of unit size (x and z from -0.5 to 0.5, y from 0 to 1), `x` and `y` pixels of the frame.
    """

    at: Place
    x: float = Field(ge=-100000, le=100000)
    y: float = Field(ge=-100000, le=100000)


class Pose(Settings):
    """Where a form is: metres and a unit quaternion [x, y, z, w], from the form to the camera (x right, y up, looking
    along -z)."""

    place: Place = (0.0, 0.0, -1.0)
    turn: Quaternion = (0.0, 0.0, 0.0, 1.0)


class FormStake(Settings):
    """A frame on which the form was put right by hand: its tugs, and the pose that fits them."""

    frame: int = Field(ge=0)
    tugs: list[Tug] = Field(default_factory=list, max_length=60)
    pose: Pose


class FormMotion(LookingMotion):
    """The movement of a simple form, or of the camera round it, from tugs and from what is seen on its surface."""

    MEASURING = LookingMotion.MEASURING | {
        "shape", "asset", "wide", "tall", "deep", "fits", "detail", "reach_px", "strictness", "stakes",
    }  # fmt: skip

    kind: Literal["form"] = "form"
    shape: FormKind = choice("box", label="Shape", group="Form",
                             names={"box": "Box", "cylinder": "Cylinder", "plane": "Plane",
                                    "model": "Model from the shelf"})  # fmt: skip
    asset: AssetDigest | None = Field(default=None, description="The model that the form is, for the shape `model`")
    wide: float = plain(0.2, label="Width", low=0.0001, high=10000, step=0.001, unit="m", group="Form",
                        soft=(0.01, 2))
    tall: float = plain(0.2, label="Height", low=0.0001, high=10000, step=0.001, unit="m", group="Form",
                        soft=(0.01, 2))
    deep: float = plain(0.2, label="Depth", low=0.0001, high=10000, step=0.001, unit="m", group="Form",
                        soft=(0.01, 2))
    fits: bool = switch(True, label="Fit its sides", group="Form", when={"shape": ("box", "cylinder", "plane")},
                        help="Width and depth follow what is tugged; the height is what you say it is.")  # fmt: skip
    moves: Moves = moves_choice()
    detail: float = plain(60, label="Surface used", low=5, high=100, step=5, unit="%", group="How it looks for it",
                          help="How much of the surface is compared, the most telling first.")  # fmt: skip
    reach_px: float = plain(40, label="Reach", low=4, high=400, step=2, unit="px", group="How it looks for it",
                            help="How far it may jump from one frame to the next.")  # fmt: skip
    strictness: float = plain(45, label="Lost below", low=10, high=95, step=1, unit="%", group="How it looks for it",
                              help="Likeness under which it is called lost.")  # fmt: skip
    stakes: list[FormStake] = Field(default_factory=list, max_length=200)

    def emptied(self, frames: int) -> dict[str, Any] | None:
        return (super().emptied(frames) or {}) | {"stakes": []}

    def frames_set(self) -> list[tuple[str, int]]:
        return [(self.name, frame) for frame in (self.reference_frame, *(s.frame for s in self.stakes))]

    @model_validator(mode="after")
    def _consistent(self) -> FormMotion:
        frames = [s.frame for s in self.stakes]
        if frames != sorted(set(frames)):
            raise ValueError(f"{self.name}: stakes must be in order of frames, one each")
        if (self.shape == "model") != (self.asset is not None):
            raise ValueError(f"{self.name}: a model's form needs a model from the shelf, other shapes none")
        return self

    @property
    def size(self) -> Place:
        """(width, height, depth) in metres; a plane has no height."""
        return self.wide, self.tall, self.deep

    def stake(self, frame: int) -> FormStake | None:
        return next((s for s in self.stakes if s.frame == frame), None)


