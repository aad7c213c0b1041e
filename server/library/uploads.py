"""Resumable uploads: tus 1.0.0 (core, creation, termination)."""

from __future__ import annotations

import base64
import binascii
import fcntl
import logging
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from urllib.parse import quote

from django.conf import settings
from django.db import transaction
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.urls import reverse

from jobs.models import Job
from library.assets import bring_in
from library.models import Upload
from plonket.base.errors import MediaError, PlonketError
from plonket.media.failures import media_errors
from plonket_server import store
from plonket_server.problems import NotHere

log = logging.getLogger(__name__)
TUS = {"Tus-Resumable": "1.0.0", "Cache-Control": "no-store"}
TYPE = "application/offset+octet-stream"
TAKERS: dict[str, Callable[[Path, str, uuid.UUID, uuid.UUID | None], Job]] = {}
"""Who takes files in that are no assets, by their ending: (file, its name, the upload's id, the project that is meant)."""


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
        project = uuid.UUID(words["project"]) if words.get("project") else None
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
    made = Upload.objects.create(name=name, length=length, shot=shot, project=project)
    store.upload_path(str(made.id)).touch()
    return _answer(201, Location=reverse("upload", args=[made.id]))


def upload(request: HttpRequest, upload_id: uuid.UUID) -> HttpResponse:
    """HEAD tells how much has arrived, PATCH adds to it, DELETE gives up."""
    try:
        if request.method == "HEAD":
            return _told(Upload.objects.select_related("asset").get(pk=upload_id), asked=True)
        if request.method == "DELETE":
            if Upload.objects.filter(pk=upload_id, asset=None).exclude(state=Upload.State.COMPLETE).delete()[0]:
                for part in store.upload_parts(str(upload_id)):
                    part.unlink(missing_ok=True)
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
    except Exception:
        log.exception("Upload %s met an error", upload_id)
        return _problem(500, "upload.failed", "Something went wrong inside Plonket while this file came in. Try again.")


def _append(request: HttpRequest, upload_id: uuid.UUID) -> HttpResponse:
    with transaction.atomic():
        one = Upload.objects.select_for_update().get(pk=upload_id)
        try:
            offset = int(request.headers.get("Upload-Offset", ""))
        except ValueError:
            return _problem(400, "upload.header", "The upload's offset is missing.")
        if one.state in (Upload.State.DONE, Upload.State.FAILED):
            return _told(one)
        if offset != one.offset:
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
        if one.offset == one.length:
            one.state = Upload.State.COMPLETE
        one.save(update_fields=["offset", "state"])
    if one.offset < one.length:
        return _answer(204, **{"Upload-Offset": str(one.offset)})
    take_in(one)
    return _told(one)


def take_in(one: Upload) -> None:
    """Make an asset of an upload that is complete, and record how that ended. One process does it; others leave it alone."""
    with _lock(one) as ours:
        if not ours:
            return
        one.refresh_from_db()
        if one.state != Upload.State.COMPLETE:
            return
        parts = store.upload_parts(str(one.pk))
        try:
            if not parts:
                raise MediaError("upload.lost", f"{one.name} was lost on its way in. Bring it in again.")
            taker = TAKERS.get(Path(one.name).suffix.lower())
            if taker is not None:
                one.job = taker(parts[0], one.name, one.pk, one.project).pk
            else:
                one.asset = bring_in(parts[0], one.name, shot_id=one.shot)
            one.state = Upload.State.DONE
        except PlonketError as error:
            one.state, one.problem = Upload.State.FAILED, {"code": error.code, "message": error.message}
        except Exception:
            log.exception("Upload %s could not be taken in", one.pk)
            message = f"Something went wrong inside Plonket while {one.name} was taken in. Try again."
            one.state, one.problem = Upload.State.FAILED, {"code": "upload.failed", "message": message}
        for part in store.upload_parts(str(one.pk)):
            part.unlink(missing_ok=True)
        one.save(update_fields=["asset", "job", "state", "problem"])


@contextmanager
def _lock(one: Upload) -> Iterator[bool]:
    """Whether the upload is ours for now; the lock goes with the process that holds it, however that ends."""
    path = store.upload_path(str(one.pk)).with_suffix(".lock")
    with path.open("wb") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            yield False
            return
        try:
            yield True
        finally:
            path.unlink(missing_ok=True)


def take_in_complete() -> None:
    """Take in what had arrived whole when the server ended before it was done with it."""
    for one in Upload.objects.filter(state=Upload.State.COMPLETE):
        take_in(one)


def _told(one: Upload, *, asked: bool = False) -> HttpResponse:
    """How far an upload is: what became of it, or what was wrong. Whoever only `asked` has done nothing wrong."""
    headers = {"Upload-Offset": str(one.offset), "Upload-Length": str(one.length), "Plonket-State": one.state}
    if one.asset is not None:
        headers |= {"Plonket-Asset": one.asset.digest, "Plonket-Kind": one.asset.kind}
    if one.job is not None:
        headers["Plonket-Job"] = str(one.job)
    if one.state == Upload.State.FAILED:
        code, message = one.problem.get("code", ""), one.problem.get("message", "")
        # Headers hold no letters beyond Latin ones; HEAD has no body for them.
        headers |= {"Plonket-Code": code, "Plonket-Problem": quote(message)}
        if not asked:
            return JsonResponse({"code": code, "message": message, "details": {}}, status=422, headers=TUS | headers)
    return _answer(200 if asked else 204, **headers)


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
