"""What is drawn for the browser, as JPEG. These run in the drawing process."""

from __future__ import annotations

import functools
import re
import uuid
from pathlib import Path

import cv2

from library.assets import find_asset
from library.models import Asset
from library.pool import pool
from plonket.base.conventions import U8
from plonket.base.errors import BadInput
from plonket.document.kinds import GENERATORS
from plonket.document.retime import as_filmed
from plonket.document.shot import Footage, read_shot
from plonket.document.shot import Shot as Document
from plonket.layers.generated import GeneratedLayer
from plonket.media.clip import open_clip
from plonket.media.light_map import light_map_preview
from plonket.plate.clean import Clean
from plonket.plate.stabilise import Steady
from plonket.raytrace.portrait import portrait
from plonket.render.deliver import is_clear
from plonket.render.frame import FrameView, Ground, render_alone, render_frame, scaled_size
from plonket.render.no_media import NoMedia
from plonket.render.sources import ShotSources
from plonket_server import store
from plonket_server.problems import NotHere
from shots.models import Revision

PERCENTS = (10, 25, 50, 100)
VIEWS: dict[str, FrameView] = {"final": "final", "plate": "plate", "matte": "matte"}
FILMED = "filmed-"
"""Before a view: the shot in its clip's own time, frames are the clip's."""
HELD = "held-"
"""Before a motion's id: the final picture as seen from its reference frame."""
WORKED = "worked"
"""The held picture that is worked on while the finished one gets its movement back."""
HALF = "half-"
"""Before a clean frame's id: the final picture with it half opaque."""
ALONE = re.compile(r"(?:checker|over-([0-9a-f]{6}))-(.+)")
"""A layer's id after it: that layer alone over a checker, or over a colour."""
MATTE_OF = "matte-"
"""Before a layer's id: its own coverage in grey."""
DESK = "desk-"
"""Before a clean frame's id: the frame asked for as the paint desk shows it."""
THUMB_PERCENT = 25


def is_view(view: str) -> bool:
    """Whether there is a view of that name."""
    view = view.removeprefix(FILMED)
    return view in VIEWS or view == WORKED or bool(ALONE.fullmatch(view)) or view.startswith((HELD, HALF, DESK, MATTE_OF))


@functools.lru_cache(maxsize=64)
def document_for(shot_id: uuid.UUID, digest: str) -> Document:
    """A shot as it was when its pictures had this hash."""
    found = Revision.objects.filter(shot=shot_id, picture=digest).order_by("-number").first()
    if found is None:
        raise NotHere("version of the shot")
    return read_shot(found.document, stored=True)


@functools.lru_cache(maxsize=24)
def _sources(shot_id: uuid.UUID, digest: str, changed: str) -> ShotSources:
    """What a version of a shot refers to, the same for all of its frames; `changed` names a view that changes the document."""
    document = document_for(shot_id, digest)
    if changed.startswith(FILMED):
        document, changed = as_filmed(document), changed.removeprefix(FILMED)
    if changed == WORKED:
        document = _kept_held(document)
    if changed.startswith(HALF):
        document = _half(document, changed.removeprefix(HALF))
    return ShotSources(document, pool())


def shot_jpeg(shot_id: uuid.UUID, digest: str, view: str, percent: int, number: int) -> bytes:
    """One frame of a shot."""
    filmed, view = (FILMED, view.removeprefix(FILMED)) if view.startswith(FILMED) else ("", view)
    sources = _sources(shot_id, digest, filmed + (view if view == WORKED or view.startswith(HALF) else ""))
    document, scale = sources.shot, percent / 100
    held = view.removeprefix(HELD) if view.startswith(HELD) else None
    if held is not None:
        document.motion(held)
    if view.startswith(DESK):
        return jpeg(_at_desk(document, sources, view.removeprefix(DESK), number))
    if view.startswith(MATTE_OF):
        return jpeg(render_alone(document, sources, number, view.removeprefix(MATTE_OF), scale=scale, matte=True))
    if alone := ALONE.fullmatch(view):
        over = f"#{alone[1]}" if alone[1] else None
        return jpeg(render_alone(document, sources, number, alone[2], scale=scale, over=over))
    ground: Ground = "checker" if is_clear(document) else "black"
    return jpeg(
        render_frame(document, sources, number, view=VIEWS.get(view, "final"), scale=scale, held=held, ground=ground)
    )


def thumb_jpeg(shot_id: uuid.UUID, digest: str, number: int) -> bytes:
    """A small frame of a finished shot, kept on disk: pages show many of them at once."""
    path = store.thumb_path(f"{digest}-{number}")
    if not path.exists():
        store.keep_bytes(shot_jpeg(shot_id, digest, "final", THUMB_PERCENT, number), path)
    return path.read_bytes()


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


def clip_jpeg(digest: str, percent: int, number: int) -> bytes:
    """One frame of a clip."""
    store.checked(digest)
    rgb = pool().clip(digest).rgb(number)
    size = scaled_size((rgb.shape[1], rgb.shape[0]), percent / 100)
    return jpeg(rgb if percent == 100 else cv2.resize(rgb, size, interpolation=cv2.INTER_AREA))  # type: ignore[arg-type]


def jpeg(rgb: U8) -> bytes:
    """8-bit (h, w, 3) as JPEG."""
    quality = [cv2.IMWRITE_JPEG_QUALITY, 90, cv2.IMWRITE_JPEG_SAMPLING_FACTOR, cv2.IMWRITE_JPEG_SAMPLING_FACTOR_444]
    done, data = cv2.imencode(".jpg", cv2.cvtColor(rgb, cv2.COLOR_RGB2BGR), quality)
    if not done:
        raise BadInput("frame.encode", "This frame could not be written as a picture.")
    return bytes(data)


def generated_jpeg(kind: str) -> bytes:
    """What a generated element looks like: its defaults over a dusk."""
    footage = Footage(asset="0" * 64, name="preview", width=640, height=360, rate="30/1", frames=120, in_frame=0, out_frame=119)
    x, y = GENERATORS.get(kind).preview
    layer = GeneratedLayer.model_validate(
        {"id": "g", "name": "g", "x": x, "y": y, "size": 62.0, "generator": {"kind": kind}}
    )
    return jpeg(render_alone(Document(name="p", footage=footage, stack=[layer]), NoMedia((640, 360)), 70, "g", scale=0.5))


def shown_still(digest: str, ending: str) -> Path:
    """A PNG file of a still that browsers cannot show themselves; kept once it is made."""
    kept = store.derived_folder(digest) / "picture.png"
    if not kept.exists():
        rgba = open_clip(store.original_path(digest, ending)).rgba(0)
        done, png = cv2.imencode(".png", cv2.cvtColor(rgba, cv2.COLOR_RGBA2BGRA))
        assert done
        store.keep_bytes(bytes(png), kept)
    return kept


def model_jpeg(digest: str) -> bytes:
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
        store.keep_bytes(jpeg(rgb), kept)
    return kept.read_bytes()
