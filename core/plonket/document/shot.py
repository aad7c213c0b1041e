"""The shot document: everything that a creator decided about one shot.

It refers to media and measurements by content hash and holds no pictures itself. The server keeps
it as numbered revisions, the browser edits it, the command line renders it.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator
from fractions import Fraction
from typing import Annotated, Any, Literal

from pydantic import Field, TypeAdapter, ValidationError, ValidationInfo, model_validator

from plonket.base.errors import BadInput
from plonket.base.fields import STORED, AssetDigest, Identifier, Model, Name, choice
from plonket.base.registry import Registry
from plonket.document.references import Referring, references
from plonket.generators.kinds import GENERATORS
from plonket.keying.kinds import KEYS
from plonket.layers.beam import BeamLayer
from plonket.layers.common import PictureLayer
from plonket.layers.fill import FillLayer
from plonket.layers.form import FormLayer
from plonket.layers.generated import GeneratedLayer
from plonket.layers.light import DomeLayer, LampLayer
from plonket.layers.model import ModelLayer
from plonket.layers.parcel import ParcelLayer
from plonket.layers.pin import PinLayer
from plonket.layers.still import StillLayer
from plonket.layers.wash import WashLayer
from plonket.looks.kinds import LOOKS, Look
from plonket.masks.kinds import MASKS
from plonket.plate.clean import Clean
from plonket.plate.handheld import Handheld
from plonket.plate.kinds import TREATMENTS
from plonket.plate.mend import MaskedTreatment, Mend
from plonket.plate.stabilise import Steady
from plonket.render.stack import LAYERS
from plonket.track.camera.settings import CameraMotion
from plonket.track.form.settings import FormMotion
from plonket.track.kinds import MOTIONS, PLACES
from plonket.track.object.settings import ObjectMotion
from plonket.track.perch import Perch
from plonket.track.plane.settings import PlaneMotion
from plonket.track.points.settings import PointMotion
from plonket.track.room_motion import RoomMotion

Motion = Annotated[PointMotion | PlaneMotion | CameraMotion | ObjectMotion | FormMotion, Field(discriminator="kind")]
Treatment = Annotated[Steady | Handheld | Mend | Clean, Field(discriminator="kind")]
Layer = Annotated[
    StillLayer | PinLayer | BeamLayer | GeneratedLayer | ModelLayer | FormLayer | LampLayer | DomeLayer | FillLayer
    | WashLayer | ParcelLayer,
    Field(discriminator="kind"),
]


class Footage(Model):
    """The clip that the shot is made on. Frames run from `in_frame` to `out_frame`, both shown."""

    asset: AssetDigest
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


class Parcel(Model):
    """Several layers kept as one; `ParcelLayer` shows them, as often as it is wanted."""

    id: Identifier
    name: Name
    stack: list[Layer] = Field(default_factory=list, max_length=100)


class Shot(Model):
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
    delivery: Delivery = Field(default_factory=Delivery)

    @model_validator(mode="after")
    def _consistent(self, info: ValidationInfo) -> Shot:
        ids = [thing.id for thing in (*self.motions, *self.perches, *self.plate, *self.layers, *self.parcels, *self.finish)]
        if len(set(ids)) != len(ids):
            raise ValueError("two things in the shot have the same id")
        self._checktargets()
        self._check_layers()
        self._check_kept_masks(stored=bool(info.context and info.context.get(STORED)))
        if self.footage is not None:
            for motion in self.motions:
                self._check_frames(motion, self.footage.frames)
            self._check_clean(self.footage.frames)
        return self

    def _checktargets(self) -> None:
        rooms = {m.id for m in self.motions if isinstance(m, RoomMotion)}
        for perch in self.perches:
            if perch.spot is not None and perch.follow.target not in rooms:
                raise ValueError(f"{perch.name} stands in a room without a motion that solves one")
        known = self._known()
        for one in self.references():
            if one.declared.checked and one.declared.to in known and one.id not in known[one.declared.to]:
                raise ValueError(f"{one.owner} {one.declared.says} that is not in the shot")
        for motion in self.motions:
            for one in references(motion):
                if one.id == motion.id:
                    raise ValueError(f"{one.owner} follows the motion that it belongs to")
        if sum(isinstance(one, Steady) for one in self.plate) > 1:
            raise ValueError("a plate is steadied once; change what is there instead of adding another")
        above = {p.id: p.follow.target for p in self.perches}
        for perch in self.perches:
            at, steps = above[perch.id], 0
            while at in above:
                at, steps = above[at], steps + 1
                if steps > len(above):
                    raise ValueError(f"{perch.name} sits on itself, by way of other perches")

    def references(self) -> Iterator[Referring]:
        """All that anything in the shot names, with where it says so."""
        return references(self)

    def _known(self) -> dict[str, set[str]]:
        """What there is to be named, by what references say they name."""
        motions = {m.id for m in self.motions}
        return {
            "motion": motions, "place": motions | {p.id for p in self.perches},
            "plane": {m.id for m in self.motions if isinstance(m, PlaneMotion)},
            "points": {m.id for m in self.motions if isinstance(m, PointMotion)},
            "layer": {layer.id for layer in self.layers}, "parcel": {p.id for p in self.parcels},
        }  # fmt: skip

    @property
    def layers(self) -> list[Layer]:
        """All layers, those in parcels too."""
        return [*self.stack, *(layer for parcel in self.parcels for layer in parcel.stack)]

    def _check_layers(self) -> None:
        """Mattes and parcels refer to what is there, and never to themselves by way of others."""
        layers = {layer.id: layer for layer in self.layers}
        parcels = {parcel.id: parcel for parcel in self.parcels}
        needs: dict[str, list[str]] = {p.id: [layer.id for layer in p.stack] for p in self.parcels}
        for layer in layers.values():
            needs[layer.id] = []
            if layer.matte is not None:
                needs[layer.id].append(layer.matte)
            if isinstance(layer, ParcelLayer):
                needs[layer.id].append(layer.parcel)
        done: set[str] = set()

        def visit(name: str, above: frozenset[str]) -> None:
            if name in above:
                thing = layers[name].name if name in layers else parcels[name].name
                raise ValueError(f"{thing} would need itself, as a matte or inside a parcel")
            if name not in done:
                for other in needs.get(name, ()):
                    visit(other, above | {name})
                done.add(name)

        for name in needs:
            visit(name, frozenset())

    def _check_clean(self, frames: int) -> None:
        for one in self.plate:
            if isinstance(one, Clean) and one.frames[-1].frame >= frames:
                raise ValueError(f"{one.name} has a clean frame beyond the clip's end")

    def _check_frames(self, motion: Motion, frames: int) -> None:
        if isinstance(motion, PointMotion):
            given = [(p.name, g.frame) for p in motion.points for g in p.given]
        elif isinstance(motion, CameraMotion):
            given = [(motion.name, f) for f in (motion.reference_frame, motion.first, motion.last) if f is not None]
        elif isinstance(motion, ObjectMotion):
            given = [(motion.name, motion.reference_frame)]
        else:
            given = [(motion.name, motion.reference_frame), *((motion.name, s.frame) for s in motion.stakes)]
        for name, frame in given:
            if frame >= frames:
                raise ValueError(f"{name} is set on frame {frame}, beyond the clip's end")

    def _check_kept_masks(self, stored: bool) -> None:
        """A mask keeps something from a key only where there can be a key; one that was stored elsewhere did nothing."""
        keyless = [layer for layer in self.layers if not isinstance(layer, PictureLayer)]
        mends = [one for one in self.plate if isinstance(one, MaskedTreatment)]
        looks = [*self.finish, *(look for layer in self.layers for look in layer.looks)]
        for thing in (*keyless, *mends, *looks):
            for mask in thing.masks:
                if mask.mode != "keep":
                    continue
                if not stored:
                    raise ValueError(f"{mask.name} of {thing.name} cannot be kept from a key: there is none")
                mask.mode, mask.shown = "add", False

    def layer(self, layer_id: str) -> Layer:
        for layer in self.layers:
            if layer.id == layer_id:
                return layer
        raise BadInput("shot.layer", "This layer is not in the shot any more.")

    def motion(self, motion_id: str) -> Motion:
        for motion in self.motions:
            if motion.id == motion_id:
                return motion
        raise BadInput("shot.motion", f"The shot has no motion with the id {motion_id!r}.")


_ADAPTER = TypeAdapter(Shot)


def read_shot(data: Any, *, stored: bool = False) -> Shot:
    """Validate a document; `BadInput` says in plain words what is wrong and where.

    One that was `stored` before must open whatever ranges say today: numbers out of them are moved into them.
    """
    try:
        return _ADAPTER.validate_python(data, context={STORED: stored})
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
    # Zooming just enough looks at the range; nothing else does.
    return _hashed(shot, ranged=any(one.shown for one in shot.plate))


def mends_hash(shot: Shot) -> str:
    """Hash of what the mended footage depends on: not how it is steadied, nor the range."""
    mends = [one for one in shot.plate if isinstance(one, MaskedTreatment) and one.shown]
    return _hashed(shot.model_copy(update={"stack": [], "parcels": [], "plate": mends, "finish": []}), ranged=False)


def _hashed(shot: Shot, *, ranged: bool) -> str:
    record = shot.model_dump(mode="json")
    for key in ("name", "delivery"):
        record.pop(key)
    if record["footage"]:
        kept = ("in_frame", "out_frame") if ranged else ()
        for key in {"in_frame", "out_frame", "name"}.difference(kept):
            record["footage"].pop(key)
    record["motions"] = [_moves(m) for m in record["motions"]]
    inside = [layer for parcel in record["parcels"] for layer in parcel["stack"]]
    for thing in (*record["stack"], *inside, *record["parcels"], *record["perches"], *record["plate"]):
        thing.pop("name")
        for mask in thing.get("masks", ()):
            mask.pop("name")
            mask.pop("colour")
    text = json.dumps(record, sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(text.encode()).hexdigest()


def plate_hash(shot: Shot) -> str:
    """Hash of what the treated plate depends on; the clip's own when nothing treats it."""
    assert shot.footage is not None
    if not any(one.shown for one in shot.plate):
        return shot.footage.asset
    return picture_hash(shot.model_copy(update={"stack": [], "parcels": [], "perches": [], "finish": []}))


def _moves(motion: dict[str, Any]) -> dict[str, Any]:
    """What of a motion changes where its followers are: what was measured, and how it is taken."""
    kept = ("id", "kind", "measurement", "gives", "gaps", "smooth", "reference_frame", "quad", "stakes", "room", "moves")
    out = {key: motion[key] for key in kept if key in motion}
    if motion["kind"] in ("points", "form"):
        out.pop("stakes", None)
    if motion["kind"] == "points":
        out["points"] = [p["id"] for p in motion["points"]]
    return out


REGISTRIES: dict[str, Registry[Any]] = {
    "motion": MOTIONS, "treatment": TREATMENTS, "layer": LAYERS, "generator": GENERATORS, "mask": MASKS, "key": KEYS,
    "look": LOOKS, "place": PLACES,
}  # fmt: skip
