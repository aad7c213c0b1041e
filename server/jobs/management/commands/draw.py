"""The drawing process: orders come in, what was drawn goes out, over pipes. It ends with whoever started it."""

from __future__ import annotations

import logging
import os
import sys
import threading
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from django.core.management.base import BaseCommand

from plonket.base.errors import PlonketError
from plonket.raytrace.worker import read_message, write_message
from plonket_server.connections import let_go

AT_ONCE = max(3, (os.cpu_count() or 2) + 1)
log = logging.getLogger(__name__)


class Command(BaseCommand):
    help = __doc__ or ""

    def handle(self, *args: Any, **options: Any) -> None:
        # What libraries print must not get among the messages.
        out = os.fdopen(os.dup(1), "wb")
        os.dup2(2, 1)
        writing = threading.Lock()

        def answer(number: int, function: Any, arguments: tuple[Any, ...]) -> None:
            kind, what = _called(function, arguments)
            with writing:
                write_message(out, (number, kind, what))

        threads = ThreadPoolExecutor(AT_ONCE)
        while (order := read_message(sys.stdin.buffer)) is not None:
            threads.submit(answer, *order)
        # Nobody waits any more for what is still being drawn.
        os._exit(0)


def _called(function: Any, arguments: tuple[Any, ...]) -> tuple[str, Any]:
    try:
        return "done", function(*arguments)
    except PlonketError as error:
        return "refused", error
    except Exception as error:
        log.exception("A picture could not be drawn")
        return "failed", repr(error)
    finally:
        let_go()
