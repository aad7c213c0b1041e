"""What is costly to make, kept for the next time."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Generic, TypeVar

Name = TypeVar("Name", bound=Hashable)
Value = TypeVar("Value")


class Kept(Generic[Name, Value]):
    """A small thread-safe cache of things that are costly to make; the least recently used go first."""

    def __init__(
        self, make: Callable[[Name], Value], room: int, drop: Callable[[Value], None] | None = None
    ) -> None:
        self._make, self._room, self._drop = make, room, drop
        self._lock = threading.RLock()
        self._items: OrderedDict[Name, Value] = OrderedDict()
        self._making: dict[Name, threading.RLock] = {}

    def has(self, key: Name) -> bool:
        with self._lock:
            return key in self._items

    def get(self, key: Name, make: Callable[[], Value] | None = None) -> Value:
        with self._lock:
            if key in self._items:
                self._items.move_to_end(key)
                return self._items[key]
            making = self._making.setdefault(key, threading.RLock())
        # Only who wants the same thing waits while it is made.
        with making:
            with self._lock:
                if key in self._items:
                    return self._items[key]
            made = make() if make else self._make(key)
        with self._lock:
            self._making.pop(key, None)
            self._items[key] = made
            while len(self._items) > self._room:
                _, old = self._items.popitem(last=False)
                if self._drop:
                    self._drop(old)
            return made

    def clear(self) -> None:
        with self._lock:
            for value in self._items.values():
                if self._drop:
                    self._drop(value)
            self._items.clear()
