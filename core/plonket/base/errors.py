"""The errors the core raises.

Every message names the thing, says what was found and what to try. Code that has no usable answer
raises one of these; a usable but poor answer is a status in a result instead.
"""

from __future__ import annotations

from typing import Any


class PlonketError(Exception):
    """Base of all errors meant for the creator.

    Parameters
    ----------
    code : str
        Stable, machine-readable name, such as ``"media.unreadable"``.
    message : str
        What happened and what to try, for a person.
    details : dict, optional
        Values behind the message, JSON-serialisable.
    """

    def __init__(self, code: str, message: str, details: dict[str, Any] | None = None) -> None:
        super().__init__(message)
        self.code = code
        self.message = message
        self.details = details or {}

    def __reduce__(self) -> tuple[Any, ...]:
        # Exceptions are rebuilt from their one message; ours have more, and kinds of their own to build them.
        return _rebuilt, (type(self), self.code, self.message, self.details)


def _rebuilt(kind: type[PlonketError], code: str, message: str, details: dict[str, Any]) -> PlonketError:
    error = kind.__new__(kind)
    PlonketError.__init__(error, code, message, details)
    return error


class BadInput(PlonketError):
    """A value given by the creator cannot be used."""


class MediaError(PlonketError):
    """A file cannot be read, decoded or written as media."""


class FormatError(PlonketError):
    """A data file (CSV, JSON, ...) does not have the shape it should have."""


class Degenerate(PlonketError):
    """The picture does not hold enough information for the measurement asked for."""


class Cancelled(PlonketError):
    """The creator stopped the work."""

    def __init__(self) -> None:
        super().__init__("cancelled", "Stopped.")
