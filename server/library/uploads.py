"""Resumable uploads: tus 1.0.0 (core, creation, termination)."""

from __future__ import annotations

import base64
import binascii
import uuid
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import transaction
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.urls import reverse

from library.assets import bring_in
from library.models import Upload
from plonket.errors import MediaError, PlonketError
from plonket.media.failures import media_errors
from plonket_server import store
from plonket_server.problems import NotHere

TUS = {"Tus-Resumable": "1.0.0", "Cache-Control": "no-store"}
TYPE = "application/offset+octet-stream"


def uploads(request: HttpRequest) -> HttpResponse:
    """OPTIONS tells the abilities, POST begins an upload."""
    if request.method == "OPTIONS":
        return _answer(204, **{"Tus-Version": "1.0.0", "Tus-Extension": "creation,termination",
                               "Tus-Max-Size": str(settings.LARGEST_UPLOAD)})  # fmt: skip
    if request.method != "POST":
        return _answer(405)
    try:
        length = int(request.headers.get("Upload-Length", ""))
        words = _metadata(request.headers.get("Upload-Metadata", ""))
        shot = uuid.UUID(words["shot"]) if words.get("shot") else None
    except (ValueError, binascii.Error):
        return _problem(400, "upload.header", "This upload's headers cannot be read.")
    name = words.get("filename", "").strip()[:255] or "clip"
    try:
        if length == 0:
            raise MediaError("media.empty", f"{name} is empty (0 bytes). Copy it from the phone again.")
        if not 0 < length <= settings.LARGEST_UPLOAD:
            raise MediaError("media.too_large", f"{name} is too large: at most 16 GB can be brought in.")
        store.check_room(2 * length)
    except PlonketError as error:
        return _problem(422, error.code, error.message)
    made = Upload.objects.create(name=name, length=length, shot=shot)
    store.upload_path(str(made.id)).touch()
    return _answer(201, Location=reverse("upload", args=[made.id]))


def upload(request: HttpRequest, upload_id: uuid.UUID) -> HttpResponse:
    """HEAD tells how much has arrived, PATCH adds to it, DELETE gives up."""
    try:
        if request.method == "HEAD":
            one = Upload.objects.get(pk=upload_id)
            return _answer(200, **{"Upload-Offset": str(one.offset), "Upload-Length": str(one.length)})
        if request.method == "DELETE":
            store.upload_path(str(upload_id)).unlink(missing_ok=True)
            Upload.objects.filter(pk=upload_id, asset=None).delete()
            return _answer(204)
        if request.method != "PATCH":
            return _answer(405)
        if request.content_type != TYPE:
            return _answer(415)
        return _append(request, upload_id)
    except Upload.DoesNotExist:
        return _problem(404, "not_found", NotHere("upload").message)
    except PlonketError as error:
        return _problem(422, error.code, error.message)


def _append(request: HttpRequest, upload_id: uuid.UUID) -> HttpResponse:
    with transaction.atomic():
        one = Upload.objects.select_for_update().get(pk=upload_id)
        try:
            offset = int(request.headers.get("Upload-Offset", ""))
        except ValueError:
            return _problem(400, "upload.header", "The upload's offset is missing.")
        if offset != one.offset or one.asset_id is not None:
            return _answer(409, **{"Upload-Offset": str(one.offset)})
        path = store.upload_path(str(one.id))
        with media_errors(Path(one.name), "written"), path.open("r+b") as out:
            # What a killed server wrote beyond the recorded offset is written again.
            out.seek(offset)
            out.truncate()
            while chunk := request.read(1 << 20):
                if one.offset + len(chunk) > one.length:
                    return _problem(400, "upload.length", "More arrived than was announced.")
                out.write(chunk)
                one.offset += len(chunk)
        one.save(update_fields=["offset"])
    if one.offset < one.length:
        return _answer(204, **{"Upload-Offset": str(one.offset)})
    try:
        asset = bring_in(path, one.name, shot_id=one.shot)
    except PlonketError:
        Upload.objects.filter(pk=one.pk).delete()
        raise
    Upload.objects.filter(pk=one.pk).update(asset=asset)
    return _answer(204, **{"Upload-Offset": str(one.offset), "Plonket-Asset": asset.digest,
                           "Plonket-Kind": asset.kind})  # fmt: skip


def _metadata(header: str) -> dict[str, str]:
    out: dict[str, str] = {}
    for pair in header.split(","):
        key, _, value = pair.strip().partition(" ")
        if key:
            out[key] = base64.b64decode(value, validate=True).decode("utf-8", "replace")
    return out


def _answer(status: int, **headers: Any) -> HttpResponse:
    return HttpResponse(status=status, headers=TUS | headers)


def _problem(status: int, code: str, message: str) -> HttpResponse:
    return JsonResponse({"code": code, "message": message, "details": {}}, status=status, headers=TUS)
