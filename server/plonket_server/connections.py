"""Database connections of threads that live on."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

from asgiref.sync import sync_to_async
from django.db import connections

Result = TypeVar("Result")


def let_go() -> None:
    """Close this thread's connections, unless it is inside a transaction.

    Django closes those of requests. Threads of a pool keep theirs, and after the database's idle limit the next query fails.
    """
    for one in connections.all(initialized_only=True):
        if not one.in_atomic_block:
            one.close()


async def in_thread(make: Callable[[], Result]) -> Result:
    """Wait for something that takes its time in a thread of its own, so that nothing else waits for it."""

    def made() -> Result:
        try:
            return make()
        finally:
            let_go()

    return await sync_to_async(made, thread_sensitive=False)()
