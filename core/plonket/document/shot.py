"""The shot document: everything that a creator decided about one shot.

It refers to media and measurements by content hash and holds no pictures itself. The server keeps
it as numbered revisions, the browser edits it, the command line renders it.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from fractions import Fraction
from typing import Annotated, Any, Literal

from pydantic import Field, TypeAdapter, ValidationError, ValidationInfo, model_validator

from plonket.base.errors import BadInput
from plonket.base.fields import STORED, UNSEEN, AssetDigest, Name, Number, Settings, choice, number
from plonket.base.registry import Entry
from plonket.document.bases import Layer, LayerBase, Look, MaskBase, Motion, MotionBase, Named, Treatment
from plonket.document.delivery import Delivery, DeliveryFrame
from plonket.document.kinds import FOOTAGE, LAYERS, MOTIONS, TREATMENTS
from plonket.document.perch import Perch
from plonket.document.references import Referring, references
from plonket.document.sound import LaidSound, SoundTrack
from plonket.document.time_map import TimeMap

FORMAT = 1
"""Of documents. A later one is refused in words; earlier ones are brought up to it here."""
MOST_FPS = (1, 1000)
NEARLY = 1e-3
"""A moment so near to a frame of the clip, in frames, is that frame."""


class Footage(Settings):
    """The clip that the shot is made on.

    The shot's frames run from `in_frame` to `out_frame`, both shown. They are the clip's own unless a `time` says which of
    those each of them shows.
    """

    kind: Literal["clip"] = "clip"
    asset: AssetDigest
    name: Name
    width: int = Field(ge=16, le=16384)
    height: int = Field(ge=16, le=16384)
    rate: str = Field(pattern=r"^[1-9]\d*/[1-9]\d*$", description="Frames a second at which it was filmed")
    played_at: str | None = Field(default=None, pattern=r"^[1-9]\d{0,5}/[1-9]\d{0,5}$",
                                  description="Frames a second at which it is shown; none: as it was filmed")  # fmt: skip
    frames: int = Field(ge=1, description="Of the clip")
    in_frame: int = Field(ge=0)
    out_frame: int = Field(ge=0)
    time: TimeMap | None = Field(default=None, description="How it runs; none: as it was filmed")
    opacity: Number = number(100.0, label="Shown", low=0, high=100, step=1, unit="%", group="Footage",
                             help="How much of it is seen under the stack: at nought things are alone.")  # fmt: skip
    ground: Literal["black", "clear"] = choice(
        "black", label="Ground", group="Footage", names={"black": "Black", "clear": "Seen through"},
        help="What is seen where nothing is. Seen through: delivered as a MOV file (ProRes 4444) with coverage.")  # fmt: skip

    @model_validator(mode="after")
    def _range(self) -> Footage:
        for key in self.time.keys if self.time is not None else ():
            if key.value > self.frames - 1 + 1e-6:
                raise ValueError(f"at frame {key.frame} the time leads to the clip's frame {key.value:g}, but that ends with "
                                 f"{self.frames - 1}")  # fmt: skip
        if not self.in_frame <= self.out_frame < self.length:
            whose = "clip" if self.time is None else "shot"
            raise ValueError(
                f"the range {self.in_frame}-{self.out_frame} does not lie within the {whose}'s {self.length} frames"
            )
        if not MOST_FPS[0] <= self.fps <= MOST_FPS[1]:
            raise ValueError(f"a shot runs at {MOST_FPS[0]} to {MOST_FPS[1]} frames a second, not at {float(self.fps):g}")
        return self

    @property
    def length(self) -> int:
        """Frames of the shot, were its range the whole of it."""
        return self.frames if self.time is None else self.time.length

    def moment(self, frame: float) -> float:
        """The clip's moment, in its frames, that a moment of the shot shows."""
        return frame if self.time is None else min(max(self.time.at(frame), 0.0), self.frames - 1.0)

    def moment_left(self, frame: int) -> float:
        """The moment to which the frame before leads; `frame`'s own, unless the clip jumps between the two."""
        if self.time is None:
            return float(frame)
        if frame < self.length and not self.time.is_cut(frame - 1):
            return self.moment(frame)
        here = self.moment(frame - 1)
        return here + (here - self.moment(frame - 2) if frame > 1 and not self.time.is_cut(frame - 2) else 1.0)

    @property
    def clip_range(self) -> tuple[int, int]:
        """The first and the last of the clip's frames that the shot's range shows."""
        if self.time is None:
            return self.in_frame, self.out_frame
        moments = [self.moment(frame) for frame in range(self.in_frame, self.out_frame + 1)]
        return math.floor(min(moments) + NEARLY), math.ceil(max(moments) - NEARLY)

    @property
    def filmed_fps(self) -> Fraction:
        """Frames a second at which the clip was filmed."""
        return Fraction(self.rate)

    @property
    def fps(self) -> Fraction:
        """Frames a second at which the shot runs, is delivered and heard."""
        return Fraction(self.played_at or self.rate)


