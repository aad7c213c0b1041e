"""The finished file: to download, and for the page's player."""

from __future__ import annotations

import mimetypes
import uuid

from django.http import HttpRequest, HttpResponseBase
from django.views.decorators.http import require_safe

from deliveries.models import Delivery
from plonket_server.ranges import ranged_file

TYPES = {".mov": "video/quicktime", ".mkv": "video/x-matroska", ".webp": "image/webp", ".wav": "audio/wav"}


@require_safe
def delivery_file(request: HttpRequest, delivery_id: uuid.UUID) -> HttpResponseBase:
    """The file; ``?download`` makes the browser save it under its name."""
    found = Delivery.objects.filter(pk=delivery_id).first()
    if found is None:
        return ranged_file(request, None, "")
    content = TYPES.get(found.ending) or mimetypes.guess_type(f"x{found.ending}")[0] or "application/octet-stream"
    return ranged_file(request, found.path, content, download_as=found.file if "download" in request.GET else None)
