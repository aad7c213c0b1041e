"""The finished file: to download, and for the page's player."""

from __future__ import annotations

import re
import uuid

from django.http import HttpRequest, HttpResponseBase
from django.views.decorators.http import require_safe

from deliveries.models import Delivery
from plonket_server.ranges import ranged_file


@require_safe
def delivery_file(request: HttpRequest, delivery_id: uuid.UUID) -> HttpResponseBase:
    """The video; ``?download`` makes the browser save it under the shot's name."""
    found = Delivery.objects.filter(pk=delivery_id).first()
    path = found.path if found else None
    name = None
    if found and "download" in request.GET:
        name = re.sub(r"[^\w. -]+", "", found.name).strip() or "shot"
        name = f"{name}{found.ending}"
    return ranged_file(request, path, "video/quicktime" if found and found.ending == ".mov" else "video/mp4", download_as=name)
