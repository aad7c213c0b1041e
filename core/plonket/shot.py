"""The shot document: everything that a creator decided about one shot.

It refers to media and measurements by content hash and holds no pictures itself. The server keeps
it as numbered revisions, the browser edits it, the command line renders it.
"""

from __future__ import annotations

import hashlib
import json
from fractions import Fraction
from typing import Annotated, Any, Literal

from pydantic import Field, TypeAdapter, ValidationError, model_validator

from plonket.comp.kinds import LAYERS
from plonket.errors import BadInput
from plonket.fields import Digest, Model, Name, choice
from plonket.layers.still import StillLayer
from plonket.motion.kinds import MOTIONS
from plonket.motion.points.settings import PointMotion

Motion = Annotated[PointMotion, Field(description="One of the registered motions")]
Layer = Annotated[StillLayer, Field(description="One of the registered layer kinds")]


class Footage(Model):
    """The clip that the shot is made on. Frames run from `in_frame` to `out_frame`, both shown."""

    asset: Digest
    name: Name
    width: int = Field(ge=16, le=16384)
    height: int = Field(ge=16, le=16384)
    rate: str = Field(pattern=r"^[1-9]\d*/[1-9]\d*$")
    frames: int = Field(ge=1)
    in_frame: int = Field(ge=0)
    out_frame: int = Field(ge=0)

    @model_validator(mode="after")
    def _range(self) -> Footage:
        if not self.in_frame <= self.out_frame < self.frames:
            raise ValueError(
                f"the range {self.in_frame}-{self.out_frame} does not lie within the clip's {self.frames} frames"
            )
        return self

    @property
    def fps(self) -> Fraction:
        return Fraction(self.rate)


class Delivery(Model):
    """How the finished video is written."""

    quality: Literal["small", "good", "best"] = choice(
        "good", label="Quality", names={"small": "Small file", "good": "Good", "best": "Best"}
    )
    scale: Literal["full", "half"] = choice("full", label="Size", names={"full": "Full size", "half": "Half size"})
    sound: bool = True


class Shot(Model):
    """One shot, whole."""

    format: Literal[1] = 1
    name: Name
    footage: Footage | None = None
    motions: list[Motion] = Field(default_factory=list, max_length=200)
    stack: list[Layer] = Field(default_factory=list, max_length=200)
    delivery: Delivery = Field(default_factory=Delivery)

    @model_validator(mode="after")
    def _consistent(self) -> Shot:
        ids = [m.id for m in self.motions] + [layer.id for layer in self.stack]
        if len(set(ids)) != len(ids):
            raise ValueError("two things in the shot have the same id")
        known = {m.id for m in self.motions}
        for layer in self.stack:
            if layer.follow.motion is not None and layer.follow.motion not in known:
                raise ValueError(f"{layer.name} follows a motion that is not in the shot")
        if self.footage is not None:
            for motion in self.motions:
                for p in motion.points:
                    for g in p.given:
                        if g.frame >= self.footage.frames:
                            raise ValueError(f"{p.name} is set on frame {g.frame}, beyond the clip's end")
        return self

    def motion(self, motion_id: str) -> PointMotion:
        for motion in self.motions:
            if motion.id == motion_id:
                return motion
        raise BadInput("shot.motion", f"The shot has no motion with the id {motion_id!r}.")


_ADAPTER = TypeAdapter(Shot)


def read_shot(data: Any) -> Shot:
    """Validate a document; `BadInput` says in plain words what is wrong and where."""
    try:
        return _ADAPTER.validate_python(data)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(k) for k in first["loc"]) or "the shot"
        message = first["msg"].removeprefix("Value error, ")
        raise BadInput("shot.invalid", f"This cannot be stored: {where}: {message}.", {"where": where}) from error


def shot_hash(shot: Shot) -> str:
    """Content hash of a document: equal documents give equal pictures."""
    text = json.dumps(shot.model_dump(mode="json"), sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(text.encode()).hexdigest()


def picture_hash(shot: Shot) -> str:
    """Hash of what the pictures depend on: not the names, the range or the delivery."""
    record = shot.model_dump(mode="json")
    for key in ("name", "delivery"):
        record.pop(key)
    if record["footage"]:
        for key in ("in_frame", "out_frame", "name"):
            record["footage"].pop(key)
    used = {layer["follow"]["motion"] for layer in record["stack"]}
    record["motions"] = [
        {"id": m["id"], "measurement": m["measurement"], "points": [p["id"] for p in m["points"]]}
        for m in record["motions"]
        if m["id"] in used
    ]
    for layer in record["stack"]:
        layer.pop("name")
    text = json.dumps(record, sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(text.encode()).hexdigest()


REGISTRIES = {"motion": MOTIONS, "layer": LAYERS}
