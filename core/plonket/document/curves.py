"""The numbers of a thing that move, by where they stand in it; and the same thing with other ones."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from pydantic import BaseModel

from plonket.base.errors import BadInput
from plonket.base.fields import Keyed, Number, Wobbling
from plonket.document.shot import Shot, read_shot

LISTS = ("stack", "plate", "perches", "motions", "frames")
FINISH, FOOTAGE = "finish", "footage"
"""What stands for the looks over all and for the plate, where else an id does."""


def moving_numbers(shot: Shot, owner: str) -> dict[str, Keyed | Wobbling]:
    """The numbers of a thing that have keys or wobble, by their place in it, such as ``looks/0/amount``.

    `owner` : the id of a layer, treatment, perch, motion or delivery frame; ``finish``; ``footage``. Raises `BadInput`.
    """
    return dict(_moving(_owner(shot, owner), ""))


def with_curves(shot: Shot, owner: str, curves: Mapping[str, Number]) -> Shot:
    """The shot with other values for numbers of a thing; one that wobbles goes on wobbling about keys that are set.

    Raises `BadInput` in words for a place that is no number of the thing, and for values beyond its range.
    """
    document = shot.model_dump(mode="json")
    place = _owner_in(document, owner)
    for path, value in curves.items():
        steps = path.split("/")
        holder = place
        for step in steps[:-1]:
            holder = _below(holder, step, path)
        last = steps[-1]
        now = _below(holder, last, path)
        moves = isinstance(now, dict) and ("keys" in now or "wobble" in now)
        if not moves and (not isinstance(now, int | float) or isinstance(now, bool)):
            raise _strange(path)
        made: Any = value.model_dump(mode="json") if isinstance(value, BaseModel) else float(value)
        if isinstance(now, dict) and "wobble" in now and isinstance(value, Keyed):
            made = now | {"base": made}
        if isinstance(holder, list):
            holder[int(last)] = made
        else:
            holder[last] = made
    return read_shot(document)


def _moving(thing: Any, path: str) -> Iterator[tuple[str, Keyed | Wobbling]]:
    if isinstance(thing, Keyed | Wobbling):
        yield path[1:], thing
    elif isinstance(thing, BaseModel):
        for name in type(thing).model_fields:
            yield from _moving(getattr(thing, name), f"{path}/{name}")
    elif isinstance(thing, list | dict):
        parts: list[tuple[Any, Any]] = list(thing.items()) if isinstance(thing, dict) else list(enumerate(thing))
        for place, one in parts:
            yield from _moving(one, f"{path}/{place}")


def _owner(shot: Shot, owner: str) -> Any:
    if owner == FINISH:
        return {"looks": list(shot.finish)}
    if owner == FOOTAGE:
        return {"footage": shot.footage, "sound": shot.sound}
    for things in (*(getattr(shot, name) for name in LISTS), *(parcel.stack for parcel in shot.parcels)):
        for one in things:
            if one.id == owner:
                return one
    raise BadInput("curves.thing", "This is not there any more.")


def _owner_in(document: dict[str, Any], owner: str) -> Any:
    """The same in a stored document."""
    if owner == FINISH:
        return {"looks": document["finish"]}
    if owner == FOOTAGE:
        return {"footage": document["footage"], "sound": document["sound"]}
    for things in (*(document[name] for name in LISTS), *(parcel["stack"] for parcel in document["parcels"])):
        for one in things:
            if one["id"] == owner:
                return one
    raise BadInput("curves.thing", "This is not there any more.")


def _below(holder: Any, step: str, path: str) -> Any:
    try:
        return holder[int(step)] if isinstance(holder, list) else holder[step]
    except (KeyError, IndexError, ValueError, TypeError) as error:
        raise _strange(path) from error


def _strange(path: str) -> BadInput:
    return BadInput("curves.path", f"There is no number {path[:120]} here.")
