"""Errors that only the server has."""

from __future__ import annotations

from plonket.base.errors import BadInput


class NotHere(BadInput):
    """Something asked for by id does not exist."""

    def __init__(self, noun: str) -> None:
        super().__init__("not_found", f"This {noun} is not here. It may have been removed.")


class Conflict(BadInput):
    """The thing has changed in between."""