FOOTAGE.add(Entry(kind="clip", label="Clip", settings=Footage, run=Footage, groups=("Footage",),
                  help="The clip that a shot is made on."))  # fmt: skip


class Marker(Named):
    """A name at a frame."""

    frame: int = Field(ge=0)


class Parcel(Named):
    """Several layers kept as one; `ParcelLayer` shows them, as often as it is wanted."""

    stack: list[Layer] = Field(default_factory=list, max_length=100)


class Shot(Settings):
    """One shot, whole."""

    format: Literal[1] = 1
    name: Name
    footage: Footage | None = None
    motions: list[Motion] = Field(default_factory=list, max_length=200)
    perches: list[Perch] = Field(default_factory=list, max_length=200)
    plate: list[Treatment] = Field(default_factory=list, max_length=50)
    stack: list[Layer] = Field(default_factory=list, max_length=200)
    parcels: list[Parcel] = Field(default_factory=list, max_length=50)
    finish: list[Look] = Field(default_factory=list, max_length=50)
    markers: Annotated[list[Marker], UNSEEN] = Field(default_factory=list, max_length=200)
    sound: Annotated[SoundTrack, UNSEEN] = Field(default_factory=SoundTrack)
    sounds: Annotated[list[LaidSound], UNSEEN] = Field(default_factory=list, max_length=50)
    frames: Annotated[list[DeliveryFrame], UNSEEN] = Field(default_factory=list, max_length=20)
    delivery: Annotated[Delivery, UNSEEN] = Field(default_factory=Delivery)

    @model_validator(mode="after")
    def _consistent(self, info: ValidationInfo) -> Shot:
        ids = [thing.id for thing in (*self.things(), *self.markers, *self.sounds)]
        if len(set(ids)) != len(ids):
            raise ValueError("two things in the shot have the same id")
        self._check_references()
        self._check_perches()
        self._check_layers()
        self._check_once()
        self._check_kept_masks(stored=bool(info.context and info.context.get(STORED)))
        self._check_frames()
        return self

    def things(self) -> list[Named]:
        """Everything whose id the whole shot knows: motions, perches, treatments, layers, parcels, finishing looks, frames."""
        return [*self.motions, *self.perches, *self.plate, *self.layers, *self.parcels, *self.finish, *self.frames]

    def _check_references(self) -> None:
        known = self._known()
        for one in self.references():
            if one.declared.checked and one.declared.to in known and one.id not in known[one.declared.to]:
                raise ValueError(f"{one.owner} {one.declared.says} that is not in the shot")
        for motion in self.motions:
            for one in references(motion):
                if one.id == motion.id:
                    raise ValueError(f"{one.owner} follows the motion that it belongs to")

    def _check_perches(self) -> None:
        rooms = {m.id for m in self.motions if "room" in MOTIONS.of(m).traits}
        for perch in self.perches:
            if perch.spot is not None and perch.follow.target not in rooms:
                raise ValueError(f"{perch.name} stands in a room without a motion that solves one")
        above = {p.id: p.follow.target for p in self.perches}
        for perch in self.perches:
            at, steps = above[perch.id], 0
            while at in above:
                at, steps = above[at], steps + 1
                if steps > len(above):
                    raise ValueError(f"{perch.name} sits on itself, by way of other perches")

    def _check_once(self) -> None:
        for entry in TREATMENTS:
            if entry.once and sum(one.kind == entry.kind for one in self.plate) > 1:
                raise ValueError(entry.once)

    def references(self) -> Iterator[Referring]:
        """All that anything in the shot names, with where it says so."""
        return references(self)

    def _known(self) -> dict[str, set[str]]:
        """What there is to be named, by what references say they name."""
        motions = {m.id for m in self.motions}
        return {entry.kind: {m.id for m in self.motions if m.kind == entry.kind} for entry in MOTIONS} | {
            "motion": motions, "place": motions | {p.id for p in self.perches},
            "layer": {layer.id for layer in self.layers}, "parcel": {p.id for p in self.parcels},
            "frame": {frame.id for frame in self.frames},
        }  # fmt: skip

    @property
    def layers(self) -> list[LayerBase]:
        """All layers, those in parcels too."""
        return [*self.stack, *(layer for parcel in self.parcels for layer in parcel.stack)]

    def _check_layers(self) -> None:
        """Nothing is shown by way of itself, as a matte or inside a parcel."""
        names = {thing.id: thing.name for thing in (*self.layers, *self.parcels)}
        needs: dict[str, list[str]] = {p.id: [layer.id for layer in p.stack] for p in self.parcels}
        for layer in self.layers:
            needs[layer.id] = [one.id for one in references(layer)
                               if one.declared.to in ("layer", "parcel") and one.declared.checked]  # fmt: skip
        done: set[str] = set()

        def visit(name: str, above: frozenset[str]) -> None:
            if name in above:
                raise ValueError(f"{names[name]} would need itself, as a matte or inside a parcel")
            if name not in done:
                for other in needs.get(name, ()):
                    visit(other, above | {name})
                done.add(name)

        for name in needs:
            visit(name, frozenset())

    def _check_frames(self) -> None:
        if self.footage is None:
            return
        for thing in (*self.motions, *self.plate):
            for name, frame in thing.frames_set():
                if frame >= self.footage.frames:
                    raise ValueError(f"{name} is set on frame {frame}, beyond the clip's end")

    def _check_kept_masks(self, stored: bool) -> None:
        """A mask keeps something from a key only where there can be a key; one that was stored elsewhere did nothing."""
        keyless = [layer for layer in self.layers if "keyed" not in LAYERS.of(layer).traits]
        looks = [*self.finish, *(look for layer in self.layers for look in layer.looks)]
        for thing in (*keyless, *self.plate, *looks):
            masks: list[MaskBase] = getattr(thing, "masks", [])
            for mask in masks:
                if mask.mode != "keep":
                    continue
                if not stored:
                    raise ValueError(f"{mask.name} of {thing.name} cannot be kept from a key: there is none")
                mask.mode, mask.shown = "add", False

    def layer(self, layer_id: str) -> LayerBase:
        for layer in self.layers:
            if layer.id == layer_id:
                return layer
        raise BadInput("shot.layer", "This layer is not in the shot any more.")

    def motion(self, motion_id: str) -> MotionBase:
        for motion in self.motions:
            if motion.id == motion_id:
                return motion
        raise BadInput("shot.motion", f"The shot has no motion with the id {motion_id!r}.")


_ADAPTER = TypeAdapter(Shot)


def read_shot(data: Any, *, stored: bool = False) -> Shot:
    """Validate a document; `BadInput` says in plain words what is wrong and where.

    One that was `stored` before must open whatever ranges say today: numbers out of them are moved into them.
    """
    if isinstance(data, dict) and isinstance(data.get("format"), int) and data["format"] > FORMAT:
        raise BadInput("shot.newer", "This shot was made by a newer Plonket. Bring this one up to date to open it.")
    try:
        return _ADAPTER.validate_python(data, context={STORED: stored})
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(k) for k in first["loc"]) or "the shot"
        message = first["msg"].removeprefix("Value error, ")
        raise BadInput("shot.invalid", f"This cannot be stored: {where}: {message}.", {"where": where}) from error
