"""Server-sent events: jobs, partial results and changes, as they happen."""

from __future__ import annotations

import asyncio
import json
import re
import time
from collections.abc import AsyncIterator

from django.db.models import Q
from django.http import HttpRequest, HttpResponse, StreamingHttpResponse

from jobs.models import Event

EVERY_S = 0.12
PULSE_S = 12.0
LATE_S = 5.0
"""For so long an event is waited for whose id was given before one that is there."""
MOST = 500


async def events(request: HttpRequest) -> HttpResponse | StreamingHttpResponse:
    """Events from now on, or from ``Last-Event-ID`` after a dropped connection."""
    if request.method != "GET":
        return HttpResponse(status=405)
    last = request.headers.get("Last-Event-ID", "")
    if re.fullmatch(r"[0-9]{1,18}", last):
        start = int(last)
    else:
        newest = await Event.objects.order_by("-pk").afirst()
        start = newest.pk if newest else 0
    response = StreamingHttpResponse(_stream(start), content_type="text/event-stream")
    response["Cache-Control"] = "no-store"
    response["X-Accel-Buffering"] = "no"
    return response


async def _stream(last: int) -> AsyncIterator[str]:
    yield f"retry: 1000\nid: {last}\nevent: hello\ndata: {{}}\n\n"
    reader = Reader(last)
    quiet = 0.0
    while True:
        fresh = await reader.fresh()
        for event in fresh:
            # A late one does not take the reader back.
            last = max(last, event.pk)
            yield f"id: {last}\nevent: {event.kind}\ndata: {json.dumps(event.data)}\n\n"
        quiet = 0.0 if fresh else quiet + EVERY_S
        if quiet >= PULSE_S:
            quiet = 0.0
            yield ": still here\n\n"
        await asyncio.sleep(EVERY_S)


class Reader:
    """Reads events in the order of their ids, and those that were committed after one with a later id.

    Ids are given when a row is written and seen when its transaction ends: for a while a missing one may still appear.
    """

    def __init__(self, last: int) -> None:
        self.last = last
        self._missing: dict[int, float] = {}

    async def fresh(self) -> list[Event]:
        """What has come since it was asked last."""
        now = time.monotonic()
        self._missing = {pk: since for pk, since in self._missing.items() if now - since < LATE_S}
        wanted = Q(pk__gt=self.last) | Q(pk__in=list(self._missing))
        found = [event async for event in Event.objects.filter(wanted).order_by("pk")[:MOST]]
        for event in found:
            self._missing.pop(event.pk, None)
            if event.pk > self.last:
                # A jump over thousands is a table that was cleared, not a row on its way.
                gap = range(max(self.last + 1, event.pk - MOST), event.pk) if self.last else range(0)
                self._missing |= dict.fromkeys(gap, now)
                self.last = event.pk
        return found
