"""What is costly to make, kept for the next time."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Any, Generic, TypeVar

Name = TypeVar("Name", bound=Hashable)
Value = TypeVar("Value")


class Budget:
    """Bytes that several caches share: whatever was used longest ago goes first, in whichever of them it lies."""

    def __init__(self, most_bytes: int) -> None:
        self.most_bytes, self.used = most_bytes, 0
        self._lock = threading.Lock()
        self._sizes: OrderedDict[tuple[int, Hashable], tuple[int, LruCache[Any, Any]]] = OrderedDict()

    def spend(self, cache: LruCache[Any, Any], key: Hashable, size: int) -> None:
        """Count a thing that was just put into a cache, and drop others until all fit."""
        victims: list[tuple[LruCache[Any, Any], Hashable]] = []
        with self._lock:
            self._forget(cache, key)
            self._sizes[id(cache), key] = (size, cache)
            self.used += size
            while self.used > self.most_bytes and len(self._sizes) > 1:
                (_, other), (freed, holder) = self._sizes.popitem(last=False)
                self.used -= freed
                victims.append((holder, other))
        # Outside the lock: caches have locks of their own.
        for holder, other in victims:
            holder.forget(other)

    def touch(self, cache: LruCache[Any, Any], key: Hashable) -> None:
        """It was used."""
        with self._lock:
            if (id(cache), key) in self._sizes:
                self._sizes.move_to_end((id(cache), key))

    def free(self, cache: LruCache[Any, Any], key: Hashable) -> None:
        """It is gone from its cache."""
        with self._lock:
            self._forget(cache, key)

    def _forget(self, cache: LruCache[Any, Any], key: Hashable) -> None:
        size, _ = self._sizes.pop((id(cache), key), (0, cache))
        self.used -= size


def bytes_of(value: Any) -> int:
    """The memory of a thing's arrays: its own, or those that it holds."""
    if hasattr(value, "nbytes"):
        return int(value.nbytes)
    names = vars(value) if hasattr(value, "__dict__") else getattr(type(value), "__slots__", ())
    parts: list[Any] = [getattr(value, name, None) for name in names]
    return sum(int(part.nbytes) for part in parts if hasattr(part, "nbytes"))


class LruCache(Generic[Name, Value]):
    """A small thread-safe cache of things that are costly to make; the least recently used go first.

    With a `budget`, things go too when they and those of other caches take more memory than it allows.
    """

    def __init__(
        self, make: Callable[[Name], Value], room: int, drop: Callable[[Value], None] | None = None,
        budget: Budget | None = None,
    ) -> None:  # fmt: skip
        self._make, self._room, self._drop, self._budget = make, room, drop, budget
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
                found = self._items[key]
                making = None
            else:
                making = self._making.setdefault(key, threading.RLock())
        if making is None:
            if self._budget:
                self._budget.touch(self, key)
            return found
        # Only who wants the same thing waits while it is made.
        with making:
            with self._lock:
                if key in self._items:
                    return self._items[key]
            made = make() if make else self._make(key)
        self._put(key, made)
        return made

    def _put(self, key: Name, made: Value) -> None:
        gone = []
        with self._lock:
            self._making.pop(key, None)
            self._items[key] = made
            while len(self._items) > self._room:
                name, old = self._items.popitem(last=False)
                gone.append(name)
                if self._drop:
                    self._drop(old)
        if self._budget:
            for name in gone:
                self._budget.free(self, name)
            self._budget.spend(self, key, bytes_of(made))

    def forget(self, key: Name) -> None:
        """Let a thing go, if it is there."""
        with self._lock:
            if key in self._items:
                old = self._items.pop(key)
                if self._drop:
                    self._drop(old)

    def clear(self) -> None:
        with self._lock:
            names = list(self._items)
            for value in self._items.values():
                if self._drop:
                    self._drop(value)
            self._items.clear()
        if self._budget:
            for name in names:
                self._budget.free(self, name)
