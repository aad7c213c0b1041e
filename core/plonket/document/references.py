"""What refers to what, read off the declarations on the fields: `fields.reference`."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cache
from typing import Annotated, Any, get_args, get_origin

from pydantic import BaseModel

from plonket.base.fields import Reference


@dataclass(frozen=True, slots=True, kw_only=True)
class Referring:
    """One value that names something.

    Attributes
    ----------
    pointer : where it stands in the document (RFC 6901); of a list, its item. id : what it names. declared : on its field.
    owners : the things with an id that hold it, from the outermost in. holder : the settings that the field belongs to.
    """

    pointer: str
    id: str
    declared: Reference
    owners: tuple[Any, ...]
    holder: BaseModel

    @property
    def owner(self) -> str:
        """The owner's name, for messages."""
        names = [one.name for one in self.owners if getattr(one, "name", None)]
        if len(names) > 1 and _is_part(self.owners[-1]):
            return f"{names[-1]} of {names[-2]}"
        return names[-1] if names else "The shot"


def references(model: BaseModel, pointer: str = "", owners: tuple[Any, ...] = ()) -> Iterator[Referring]:
    """Everything that a model and all that is in it name, in the order of the document."""
    if hasattr(model, "id"):
        owners = (*owners, model)
    declared = declarations(type(model))
    for name in type(model).model_fields:
        value, where = getattr(model, name), f"{pointer}/{name}"
        if name in declared:
            yield from _named(value, where, declared[name], owners, model)
        elif isinstance(value, BaseModel):
            yield from references(value, where, owners)
        elif isinstance(value, list) and value and isinstance(value[0], BaseModel):
            for k, item in enumerate(value):
                yield from references(item, f"{where}/{k}", owners)


def renamed(record: Any, found: list[Referring], others: Mapping[str, str]) -> Any:
    """A document's plain values with other names where it names something; `found` is what `references` told of it.

    Changes them in place.
    """
    for one in found:
        if one.id not in others:
            continue
        *way, last = one.pointer.lstrip("/").split("/")
        at = record
        for step in way:
            at = at[int(step)] if isinstance(at, list) else at[step]
        at[int(last) if isinstance(at, list) else last] = one.declared.prefix + others[one.id]
    return record


@cache
def declarations(model: type[BaseModel]) -> dict[str, Reference]:
    """The fields of a model that name something."""
    out = {}
    for name, field in model.model_fields.items():
        found = [*(m for m in field.metadata if isinstance(m, Reference)), *_within(field.annotation)]
        if found:
            out[name] = found[0]
    return out


def _within(annotation: Any) -> Iterator[Reference]:
    """Declarations inside a type, as of `Digest | None`."""
    if get_origin(annotation) is Annotated:
        yield from (m for m in get_args(annotation) if isinstance(m, Reference))
    if get_origin(annotation) is not None and not any(_is_model(a) for a in get_args(annotation)):
        for part in get_args(annotation):
            yield from _within(part)


def _is_model(part: Any) -> bool:
    return isinstance(part, type) and issubclass(part, BaseModel)


def _named(
    value: Any, where: str, declared: Reference, owners: tuple[Any, ...], holder: BaseModel
) -> Iterator[Referring]:
    items = [(f"{where}/{k}", one) for k, one in enumerate(value)] if isinstance(value, list) else [(where, value)]
    for pointer, one in items:
        if isinstance(one, str) and one.startswith(declared.prefix):
            yield Referring(
                pointer=pointer, id=one.removeprefix(declared.prefix), declared=declared, owners=owners, holder=holder
            )  # fmt: skip


def _is_part(owner: Any) -> bool:
    """Whether a thing is only part of another one, and is named together with it: a mask, a region."""
    return hasattr(owner, "mode") or hasattr(owner, "outline")
