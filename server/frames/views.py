"""Frames by (picture hash, view, scale, frame): immutable, cacheable, rendered on demand in the drawing process."""

from __future__ import annotations

import asyncio
import struct
import threading
import uuid
from collections import OrderedDict
from collections.abc import AsyncIterator, Callable

from asgiref.sync import sync_to_async
from django.http import HttpRequest, HttpResponse, HttpResponseBase, JsonResponse, StreamingHttpResponse
from django.views.decorators.http import require_safe

from frames.drawn import (
    FILMED,
    PERCENTS,
    clip_jpeg,
    document_for,
    generated_jpeg,
    is_view,
    model_jpeg,
    shot_jpeg,
    shown_still,
    thumb_jpeg,
)
from library.assets import find_asset
from plonket.base.errors import BadInput, PlonketError
from plonket.document.hashes import plate_hash
from plonket.document.kinds import GENERATORS
from plonket.document.retime import as_filmed
from plonket_server import store
from plonket_server.connections import in_thread
from plonket_server.drawing import draw
from plonket_server.problems import NotHere
from plonket_server.ranges import ranged_file

IMMUTABLE = "private, max-age=31536000, immutable"
FOR_NOW = "private, max-age=3600"
CACHE_BYTES = 384 * 1024**2
AHEAD = 3


class _JpegCache:
    """Encoded frames in memory, the least recently used dropped first."""

    def __init__(self, room: int) -> None:
        self._room, self._used = room, 0
        self._items: OrderedDict[tuple[object, ...], bytes] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: tuple[object, ...], make: Callable[[], bytes]) -> bytes:
        with self._lock:
            if key in self._items:
                self._items.move_to_end(key)
                return self._items[key]
        made = make()
        with self._lock:
            if key not in self._items:
                self._items[key] = made
                self._used += len(made)
            while self._used > self._room:
                _, old = self._items.popitem(last=False)
                self._used -= len(old)
        return made


_cache = _JpegCache(CACHE_BYTES)


def _shot_jpeg(shot_id: uuid.UUID, digest: str, view: str, percent: int, number: int) -> bytes:
    if percent not in PERCENTS or not is_view(view):
        raise NotHere("frame")
    document = document_for(shot_id, digest)
    if document.footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet.")
    # The plate does not change with the stack: all versions share its pictures.
    filmed = as_filmed(document) if view.startswith(FILMED) else document
    is_plate = view.removeprefix(FILMED) == "plate"
    key = (plate_hash(filmed), "plate", percent, number) if is_plate else (digest, view, percent, number)
    return _cache.get(key, lambda: draw(shot_jpeg, shot_id, digest, view, percent, number))


def _clip_jpeg(digest: str, percent: int, number: int) -> bytes:
    if percent not in PERCENTS:
        raise NotHere("frame")
    return _cache.get((digest, "plate", percent, number), lambda: draw(clip_jpeg, digest, percent, number))


def _problem(error: PlonketError) -> HttpResponse:
    status = 404 if isinstance(error, NotHere) else 400
    return JsonResponse({"code": error.code, "message": error.message, "details": error.details}, status=status)


async def _answer(make: Callable[[], bytes], cached: str = IMMUTABLE) -> HttpResponseBase:
    """A JPEG as an answer, or what was wrong."""
    try:
        return HttpResponse(await in_thread(make), content_type="image/jpeg", headers={"Cache-Control": cached})
    except PlonketError as error:
        return _problem(error)


@require_safe
async def frame(
    request: HttpRequest, shot_id: uuid.UUID, digest: str, view: str, percent: int, number: int
) -> HttpResponseBase:
    """One frame of a shot as JPEG."""
    return await _answer(lambda: _shot_jpeg(shot_id, digest, view, percent, number))


@require_safe
async def thumb(request: HttpRequest, shot_id: uuid.UUID, digest: str, number: int) -> HttpResponseBase:
    """A small frame of a shot as JPEG, made once and kept."""
    return await _answer(lambda: draw(thumb_jpeg, shot_id, digest, number))


@require_safe
async def clip_frame(request: HttpRequest, digest: str, percent: int, number: int) -> HttpResponseBase:
    """One frame of a clip as JPEG."""
    return await _answer(lambda: _clip_jpeg(digest, percent, number))


