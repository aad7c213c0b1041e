"""The single page and its built files."""

from __future__ import annotations

import mimetypes

from django.conf import settings
from django.http import HttpRequest, HttpResponse, HttpResponseBase
from django.middleware.csrf import get_token
from django.views.decorators.http import require_safe


@require_safe
def page(request: HttpRequest) -> HttpResponseBase:
    """The page, with the CSRF cookie it needs to talk to the API."""
    get_token(request)
    index = settings.WEB_DIST / "index.html"
    if not index.exists():
        return HttpResponse("The front end is not built. Run bin/plonket start.", status=503)
    return HttpResponse(
        index.read_bytes(), content_type="text/html; charset=utf-8", headers={"Cache-Control": "no-store"}
    )


@require_safe
def asset_file(request: HttpRequest, name: str) -> HttpResponseBase:
    """Built scripts, styles and fonts; their names hold their hash."""
    path = settings.WEB_DIST / "assets" / name
    if name.startswith(".") or not path.is_file():
        return HttpResponse("Not found.", status=404)
    kind = mimetypes.guess_type(name)[0] or "application/octet-stream"
    return HttpResponse(
        path.read_bytes(), content_type=kind, headers={"Cache-Control": "public, max-age=31536000, immutable"}
    )
