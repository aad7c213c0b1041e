"""Frames by (picture hash, view, scale, frame): immutable, cacheable, rendered on demand."""

from __future__ import annotations

import asyncio
import functools
import re
import struct
import threading
import uuid
from collections import OrderedDict
from collections.abc import AsyncIterator, Callable

import cv2
from asgiref.sync import sync_to_async
from django.http import HttpRequest, HttpResponse, HttpResponseBase, JsonResponse, StreamingHttpResponse
from django.views.decorators.http import require_safe

from library.assets import find_asset
from library.models import Asset
from plonket.comp.render import View, render_alone, render_frame, scaled_size
from plonket.conventions import U8
from plonket.errors import BadInput, PlonketError
from plonket.generated.kinds import GENERATORS
from plonket.layers.generated import GeneratedLayer
from plonket.media.light_map import light_map_preview
from plonket.nomedia import NoMedia
from plonket.plate.clean import Clean
from plonket.plate.steady import Steady
from plonket.scene.portrait import portrait
from plonket.shot import Footage, plate_hash, read_shot
from plonket.shot import Shot as Document
from plonket.sources import ShotSources
from plonket_server import store
from plonket_server.pool import pool
from plonket_server.problems import NotHere
from plonket_server.ranges import ranged_file
from shots.models import Revision

IMMUTABLE = "private, max-age=31536000, immutable"
PERCENTS = (10, 25, 50, 100)
VIEWS: dict[str, View] = {"final": "final", "plate": "plate", "matte": "matte"}
HELD = "held-"
"""Before a motion's id: the final picture as seen from its reference frame."""
WORKED = "worked"
"""The held picture that is worked on while the finished one gets its movement back."""
HALF = "half-"
"""Before a clean frame's id: the final picture with it half opaque."""
ALONE = re.compile(r"(?:checker|over-([0-9a-f]{6}))-(.+)")
"""A layer's id after it: that layer alone over a checker, or over a colour."""
DESK = "desk-"
"""Before a clean frame's id: the frame asked for as the paint desk shows it."""
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


@functools.lru_cache(maxsize=64)
def _document(shot_id: uuid.UUID, digest: str) -> Document:
    found = Revision.objects.filter(shot=shot_id, picture=digest).order_by("-number").first()
    if found is None:
        raise NotHere("version of the shot")
    return read_shot(found.document)


def _jpeg(rgb: U8) -> bytes:
    quality = [cv2.IMWRITE_JPEG_QUALITY, 90, cv2.IMWRITE_JPEG_SAMPLING_FACTOR, cv2.IMWRITE_JPEG_SAMPLING_FACTOR_444]
    done, data = cv2.imencode(".jpg", cv2.cvtColor(rgb, cv2.COLOR_RGB2BGR), quality)
    if not done:
        raise BadInput("frame.encode", "This frame could not be written as a picture.")
    return bytes(data)


def _shot_jpeg(shot_id: uuid.UUID, digest: str, view: str, percent: int, number: int) -> bytes:
    held = view.removeprefix(HELD) if view.startswith(HELD) else None
    special = held is not None or view == WORKED or ALONE.fullmatch(view) or view.startswith((HALF, DESK))
    if percent not in PERCENTS or not (special or view in VIEWS):
        raise NotHere("frame")
    document = _document(shot_id, digest)
    if view == WORKED:
        document = _kept_held(document)
    if view.startswith(HALF):
        document = _half(document, view.removeprefix(HALF))
    if held is not None:
        document.motion(held)
    if document.footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet.")
    # The plate does not change with the stack: all versions share its pictures.
    key = (plate_hash(document) if view == "plate" else digest, view, percent, number)

    def make() -> bytes:
        sources = ShotSources(document, pool())
        if view.startswith(DESK):
            return _jpeg(_at_desk(document, sources, view.removeprefix(DESK), number))
        if alone := ALONE.fullmatch(view):
            over = f"#{alone[1]}" if alone[1] else None
            return _jpeg(render_alone(document, sources, number, alone[2], scale=percent / 100, over=over))
        shown = VIEWS.get(view, "final")
        return _jpeg(render_frame(document, sources, number, view=shown, scale=percent / 100, held=held))

    return _cache.get(key, make)


def _kept_held(document: Document) -> Document:
    plate = [one.model_copy(update={"give_back": False, "fit": "none"}) if isinstance(one, Steady) else one
             for one in document.plate]  # fmt: skip
    return document.model_copy(update={"plate": plate})


def _half(document: Document, treatment: str) -> Document:
    """The same with one clean frame half opaque."""
    plate = [
        one.model_copy(update={"opacity": 50.0, "shown": True}) if isinstance(one, Clean) and one.id == treatment else one
        for one in document.plate
    ]
    return document.model_copy(update={"plate": plate})


def _at_desk(document: Document, sources: ShotSources, treatment: str, number: int) -> U8:
    for one in document.plate:
        if isinstance(one, Clean) and one.id == treatment:
            for k, given in enumerate(one.frames):
                if given.frame == number:
                    return sources.painted(treatment, k)
    raise NotHere("clean frame")


def _clip_jpeg(digest: str, percent: int, number: int) -> bytes:
    if percent not in PERCENTS:
        raise NotHere("frame")
    store.checked(digest)

    def make() -> bytes:
        rgb = pool().clip(digest).rgb(number)
        size = scaled_size((rgb.shape[1], rgb.shape[0]), percent / 100)
        return _jpeg(rgb if percent == 100 else cv2.resize(rgb, size, interpolation=cv2.INTER_AREA))  # type: ignore[arg-type]

    return _cache.get((digest, "plate", percent, number), make)