async def frame_range(
    request: HttpRequest, shot_id: uuid.UUID, digest: str, view: str, percent: int
) -> HttpResponseBase:
    """Frames of a shot as one stream, see `_stream`."""
    try:
        document = await sync_to_async(document_for)(shot_id, digest)
    except PlonketError as error:
        return _problem(error)
    document = as_filmed(document) if view.startswith(FILMED) else document
    frames = document.footage.length if document.footage else 0
    return _stream(request, frames, lambda n: _shot_jpeg(shot_id, digest, view, percent, n))


@require_safe
async def clip_range(request: HttpRequest, digest: str, percent: int) -> HttpResponseBase:
    """Frames of an untouched clip as one stream, see `_stream`."""
    try:
        asset = await sync_to_async(find_asset)(digest)
    except PlonketError as error:
        return _problem(error)
    return _stream(request, int(asset.info["frames"]), lambda n: _clip_jpeg(digest, percent, n))


def _stream(request: HttpRequest, frames: int, draws: Callable[[int], bytes]) -> HttpResponseBase:
    """Frames ``start`` to ``stop - 1`` (or only ``every`` so many) as one stream: each a header of two little-endian 32-bit
    numbers (frame, length of the JPEG) and the JPEG. The next ones are rendered while one is sent."""
    try:
        start, stop = int(request.GET["start"]), int(request.GET["stop"])
        every = int(request.GET.get("every", "1"))
    except (KeyError, ValueError):
        return _problem(BadInput("frame.range", "Say which frames: start and stop."))
    if not (0 <= start < stop <= frames and 1 <= every <= 16):
        return _problem(BadInput("frame.range", f"Frames {start} to {stop} do not lie within the clip."))

    def make(n: int) -> asyncio.Task[bytes]:
        return asyncio.create_task(in_thread(lambda: draws(n)))

    async def pieces() -> AsyncIterator[bytes]:
        numbers = range(start, stop, every)
        ahead = [make(n) for n in numbers[:AHEAD]]
        try:
            for k, number in enumerate(numbers):
                data = await ahead.pop(0)
                if k + AHEAD < len(numbers):
                    ahead.append(make(numbers[k + AHEAD]))
                yield struct.pack("<II", number, len(data)) + data
        finally:
            for task in ahead:
                task.cancel()

    return StreamingHttpResponse(
        pieces(), content_type="application/octet-stream", headers={"Cache-Control": "no-store"}
    )


MEDIA = {"original": None, "sound.wav": "audio/wav", "strip.jpg": "image/jpeg"}
TYPES = {".png": "image/png", ".jpg": "image/jpeg", ".jpeg": "image/jpeg", ".webp": "image/webp"}


@require_safe
def media_file(request: HttpRequest, digest: str, what: str) -> HttpResponseBase:
    """A still's own file, or a clip's sound or filmstrip."""
    try:
        asset = find_asset(digest)
    except PlonketError as error:
        return _problem(error)
    if what == "original" and asset.kind == "still" and asset.ending in TYPES:
        return ranged_file(request, store.original_path(digest, asset.ending), TYPES[asset.ending], immutable=True)
    if what == "original" and asset.kind == "still":
        try:
            return ranged_file(request, shown_still(digest, asset.ending), "image/png", immutable=True)
        except PlonketError as error:
            return _problem(error)
    content_type = MEDIA.get(what)
    if content_type is None:
        return _problem(NotHere("file"))
    return ranged_file(request, store.derived_folder(digest) / what, content_type, immutable=True)


@require_safe
async def model_preview(request: HttpRequest, digest: str) -> HttpResponseBase:
    """A small picture of a 3D model as JPEG."""
    return await _answer(lambda: draw(model_jpeg, digest), FOR_NOW)


@require_safe
async def generated_preview(request: HttpRequest, kind: str) -> HttpResponseBase:
    """A small picture of a generated element as JPEG."""

    def make() -> bytes:
        GENERATORS.get(kind)
        return _cache.get(("generated", kind), lambda: draw(generated_jpeg, kind))

    return await _answer(make, FOR_NOW)
