"""Clean frames on their way out to other paint programs, and back."""

from __future__ import annotations

import logging
import os
import re
import shutil
import uuid
from pathlib import Path
from typing import Any

import cv2
from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema
from pydantic import Field

from library.assets import bring_in, find_asset
from library.models import Asset
from library.pool import pool
from plonket.base.errors import BadInput, MediaError, PlonketError
from plonket.base.fields import Digest
from plonket.document.shot import Footage
from plonket.document.shot import Shot as Document
from plonket.media.stills import read_header
from plonket.plate.clean import Clean
from plonket.render.sources import ShotSources
from plonket_server import store
from plonket_server.drawing import draw
from plonket_server.problems import NotHere
from shots.api import ShotOut, shot_out
from shots.editing import change_shot, document_of, find_shot
from shots.models import Exchange

router = Router(tags=["paint desk"])
log = logging.getLogger(__name__)
MOST_BYTES = 400 * 1024**2


class OutsideOut(Schema):
    path: str = Field(description="The file to paint on, on the computer that Plonket runs on")
    problem: str = Field(description="Why it could not be taken back when it last changed; empty when all is well")


class PaintedIn(Schema):
    digest: Digest = Field(description="A still that was brought in")


ADDRESS = "/shots/{shot_id}/clean/{treatment}/{frame}"


@router.get(ADDRESS + "/outside", response=OutsideOut | None)
def outside(request: HttpRequest, shot_id: uuid.UUID, treatment: str, frame: int) -> Any:
    """Where a clean frame lies outside, if it does."""
    found = Exchange.objects.filter(shot=shot_id, treatment=treatment, frame=frame).first()
    return None if found is None else OutsideOut(path=str(_path(found)), problem=found.problem)


@router.post(ADDRESS + "/outside", response=OutsideOut)
def send_outside(request: HttpRequest, shot_id: uuid.UUID, treatment: str, frame: int) -> Any:
    """Write a clean frame as a PNG file that is watched: when it changes, the shot takes it back."""
    shot = find_shot(shot_id)
    data = draw(_png, document_of(shot), treatment, frame)
    known = Exchange.objects.filter(shot=shot, treatment=treatment, frame=frame).first()
    name = known.file if known else f"{_plain(shot.name)}-{_plain(treatment)}-{frame:05d}-{uuid.uuid4().hex[:6]}.png"
    path = store.exchange_folder() / name
    store.keep_bytes(data, path)
    Exchange.objects.update_or_create(
        shot=shot, treatment=treatment, frame=frame,
        defaults={"file": name, "seen": _state(path), "waiting": "", "problem": ""},
    )  # fmt: skip
    return OutsideOut(path=str(path), problem="")


@router.delete(ADDRESS + "/outside", response={204: None})
def stop_outside(request: HttpRequest, shot_id: uuid.UUID, treatment: str, frame: int) -> Any:
    """Watch it no more. The file stays where it is."""
    Exchange.objects.filter(shot=shot_id, treatment=treatment, frame=frame).delete()
    return 204, None


@router.get(ADDRESS + ".png")
def clean_png(request: HttpRequest, shot_id: uuid.UUID, treatment: str, frame: int) -> HttpResponse:
    """A clean frame as the paint desk shows it, as a PNG file."""
    shot = find_shot(shot_id)
    answer = HttpResponse(draw(_png, document_of(shot), treatment, frame), content_type="image/png")
    answer["Content-Disposition"] = f'attachment; filename="{_plain(shot.name)}-frame-{frame}.png"'
    return answer


@router.post(ADDRESS + "/picture", response=ShotOut)
def take_back(request: HttpRequest, shot_id: uuid.UUID, treatment: str, frame: int, body: PaintedIn) -> Any:
    """Make a still that was brought in the picture of a clean frame."""
    find_asset(body.digest)
    _take(shot_id, treatment, frame, body.digest)
    return shot_out(find_shot(shot_id))


