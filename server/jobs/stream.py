"""Server-sent events: jobs, partial results and changes, as they happen."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator

from django.http import HttpRequest, HttpResponse, StreamingHttpResponse

from jobs.models import Event

EVERY_S = 0.12
PULSE_S = 12.0


async def events(request: HttpRequest) -> HttpResponse | StreamingHttpResponse:
    """Events from now on, or from ``Last-Event-ID`` after a dropped connection."""
    if request.method != "GET":
        return HttpResponse(status=405)
    last = request.headers.get("Last-Event-ID", "")
    if last.isdigit():
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
    quiet = 0.0
    while True:
        fresh = [e async for e in Event.objects.filter(pk__gt=last).order_by("pk")[:500]]
        for event in fresh:
            last = max(last, event.pk)
            yield f"id: {event.pk}\nevent: {event.kind}\ndata: {json.dumps(event.data)}\n\n"
        quiet = 0.0 if fresh else quiet + EVERY_S
        if quiet >= PULSE_S:
            quiet = 0.0
            yield ": still here\n\n"
        await asyncio.sleep(EVERY_S)
