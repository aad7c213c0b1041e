"""Keeps other web pages, and other machines' names, from driving this server."""

from __future__ import annotations

import json
import re
from collections.abc import Awaitable, Callable
from typing import Any
from urllib.parse import urlsplit

from django.conf import settings
from django.http import HttpRequest, HttpResponseBase, JsonResponse
from django.middleware.csrf import CsrfViewMiddleware

POLICY = (
    "default-src 'self'; img-src 'self' blob: data:; media-src 'self' blob:; style-src 'self' 'unsafe-inline';"
    " frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
)


ELSEWHERE = "A page from elsewhere asked for this. Open Plonket's own page."
TOO_LARGE = "This is larger than anything that is sent at once."
MOST_BODY = 64 * 1024**2
Receive = Callable[[], Awaitable[dict[str, Any]]]
Send = Callable[[dict[str, Any]], Awaitable[None]]


def _netloc(origin: str) -> str | None:
    try:
        return urlsplit(origin).netloc
    except ValueError:  # of a broken IPv6 address
        return None


def refused(message: str) -> JsonResponse:
    return JsonResponse({"code": "guard.refused", "message": message, "details": {}}, status=403)


def verdict(host: str, origin: str | None, site: str, path: str) -> str:
    """Why a request is refused; empty when it may go on.

    Host must be this computer's loopback (against DNS rebinding); Origin and Sec-Fetch-Site must be this page's.
    """
    name = host.rsplit(":", 1)[0] if ":" in host else host
    if name not in settings.ALLOWED_HOSTS:
        return "This server answers only on this computer's own address."
    if origin is not None and _netloc(origin) != host:
        return ELSEWHERE
    return ELSEWHERE if site not in ("same-origin", "none") and path.startswith("/api/") else ""


class OnlyThisPage:
    """Refuses what other pages ask for, and sends the headers that keep this one by itself."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponseBase]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponseBase:
        why = verdict(
            request.META.get("HTTP_HOST", ""), request.META.get("HTTP_ORIGIN"),
            request.META.get("HTTP_SEC_FETCH_SITE", "same-origin"), request.path,
        )  # fmt: skip
        if why:
            return refused(why)
        response = self.get_response(request)
        response["Content-Security-Policy"] = POLICY
        response["X-Content-Type-Options"] = "nosniff"
        response["X-Frame-Options"] = "DENY"
        response["Referrer-Policy"] = "same-origin"
        response["Cross-Origin-Resource-Policy"] = "same-origin"
        return response


class Gate:
    """Before Django, which reads a body whole before anything looks at the request: refuses without reading.

    What comes from elsewhere, what is larger than `MOST_BODY`, and websockets, of which there are none.
    """

    def __init__(self, app: Any) -> None:
        self.app = app

    async def __call__(self, scope: dict[str, Any], receive: Receive, send: Send) -> None:
        if scope["type"] == "websocket":
            await receive()
            await send({"type": "websocket.close", "code": 1008})
            return
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = {name.decode("latin-1").lower(): value.decode("latin-1") for name, value in scope["headers"]}
        site = headers.get("sec-fetch-site", "same-origin")
        if why := verdict(headers.get("host", ""), headers.get("origin"), site, scope["path"]):
            await _answer(send, 403, "guard.refused", why)
            return
        length = headers.get("content-length", "0")
        if not re.fullmatch(r"[0-9]{1,18}", length) or int(length) > MOST_BODY:
            await _answer(send, 413, "guard.size", TOO_LARGE)
            return
        await self.app(scope, _counted(receive), send)


def _counted(receive: Receive) -> Receive:
    """A body of unknown length breaks off where it becomes too large."""
    got = 0

    async def receive_some() -> dict[str, Any]:
        nonlocal got
        message = await receive()
        got += len(message.get("body", b""))
        return {"type": "http.disconnect"} if got > MOST_BODY else message

    return receive_some


async def _answer(send: Send, status: int, code: str, message: str) -> None:
    body = json.dumps({"code": code, "message": message, "details": {}}).encode()
    headers = [(b"content-type", b"application/json"), (b"content-length", str(len(body)).encode()),
               (b"connection", b"close")]  # fmt: skip
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": body})


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
