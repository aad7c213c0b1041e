"""The single page and its built files."""

from __future__ import annotations

from django.conf import settings
from django.http import FileResponse, HttpRequest, HttpResponse, HttpResponseBase
from django.middleware.csrf import get_token
from django.views.decorators.http import require_safe
from django.views.static import serve


@require_safe
def page(request: HttpRequest) -> HttpResponseBase:
    """The page, with the CSRF cookie it needs to talk to the API."""
    get_token(request)
    index = settings.WEB_DIST / "index.html"
    if not index.exists():
        return HttpResponse("The front end is not built. Run bin/plonket start.", status=503)
    response = FileResponse(index.open("rb"), content_type="text/html; charset=utf-8")
    response["Cache-Control"] = "no-store"
    return response


@require_safe
def asset_file(request: HttpRequest, name: str) -> HttpResponseBase:
    """Built scripts, styles and fonts; their names hold their hash."""
    response = serve(request, name, document_root=str(settings.WEB_DIST / "assets"))
    response["Cache-Control"] = "public, max-age=31536000, immutable"
    return response
