"""Telling open pages what has happened."""

from __future__ import annotations

from typing import Any

from django.db import transaction

from jobs.models import Event


def tell(kind: str, data: dict[str, Any]) -> None:
    """Record an event; every open page hears it within a fraction of a second.

    It is written after the surrounding transaction, so that ids appear in the order of commits and
    a stream that reads on from the last id misses none.
    """
    transaction.on_commit(lambda: Event.objects.create(kind=kind, data=data))
