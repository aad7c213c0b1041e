"""Files with byte ranges (RFC 9110, 14), so that players can seek."""

from __future__ import annotations

import asyncio
import re
from collections.abc import AsyncIterator
from pathlib import Path

from django.http import HttpRequest, HttpResponse, HttpResponseBase, JsonResponse, StreamingHttpResponse
from django.utils.http import content_disposition_header

_RANGE = re.compile(r"^bytes=([0-9]{0,18})-([0-9]{0,18})$")


def ranged_file(
    request: HttpRequest, path: Path | None, content_type: str, *, download_as: str | None = None, immutable: bool = False
) -> HttpResponseBase:
    """The file, or the range of it asked for."""
    if path is None or not path.exists():
        return JsonResponse({"code": "not_found", "message": "This file is not here.", "details": {}}, status=404)
    size = path.stat().st_size
    asked = _RANGE.match(request.headers.get("Range", ""))
    start, stop, status = 0, size, 200
    if asked and (asked[1] or asked[2]):
        start = int(asked[1]) if asked[1] else max(0, size - int(asked[2]))
        stop = min(int(asked[2]) + 1 if asked[1] and asked[2] else size, size)
        if start >= stop:
            return HttpResponse(status=416, headers={"Content-Range": f"bytes */{size}"})
        status = 206
    # Read asynchronously: a plain file response would be taken into memory whole under ASGI.
    response = StreamingHttpResponse(_pieces(path, start, stop), status=status, content_type=content_type)
    if status == 206:
        response["Content-Range"] = f"bytes {start}-{stop - 1}/{size}"
    response["Content-Length"] = str(stop - start)
    response["Accept-Ranges"] = "bytes"
    response["Cache-Control"] = "private, max-age=31536000, immutable" if immutable else "private, no-cache"
    if download_as:
        response["Content-Disposition"] = content_disposition_header(True, download_as) or "attachment"
    return response


async def _pieces(path: Path, start: int, stop: int) -> AsyncIterator[bytes]:
    with path.open("rb") as f:
        f.seek(start)
        left = stop - start
        while left > 0 and (piece := await asyncio.to_thread(f.read, min(left, 1 << 19))):
            left -= len(piece)
            yield piece
