"""Bringing files into the store as assets."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from django.db import transaction

from jobs.models import Job
from jobs.queue import enqueue, tell_job
from library.models import Asset
from library.ready import clip_ready
from library.unpack import readable
from plonket.base.errors import BadInput, FormatError, MediaError, PlonketError
from plonket.base.isolated import call_apart
from plonket.formats.cube import load_cube
from plonket.media import ClipInfo, probe
from plonket.media.light_map import LIGHT_MAPS, read_light_map
from plonket.media.sound import SOUNDS, Sound, read_sound_file, wav_bytes
from plonket.room.meshes.boxed import boxed_model, holds_model
from plonket.room.meshes.files import MODELS, about_model
from plonket.room.meshes.usd.opening import USD
from plonket_server import store
from plonket_server.problems import NotHere

MOST_TABLE_BYTES = 100 * 1024**2
MOST_MODEL_BYTES = 200 * 1024**2
MODEL_S, MODEL_BYTES = 60, 6 * 1024**3
"""Of processor time and memory, for reading a model."""
NO_FOOTAGE = (
    "{name} is a still picture, and a shot is made on a clip. Bring in a clip first; stills are plonked on it, or added on"
    " the Shelf page."
)
NO_SOUND = (
    "{name} is nothing but sound, and a shot is made on a clip. Bring in a clip first; sounds are laid under it, on the"
    " footage's card."
)
NO_PICTURE = {"width": 0, "height": 0, "fps": "1/1", "frames": 0, "has_audio": False}
"""What something without a picture says of pictures."""


def find_asset(digest: str) -> Asset:
    """The asset, or `NotHere`."""
    try:
        return Asset.objects.get(pk=store.checked(digest))
    except Asset.DoesNotExist:
        raise NotHere("file") from None


def bring_in(part: Path, name: str, *, shot_id: Any = None, on_shelf: bool = False, words: str = "",
             settings: dict[str, Any] | None = None, conform_now: bool = False) -> Asset:  # fmt: skip
    """Take a complete file into the store and, for a clip, have it conformed.

    Raises `MediaError` and leaves nothing behind when it is not usable. The same bytes brought in
    twice are one asset.
    """
    ending = store.safe_ending(name)
    checked = part if not ending or part.name.endswith(ending) else part.with_name(part.name + ending)
    if checked != part:
        os.replace(part, checked)
    heard: Sound | None = None
    info: ClipInfo | None = None
    kind, about = Asset.Kind.TABLE, dict(NO_PICTURE)
    try:
        if ending in USD or (ending == ".zip" and holds_model(checked)):
            # From here on it is the one file that it comes to.
            made = checked.with_suffix(".glb")
            try:
                call_apart(boxed_model, checked, made, seconds=MODEL_S, most_bytes=MODEL_BYTES, what=title_of(name) + ending)
            finally:
                checked.unlink(missing_ok=True)
            checked, ending, name = made, ".glb", title_of(name) + ".glb"
        if ending in MODELS:
            if checked.stat().st_size > MOST_MODEL_BYTES:
                raise FormatError("model.size", "This model is too large: models have up to 200 MB.")
            shown = title_of(name) + ending
            about = call_apart(about_model, checked, seconds=MODEL_S, most_bytes=MODEL_BYTES, what=shown)
            kind, about = Asset.Kind.MODEL, NO_PICTURE | about
        elif ending in LIGHT_MAPS:
            high, wide = read_light_map(checked).shape[:2]
            kind, about = Asset.Kind.LIGHT, NO_PICTURE | {"width": wide, "height": high, "frames": 1}
        elif ending in SOUNDS:
            heard = read_sound_file(checked)
            seconds = round(len(heard.samples) / heard.rate, 3)
            kind, about = Asset.Kind.SOUND, NO_PICTURE | {"has_audio": True, "seconds": seconds}
        elif ending == ".cube":
            if checked.stat().st_size > MOST_TABLE_BYTES:
                raise FormatError("cube.size", "This colour table is too large: tables have up to 129 steps a side.")
            load_cube(checked)
        else:
            with readable(checked) as media:
                info = probe(media)
            kind, about = Asset.Kind.STILL if info.kind == "still" else Asset.Kind.CLIP, info.to_json()
            if shot_id is not None and info.kind == "still":
                raise MediaError("footage.still", NO_FOOTAGE.format(name=title_of(name) + ending))
        if shot_id is not None and heard is not None:
            raise MediaError("footage.sound", NO_SOUND.format(name=title_of(name) + ending))
        digest = store.digest_of(checked)
        target = store.original_path(digest, ending)
        store.settle(checked, target)
        if heard is not None:
            store.keep_bytes(wav_bytes(heard), store.derived_folder(digest) / "sound.wav")
    except PlonketError as error:
        checked.unlink(missing_ok=True)
        # The creator knows the file by its own name.
        error.message = error.message.replace(checked.name, title_of(name) + ending)
        raise
    except BaseException:
        checked.unlink(missing_ok=True)
        raise
    asset = _record(digest, ending, target, kind, about, name, on_shelf, words, settings or {})
    if kind == Asset.Kind.CLIP and not conform_now:
        prepare(digest, shot_id)
        asset.refresh_from_db()
    return asset


def model_info(asset: Asset) -> dict[str, Any]:
    """What a model's file says of itself, read once more where it was brought in before that was asked."""
    if asset.kind != Asset.Kind.MODEL:
        raise BadInput("model.none", f"{asset.name} is no 3D model.")
    if not {"clips", "materials", "lights"} <= asset.info.keys():
        path = store.original_path(asset.digest, asset.ending)
        found = call_apart(about_model, path, seconds=MODEL_S, most_bytes=MODEL_BYTES, what=asset.name)
        asset.info = asset.info | found
        asset.save(update_fields=["info"])
    return asset.info