def _problem(error: PlonketError) -> HttpResponse:
    status = 404 if isinstance(error, NotHere) else 400
    return JsonResponse({"code": error.code, "message": error.message, "details": error.details}, status=status)


@require_safe
async def frame(
    request: HttpRequest, shot_id: uuid.UUID, digest: str, view: str, percent: int, number: int
) -> HttpResponseBase:
    """One frame of a shot as JPEG."""
    try:
        # Asked for in the common thread, rendered in one of its own: nothing else waits for a picture.
        await sync_to_async(_document)(shot_id, digest)
        data = await sync_to_async(_shot_jpeg, thread_sensitive=False)(shot_id, digest, view, percent, number)
    except PlonketError as error:
        return _problem(error)
    return HttpResponse(data, content_type="image/jpeg", headers={"Cache-Control": IMMUTABLE})


@require_safe
async def clip_frame(request: HttpRequest, digest: str, percent: int, number: int) -> HttpResponseBase:
    """One frame of a clip as JPEG."""
    try:
        data = await sync_to_async(_clip_jpeg, thread_sensitive=False)(digest, percent, number)
    except PlonketError as error:
        return _problem(error)
    return HttpResponse(data, content_type="image/jpeg", headers={"Cache-Control": IMMUTABLE})


async def frame_range(
    request: HttpRequest, shot_id: uuid.UUID, digest: str, view: str, percent: int
) -> HttpResponseBase:
    """Frames ``start`` to ``stop - 1`` (or only ``every`` so many) as one stream: each a header of two little-endian 32-bit
    numbers (frame, length of the JPEG) and the JPEG. The next ones are rendered while one is sent."""
    try:
        start, stop = int(request.GET["start"]), int(request.GET["stop"])
        every = int(request.GET.get("every", "1"))
        document = await sync_to_async(_document)(shot_id, digest)
        frames = document.footage.frames if document.footage else 0
        if not (0 <= start < stop <= frames and 1 <= every <= 16):
            raise BadInput("frame.range", f"Frames {start} to {stop} do not lie within the clip.")
    except (KeyError, ValueError):
        return _problem(BadInput("frame.range", "Say which frames: start and stop."))
    except PlonketError as error:
        return _problem(error)

    async def pieces() -> AsyncIterator[bytes]:
        make = sync_to_async(_shot_jpeg, thread_sensitive=False)
        numbers = range(start, stop, every)
        ahead = [asyncio.create_task(make(shot_id, digest, view, percent, n)) for n in numbers[:AHEAD]]
        try:
            for k, number in enumerate(numbers):
                data = await ahead.pop(0)
                if k + AHEAD < len(numbers):
                    ahead.append(asyncio.create_task(make(shot_id, digest, view, percent, numbers[k + AHEAD])))
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
    content_type = MEDIA.get(what)
    if content_type is None:
        return _problem(NotHere("file"))
    return ranged_file(request, store.derived_folder(digest) / what, content_type, immutable=True)


@functools.lru_cache(maxsize=64)
def _generated(kind: str) -> bytes:
    """What a generated element looks like: its defaults over a dusk."""
    footage = Footage(asset="0" * 64, name="preview", width=640, height=360, rate="30/1", frames=120, in_frame=0, out_frame=119)
    x, y = PLACES.get(kind, (320.0, 180.0))
    layer = GeneratedLayer.model_validate(
        {"id": "g", "name": "g", "x": x, "y": y, "size": 62.0, "generator": {"kind": kind}}
    )
    return _jpeg(render_alone(Document(name="p", footage=footage, stack=[layer]), NoMedia((640, 360)), 70, "g", scale=0.5))


PLACES = {"smoke": (320.0, 320.0), "sparks": (320.0, 300.0), "flare": (230.0, 130.0), "cone": (70.0, 200.0)}
"""Where an element shows best in its preview, of 640 x 360."""


def _model(digest: str) -> bytes:
    """What a 3D model or a light map looks like; kept once it is made."""
    kept = store.derived_folder(digest) / "model.jpg"
    if not kept.exists():
        asset = find_asset(digest)
        path = store.original_path(digest, asset.ending)
        if asset.kind == Asset.Kind.LIGHT:
            rgb = light_map_preview(path)
        elif asset.kind == Asset.Kind.MODEL:
            rgb = portrait(str(path), asset.info["extent"], pool().film)
        else:
            raise NotHere("model")
        kept.parent.mkdir(parents=True, exist_ok=True)
        kept.write_bytes(_jpeg(rgb))
    return kept.read_bytes()


@require_safe
async def model_preview(request: HttpRequest, digest: str) -> HttpResponseBase:
    """A small picture of a 3D model as JPEG."""
    try:
        data = await sync_to_async(_model, thread_sensitive=False)(digest)
    except PlonketError as error:
        return _problem(error)
    return HttpResponse(data, content_type="image/jpeg", headers={"Cache-Control": "private, max-age=3600"})


@require_safe
async def generated_preview(request: HttpRequest, kind: str) -> HttpResponseBase:
    """A small picture of a generated element as JPEG."""
    try:
        GENERATORS.get(kind)
        data = await sync_to_async(_generated, thread_sensitive=False)(kind)
    except PlonketError as error:
        return _problem(error)
    return HttpResponse(data, content_type="image/jpeg", headers={"Cache-Control": "private, max-age=3600"})
