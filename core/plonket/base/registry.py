"""Registries: the one place where a motion or layer kind is announced.

A kind is one file: a settings model (pydantic; ranges, units, labels in its fields) and a function.
From its entry come validation, the API schema, the Details form and the command line.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from pydantic import BaseModel
from pydantic.fields import FieldInfo

from plonket.base.errors import BadInput

Run = TypeVar("Run", bound=Callable[..., Any])


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry(Generic[Run]):
    """A registered kind: its stable name, label, one line of help, settings model and function."""

    kind: str
    label: str
    help: str
    settings: type[BaseModel]
    run: Run


class Registry(Generic[Run]):
    """Kinds of one sort of thing, in the order in which they were added."""

    def __init__(self, noun: str) -> None:
        self.noun = noun
        self._entries: dict[str, Entry[Run]] = {}

    def add(self, entry: Entry[Run]) -> None:
        """Announce a kind. Its settings model must have a ``kind`` field with that name as default."""
        if entry.kind in self._entries:
            raise ValueError(f"The {self.noun} {entry.kind!r} is registered twice.")
        field: FieldInfo | None = entry.settings.model_fields.get("kind")
        if field is None or field.default != entry.kind:
            raise ValueError(f"The settings of {self.noun} {entry.kind!r} need kind = {entry.kind!r}.")
        self._entries[entry.kind] = entry

    def get(self, kind: str) -> Entry[Run]:
        if kind not in self._entries:
            known = ", ".join(self._entries)
            raise BadInput("registry.unknown", f"There is no {self.noun} called {kind!r}. Known: {known}.")
        return self._entries[kind]

    def __iter__(self) -> Iterator[Entry[Run]]:
        return iter(self._entries.values())