def look_outside() -> int:
    """Take back every frame whose file has changed and is quiet again; returns how many.

    Each file is looked at by itself: whatever is wrong with one is told at the desk, and the others go on.
    """
    taken = 0
    for one in Exchange.objects.select_related("shot"):
        try:
            taken += _look_at(one)
        except OSError as error:
            log.warning("%s cannot be looked at: %s", one.file, error)
    return taken


def _look_at(one: Exchange) -> bool:
    """Whether a frame was taken back."""
    path = _path(one)
    if path.is_symlink() or not path.is_file():
        return False
    state = _state(path)
    if state == one.seen:
        return False
    if state != one.waiting:
        # It may still be being written: taken when it is the same at the next look.
        Exchange.objects.filter(pk=one.pk).update(waiting=state)
        return False
    problem = ""
    try:
        _bring_back(one, path)
    except PlonketError as error:
        problem = error.message
    except Exception:
        log.exception("%s could not be taken back", one.file)
        problem = "Something went wrong inside Plonket while this picture was taken back. Save it again as PNG."
    Exchange.objects.filter(pk=one.pk).update(seen=state, waiting="", problem=problem)
    return not problem


def _bring_back(one: Exchange, path: Path) -> None:
    footage = document_of(find_shot(one.shot_id)).footage
    header = read_header(path)
    if footage is not None:
        _check_size((header.width, header.height), footage)
    size = path.stat().st_size
    if size > MOST_BYTES:
        most = f"{MOST_BYTES / 1e6:.0f}"
        raise MediaError("clean.size", f"{path.name} has {size / 1e6:.0f} MB; a painted frame has up to {most}.")
    part = store.upload_path(f"outside-{uuid.uuid4().hex}")
    try:
        # Whatever the name leads to by now, only a plain file is read.
        with open(os.open(path, os.O_RDONLY | os.O_NOFOLLOW), "rb") as source, part.open("wb") as out:
            shutil.copyfileobj(source, out)
        asset = bring_in(part, path.name)
    finally:
        part.unlink(missing_ok=True)
    Asset.objects.filter(pk=asset.digest).update(on_shelf=False)
    _take(one.shot_id, one.treatment, one.frame, asset.digest)


def _check_size(size: tuple[int, int], footage: Footage) -> None:
    if size != (footage.width, footage.height):
        raise BadInput(
            "clean.size", f"The painted picture is {size[0]} x {size[1]} pixels, the clip {footage.width} x "
            f"{footage.height}. Save it at the clip's size.",
        )  # fmt: skip


def _take(shot_id: uuid.UUID, treatment: str, frame: int, digest: str) -> None:
    info = find_asset(digest).info

    def change(document: Document) -> Document:
        if document.footage is not None:
            _check_size((info["width"], info["height"]), document.footage)
        clean = _clean(document, treatment, frame)
        # What was painted here went out with it: it is in the picture now.
        update = {"picture": digest, "strokes": [], "suggest": False}
        frames = [f.model_copy(update=update) if f.frame == frame else f for f in clean.frames]
        changed = clean.model_copy(update={"frames": frames})
        return document.model_copy(update={"plate": [changed if t.id == treatment else t for t in document.plate]})

    change_shot(shot_id, f"Frame {frame} painted elsewhere", change)


def _clean(document: Document, treatment: str, frame: int) -> Clean:
    for one in document.plate:
        if isinstance(one, Clean) and one.id == treatment and any(f.frame == frame for f in one.frames):
            return one
    raise NotHere("clean frame")


def _png(document: Document, treatment: str, frame: int) -> bytes:
    clean = _clean(document, treatment, frame)
    k = next(k for k, f in enumerate(clean.frames) if f.frame == frame)
    rgb = ShotSources(document, pool()).painted(treatment, k)
    done, data = cv2.imencode(".png", cv2.cvtColor(rgb, cv2.COLOR_RGB2BGR))
    if not done:
        raise BadInput("frame.encode", "This frame could not be written as a picture.")
    return bytes(data)


def _path(one: Exchange) -> Path:
    return store.exchange_folder() / one.file


def _state(path: Path) -> str:
    found = path.stat()
    return f"{found.st_mtime_ns}:{found.st_size}"


def _plain(name: str) -> str:
    """A name that is safe in a file's name."""
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:40] or "shot"
