"""The finished file: to download, and for the page's player."""

from __future__ import annotations

import re
import uuid

from django.http import HttpRequest, HttpResponseBase
from django.views.decorators.http import require_safe

from deliveries.models import Delivery
from plonket_server import store
from plonket_server.ranges import ranged_file


@require_safe
def delivery_file(request: HttpRequest, delivery_id: uuid.UUID) -> HttpResponseBase:
    """The MP4; ``?download`` makes the browser save it under the shot's name."""
    found = Delivery.objects.filter(pk=delivery_id).first()
    path = store.delivery_folder(found.folder) / "finished.mp4" if found else None
    name = None
    if found and "download" in request.GET:
        name = re.sub(r"[^\w. -]+", "", found.name).strip() or "shot"
        name = f"{name}.mp4"
    return ranged_file(request, path, "video/mp4", download_as=name)
