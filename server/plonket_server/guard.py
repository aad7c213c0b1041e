"""Keeps other web pages, and other machines' names, from driving this server."""

from __future__ import annotations

from collections.abc import Callable
from urllib.parse import urlsplit

from django.conf import settings
from django.http import HttpRequest, HttpResponseBase, JsonResponse
from django.middleware.csrf import CsrfViewMiddleware

POLICY = (
    "default-src 'self'; img-src 'self' blob: data:; media-src 'self' blob:; style-src 'self' 'unsafe-inline';"
    " frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
)


def refused(message: str) -> JsonResponse:
    return JsonResponse({"code": "guard.refused", "message": message, "details": {}}, status=403)


class OnlyThisPage:
    """Host must be this computer's loopback (against DNS rebinding); Origin must be this page."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        host = request.META.get("HTTP_HOST", "")
        name = host.rsplit(":", 1)[0] if ":" in host else host
        if name not in settings.ALLOWED_HOSTS:
            return refused("This server answers only on this computer's own address.")
        origin = request.META.get("HTTP_ORIGIN")
        if origin is not None and urlsplit(origin).netloc != host:
            return refused("A page from elsewhere asked for this. Open Plonket's own page.")
        site = request.META.get("HTTP_SEC_FETCH_SITE", "same-origin")
        if site not in ("same-origin", "none") and request.path.startswith("/api/"):
            return refused("A page from elsewhere asked for this. Open Plonket's own page.")
        response = self.get_response(request)
        response["Content-Security-Policy"] = POLICY
        response["X-Content-Type-Options"] = "nosniff"
        response["X-Frame-Options"] = "DENY"
        response["Referrer-Policy"] = "same-origin"
        response["Cross-Origin-Resource-Policy"] = "same-origin"
        return response


class CsrfEverywhere(CsrfViewMiddleware):
    """Django's CSRF check on every unsafe request, API views included."""

    def process_view(self, request, callback, callback_args, callback_kwargs):  # type: ignore[no-untyped-def]
        # API frameworks mark their views exempt because they expect tokens; ours has cookies only.
        return super().process_view(request, _never_exempt, callback_args, callback_kwargs)

    def _reject(self, request, reason):  # type: ignore[no-untyped-def]
        return refused("The page is out of date or was opened elsewhere. Reload it and try again.")


def _never_exempt() -> HttpResponseBase:
    """Stands in for the view, so that no exemption is found on it."""
    raise NotImplementedError
