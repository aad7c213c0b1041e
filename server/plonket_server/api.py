"""The API: every app's router, and one table from the core's errors to HTTP."""

from __future__ import annotations

import json
import re
from typing import Any, NoReturn

from django.http import HttpRequest, HttpResponse
from ninja import NinjaAPI
from ninja.errors import HttpError, ValidationError
from ninja.parser import Parser
from pydantic import TypeAdapter

from deliveries.api import router as deliveries
from jobs.api import router as jobs
from library.api import router as library
from packs.api import router as packs
from plonket.base.errors import BadInput, Cancelled, Degenerate, FormatError, MediaError, PlonketError
from plonket.document.shot import Shot as Document
from plonket_server.problems import Conflict, NotHere
from shots.api import STANDS_FOR_DOCUMENT
from shots.api import router as shots
from shots.checks import router as checks
from shots.curves import router as curves
from shots.depths import router as depths
from shots.exchange import router as exchange
from shots.footage import router as footage
from shots.forms import router as forms
from shots.keys import router as keys
from shots.lighting import router as lighting
from shots.likeness import router as likeness
from shots.masks import router as masks
from shots.mattes import router as mattes
from shots.motions import router as motions
from shots.operations import router as operations
from shots.plate import router as plate
from shots.rooms import router as rooms
from shots.sound import router as sound
from shots.spaces import router as spaces
from shots.time import router as time

STATUS: list[tuple[type[PlonketError], int]] = [
    (NotHere, 404),
    (Conflict, 409),
    (Degenerate, 422),
    (MediaError, 422),
    (FormatError, 422),
    (BadInput, 400),
    (Cancelled, 409),
]


def _no_number(name: str) -> NoReturn:
    raise ValueError(f"{name} is no number")


MOST_DEPTH = 64
"""Of lists and objects within each other; a shot has about fifteen."""
_NO_NUMBER = re.compile(r"[-+]?(nan|inf|infinity)", re.IGNORECASE)


class StrictParser(Parser):
    """JSON as it is defined: Python's own reader takes NaN and Infinity as well, which no picture has. Nor has a query."""

    def parse_body(self, request: HttpRequest) -> Any:
        try:
            body = json.loads(request.body, parse_constant=_no_number)
        except RecursionError:
            raise ValueError("it is nested too deeply") from None
        _check_depth(body)
        return body

    def parse_querydict(self, data: Any, list_fields: list[str], request: HttpRequest) -> Any:
        for values in data.lists():
            if any(_NO_NUMBER.fullmatch(value.strip()) for value in values[1]):
                raise HttpError(400, f"{values[0]} is no number")
        return super().parse_querydict(data, list_fields, request)


def _check_depth(body: Any) -> None:
    """Raise `ValueError` for what is nested so deeply that functions that walk through it would not come back."""
    level, depth = [body], 0
    while level:
        depth += 1
        if depth > MOST_DEPTH:
            raise ValueError("it is nested too deeply")
        inner = [one.values() if isinstance(one, dict) else one for one in level if isinstance(one, dict | list)]
        level = [value for values in inner for value in values]


class PlonketAPI(NinjaAPI):
    """Ninja's, whose schema knows the shot document."""

    def get_openapi_schema(self, **options: Any) -> Any:
        schema = super().get_openapi_schema(**options)
        parts: dict[str, Any] = schema["components"]["schemas"]
        document = TypeAdapter(Document).json_schema(ref_template="#/components/schemas/{model}", mode="serialization")
        parts |= document.pop("$defs")
        parts["Shot"] = document
        for part in parts.values():
            for name, field in part.get("properties", {}).items():
                if isinstance(field, dict) and field.get(STANDS_FOR_DOCUMENT):
                    part["properties"][name] = {"$ref": "#/components/schemas/Shot"}
        return schema


api = PlonketAPI(title="Plonket", version="1", docs_url=None, openapi_url="/openapi.json", urls_namespace="api",
               parser=StrictParser())  # fmt: skip
api.add_router("", library)
api.add_router("", shots)
api.add_router("", operations)
api.add_router("", spaces)
api.add_router("", sound)
api.add_router("", time)
api.add_router("", motions)
api.add_router("", rooms)
api.add_router("", forms)
api.add_router("", plate)
api.add_router("", footage)
api.add_router("", masks)
api.add_router("", curves)
api.add_router("", keys)
api.add_router("", likeness)
api.add_router("", lighting)
api.add_router("", mattes)
api.add_router("", depths)
api.add_router("", exchange)
api.add_router("", checks)
api.add_router("", jobs)
api.add_router("", deliveries)
api.add_router("", packs)


@api.exception_handler(PlonketError)
def plonket_error(request: HttpRequest, error: PlonketError) -> HttpResponse:
    status = next((code for kind, code in STATUS if isinstance(error, kind)), 500)
    return api.create_response(
        request, {"code": error.code, "message": error.message, "details": error.details}, status=status
    )


@api.exception_handler(ValidationError)
def invalid(request: HttpRequest, error: ValidationError) -> HttpResponse:
    first = error.errors[0]
    where = ".".join(str(k) for k in first["loc"])
    body = {"code": "api.invalid", "message": f"This cannot be used: {where}: {first['msg']}.", "details": {}}
    return api.create_response(request, body, status=400)


@api.exception_handler(HttpError)
def refused(request: HttpRequest, error: HttpError) -> HttpResponse:
    body = {"code": "api.refused", "message": f"This cannot be used: {error}.", "details": {}}
    return api.create_response(request, body, status=error.status_code)


@api.get("/health")
def health(request: HttpRequest) -> dict[str, bool]:
    """Whether the server and its database answer."""
    from library.models import Project

    Project.objects.exists()
    return {"ok": True}
