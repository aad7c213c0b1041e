"""Registries: the one place where kinds of things are announced.

A kind is one file: a settings model (pydantic; ranges, units, labels in its fields), a function, and an entry. From its entry
come validation, the API schema, the Details form, its card and its handles, and the command line.
"""

from __future__ import annotations

import importlib
import importlib.util
import pkgutil
import threading
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, Generic, TypeVar

from pydantic import BaseModel
from pydantic_core import PydanticCustomError, core_schema

from plonket.base.errors import BadInput
from plonket.base.fields import When


@dataclass(frozen=True, slots=True, kw_only=True)
class Announced:
    """What has a place in a registry.

    Attributes
    ----------
    kind : its stable name. label : on screen. help : one line. order : where it stands in menus.
    """

    kind: str
    label: str
    help: str = ""
    order: int = 1000


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry(Announced):
    """A registered kind of something in documents.

    Attributes
    ----------
    settings : its model. run : its function.
    groups : of its fields, in the order in which Details shows them, some only when something is set; none: all of them.
    card : what its card calls it. says : the line under its title. Both may differ by what is set: the key ``field=value``,
        the value as in JSON (nothing for an empty list), holds where the field has it, the key ``""`` else; ``{field}``
        stands for a value, or for how many there are.
    handles : what it is taken hold of by on the picture; none: by nothing.
    traits : what it has and can; `plonket.document.kinds` lists them.
    """

    settings: type[BaseModel]
    run: Callable[..., Any]
    groups: tuple[str | tuple[str, When], ...] = ()
    card: Mapping[str, str] = field(default_factory=dict)
    says: Mapping[str, str] = field(default_factory=dict)
    handles: str = ""
    traits: frozenset[str] = frozenset()


E = TypeVar("E", bound=Announced)


class Registry(Generic[E]):
    """Kinds of one sort of thing, in their order.

    Parameters
    ----------
    noun : what one is called in messages. packages : those whose modules announce kinds, loaded when the first is asked for.
    """

    def __init__(self, noun: str, *packages: str) -> None:
        self.noun, self.packages = noun, packages
        self._entries: dict[str, E] = {}
        self._loaded = not packages
        self._lock = threading.RLock()

    def add(self, entry: E) -> None:
        """Announce a kind. A settings model must have a ``kind`` field with that name as default."""
        if entry.kind in self._entries:
            raise ValueError(f"The {self.noun} {entry.kind!r} is registered twice.")
        found = entry.settings.model_fields.get("kind") if isinstance(entry, Entry) else None
        if isinstance(entry, Entry) and (found is None or found.default != entry.kind):
            raise ValueError(f"The settings of {self.noun} {entry.kind!r} need kind = {entry.kind!r}.")
        self._entries[entry.kind] = entry

    def remove(self, kind: str) -> None:
        """Take a kind back, as tests do."""
        del self._entries[kind]

    def get(self, kind: str) -> E:
        """The entry of a kind. Raises `BadInput`."""
        self._load()
        if kind not in self._entries:
            raise BadInput("registry.unknown", f"There is no {self.noun} called {kind!r}. Known: {', '.join(self.kinds())}.")
        return self._entries[kind]

    def find(self, kind: Any) -> E | None:
        """The entry of a kind, or None."""
        self._load()
        return self._entries.get(kind) if isinstance(kind, str) else None

    def of(self, settings: BaseModel) -> E:
        """The entry that settings belong to."""
        return self.get(settings.kind)  # type: ignore[attr-defined]

    def kinds(self) -> list[str]:
        """Their names, in their order."""
        return [entry.kind for entry in self]

    def __iter__(self) -> Iterator[E]:
        self._load()
        return iter(sorted(self._entries.values(), key=lambda entry: entry.order))

    def _load(self) -> None:
        """Import every module of the packages once, and what folders in it announce in their ``kind`` modules."""
        if self._loaded:
            return
        with self._lock:
            if self._loaded:
                return
            for package in self.packages:
                home = importlib.import_module(package)
                for module in pkgutil.iter_modules(home.__path__, f"{package}."):
                    if not module.ispkg:
                        importlib.import_module(module.name)
                    elif importlib.util.find_spec(f"{module.name}.kind") is not None:
                        importlib.import_module(f"{module.name}.kind")
            self._loaded = True


class OneOf:
    """In `Annotated`: a value is the settings of one of a registry's kinds, told by ``kind``."""

    def __init__(self, registry: Registry[Any]) -> None:
        self.registry = registry

    def __get_pydantic_core_schema__(self, source: Any, handler: Any) -> core_schema.CoreSchema:
        return core_schema.with_info_plain_validator_function(self._read)

    def __get_pydantic_json_schema__(self, schema: core_schema.CoreSchema, handler: Any) -> dict[str, Any]:
        choices: dict[Any, core_schema.CoreSchema] = {
            entry.kind: entry.settings.__pydantic_core_schema__ for entry in self.registry
        }
        return dict(handler(core_schema.tagged_union_schema(choices, "kind")))

    def _read(self, value: Any, info: core_schema.ValidationInfo) -> BaseModel:
        kind = value.get("kind") if isinstance(value, dict) else getattr(value, "kind", None)
        entry = self.registry.find(kind)
        if entry is None:
            known = ", ".join(self.registry.kinds())
            raise PydanticCustomError(
                "kind", "there is no {noun} called {kind}; known: {known}",
                {"noun": self.registry.noun, "kind": repr(kind)[:60], "known": known},
            )  # fmt: skip
        return entry.settings.model_validate(value, context=info.context)
