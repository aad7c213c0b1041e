"""API: changes of a shot that touch more than one thing, asked for by name."""

from __future__ import annotations

import uuid
from collections.abc import Callable
from typing import Annotated, Any, Literal

from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field

from library.pool import pool
from plonket.document.operations import duplicate, into_parcel, move, name_of, out_of_parcel, pack, remove, shift, split
from plonket.document.shot import Shot as Document
from plonket.render.sources import ShotSources
from plonket.track.retarget import retarget
from shots.api import ShotOut, shot_out
from shots.editing import change_shot, document_of, find_shot

router = Router(tags=["operations"])
Id = Annotated[str, Field(max_length=64)]


class Remove(Schema):
    """Take a motion, perch, treatment, layer or look of the finish away, with what cannot be without it."""

    do: Literal["remove"]
    thing: Id


class Duplicate(Schema):
    """A thing once more, before the one that is there."""

    do: Literal["duplicate"]
    thing: Id


class Move(Schema):
    """A layer elsewhere in its own list."""

    do: Literal["move"]
    thing: Id
    before: Id | None = Field(description="The layer that it comes before; none: it is the furthest")


class IntoParcel(Schema):
    """A layer into a parcel."""

    do: Literal["into parcel"]
    thing: Id
    parcel: Id | None = Field(description="Which; none: a new one, shown where the layer was")


class OutOfParcel(Schema):
    """A layer out of its parcel."""

    do: Literal["out of parcel"]
    thing: Id


class Split(Schema):
    """A layer ends before a frame, and another one goes on from there."""

    do: Literal["split"]
    thing: Id
    frame: int = Field(ge=0)


class Shift(Schema):
    """A layer so many frames later, with its keys and its clip."""

    do: Literal["shift"]
    thing: Id
    by: int = Field(ge=-1_000_000, le=1_000_000)


class Retarget(Schema):
    """A placed layer or a perch follows something else from a frame on, and stays where it is in it."""

    do: Literal["retarget"]
    thing: Id
    target: Id | None
    frame: int = Field(ge=0)


Operation = Annotated[
    Remove | Duplicate | Move | IntoParcel | OutOfParcel | Split | Shift | Retarget, Field(discriminator="do")
]


class OperationIn(Schema):
    operation: Operation


class OperationOut(Schema):
    shot: ShotOut
    made: str | None = Field(description="What is new, to be chosen; none: nothing is")


@router.post("/shots/{shot_id}/operations", response=OperationOut)
def operate(request: HttpRequest, shot_id: uuid.UUID, body: OperationIn) -> Any:
    """Change a shot by an operation, as one step that can be undone."""
    asked = body.operation
    made: list[str] = []

    def change(document: Document) -> Document | None:
        del made[:]
        changed, new = done(document, asked)
        if new is not None:
            made.append(new)
        return None if changed is document else changed

    label = labelled(document_of(find_shot(shot_id)), asked)
    shot = change_shot(shot_id, label, change)
    return OperationOut(shot=shot_out(shot), made=made[0] if made else None)


def done(document: Document, asked: Any) -> tuple[Document, str | None]:
    """The document after an operation, and the id of what is new. Raises `BadInput`."""
    match asked:
        case Remove():
            return remove(document, asked.thing), None
        case Duplicate():
            return duplicate(document, asked.thing)
        case Move():
            return move(document, asked.thing, asked.before), None
        case IntoParcel(parcel=str(parcel)):
            return into_parcel(document, asked.thing, parcel), None
        case IntoParcel():
            return pack(document, asked.thing)
        case OutOfParcel():
            return out_of_parcel(document, asked.thing), None
        case Split():
            return split(document, asked.thing, asked.frame)
        case Shift():
            return shift(document, asked.thing, asked.by), None
        case _:
            spaces = ShotSources(document, pool()).spaces
            return retarget(document, asked.thing, asked.target, asked.frame, spaces), None


def labelled(document: Document, asked: Any) -> str:
    """What the operation is called in the list of steps. Raises `BadInput` when what it is about is gone."""
    name = name_of(document, asked.thing)

    def named(other: str | None, without: str, word: Callable[[str], str]) -> str:
        return without if other is None else word(name_of(document, other))

    match asked:
        case Remove():
            return f"Remove {name}"
        case Duplicate():
            return f"{name} once more"
        case Move():
            return f"Move {name}"
        case IntoParcel():
            return named(asked.parcel, f"{name} into a new parcel", lambda other: f"{name} into {other}")
        case OutOfParcel():
            return f"{name} out of its parcel"
        case Split():
            return f"Split {name}"
        case Shift():
            return f"{name} earlier" if asked.by < 0 else f"{name} later"
        case _:
            return named(asked.target, f"{name} stays put", lambda other: f"{name} follows {other}")