def title_of(name: str) -> str:
    """A name to show for an upload: its last part without the ending."""
    last = Path(name.replace("\\", "/")).name
    return (os.path.splitext(last)[0].strip() or "clip")[:120]


def _record(
    digest: str, ending: str, target: Path, kind: Asset.Kind, about: dict[str, Any], name: str, on_shelf: bool, words: str,
    settings: dict[str, Any],
) -> Asset:  # fmt: skip
    """The asset of a file that is in the store; all but clips are ready, and on the shelf, at once."""
    clip = kind == Asset.Kind.CLIP
    asset, _ = Asset.objects.get_or_create(
        digest=digest,
        defaults={
            "kind": kind, "name": title_of(name), "ending": ending, "bytes": target.stat().st_size,
            "on_shelf": on_shelf or not clip, "info": about,
            "state": Asset.State.CONFORMING if clip else Asset.State.READY, "words": words, "settings": settings,
        },
    )  # fmt: skip
    return asset


def prepare(digest: str, shot_id: Any = None, *, again: bool = False) -> None:
    """Have a clip conformed, once however many shots wait for it, and given to them; one that is ready is given at once.

    `again` conforms even what is ready, for files that were damaged or lost since.
    """
    with transaction.atomic():
        asset = Asset.objects.select_for_update().get(pk=digest)
        if asset.kind != Asset.Kind.CLIP:
            raise BadInput("asset.prepare", f"{asset.name} is no clip: there is nothing to prepare.")
        if asset.state == Asset.State.READY and not again:
            if shot_id is not None:
                clip_ready.send(Asset, asset=asset, shot=shot_id)
            return
        going = Job.objects.select_for_update().filter(kind=Job.Kind.CONFORM, asset=asset, state__in=Job.OPEN).first()
        if going is not None:
            if shot_id is not None:
                waiting = [*going.payload.get("shots", []), str(shot_id)]
                going.payload["shots"] = waiting
                going.save(update_fields=["payload"])
                tell_job(going)
            return
        if asset.state == Asset.State.FAILED or again:
            Asset.objects.filter(pk=digest).update(state=Asset.State.CONFORMING, problem="")
        enqueue(Job.Kind.CONFORM, asset=asset, shot_id=shot_id, label=f"Preparing {asset.name}")


def readable_path(digest: str) -> Path:
    """The file that the core reads for an asset: the conformed clip, or the still itself."""
    asset = find_asset(digest)
    if asset.kind == Asset.Kind.CLIP:
        return store.derived_folder(digest) / "clip.mp4"
    return store.original_path(digest, asset.ending)
