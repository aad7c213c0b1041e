"""Changing a shot: every change is a new revision, made in one transaction."""

from __future__ import annotations

import uuid
from typing import Any

import jsonpatch
from django.db import transaction
from django.db.models import Max

from jobs.tell import tell
from library.models import Asset, Project
from library.pool import read_measurement
from plonket.base.errors import BadInput
from plonket.base.lru_cache import LruCache
from plonket.document.hashes import picture_hash
from plonket.document.operations import fresh_name, replace_footage
from plonket.document.shot import Footage, read_shot
from plonket.document.shot import Shot as Document
from plonket.pack.manifest import Steps
from plonket.room.camera_track import CameraTrack
from plonket.track.camera.by_hand import put_right, said_by_hand, settled
from plonket.track.camera.settings import CameraMotion
from plonket_server import store
from plonket_server.problems import Conflict, NotHere
from shots.models import Measurement, Revision, Shot


def find_shot(shot_id: uuid.UUID) -> Shot:
    try:
        return Shot.objects.select_related("current").get(pk=shot_id)
    except Shot.DoesNotExist:
        raise NotHere("shot") from None


def document_of(shot: Shot) -> Document:
    assert shot.current is not None
    return read_shot(shot.current.document, stored=True)


def document_at(shot_id: uuid.UUID, number: int) -> Document:
    """A shot as it was in one of its revisions."""
    found = Revision.objects.filter(shot_id=shot_id, number=number).first()
    if found is None:
        raise NotHere("version of the shot")
    return read_shot(found.document, stored=True)


def add_shot(project: Project, document: Document, label: str = "New shot") -> Shot:
    """A shot with its first revision."""
    with transaction.atomic():
        shot = Shot.objects.create(project=project, name=document.name)
        _store(shot, document, None, label)
    return shot


def add_shot_with_steps(project: Project, steps: Steps) -> Shot:
    """A shot with all its steps, at the one where it stood. Raises `BadInput`."""
    documents = {step.number: read_shot(step.document, stored=True) for step in steps.steps}
    if steps.current not in documents or any(s.parent is not None and s.parent not in documents for s in steps.steps):
        raise BadInput("pack.steps", "The steps of a shot do not lead to one another.")
    with transaction.atomic():
        shot = Shot.objects.create(project=project, name=documents[steps.current].name)
        made: dict[int, Revision] = {}
        for step in sorted(steps.steps, key=lambda one: one.number):
            document = documents[step.number]
            made[step.number] = Revision.objects.create(
                shot=shot, number=step.number, parent=made.get(step.parent) if step.parent is not None else None,
                document=document.model_dump(mode="json"), picture=picture_hash(document), label=step.label,
            )  # fmt: skip
        _go_to(shot, made[steps.current])
    return shot


def copy_shot(shot_id: uuid.UUID, project: Project) -> Shot:
    """A shot once more, in the same project or another, as it is now."""
    shot = find_shot(shot_id)
    document = document_of(shot)
    if shot.project_id == project.pk:
        document = document.model_copy(update={"name": fresh_name(document.name, set(
            project.shot_set.values_list("name", flat=True)))})  # fmt: skip
    return add_shot(project, document, f"Copied from {shot.name}"[:120])


def patch_shot(shot_id: uuid.UUID, patch: list[dict[str, Any]], label: str) -> Shot:
    """Apply an RFC 6902 patch to the current revision.

    The patch should ``test`` the ids of the list items it touches: then it fails with `Conflict`
    rather than hit another item when the list has changed in between.
    """
    with transaction.atomic():
        shot = _locked(shot_id)
        assert shot.current is not None
        try:
            # As it is read now: a document stored before a field was there has its default.
            changed = document_of(shot).model_dump(mode="json")
            for operation in patch:
                changed = jsonpatch.JsonPatch([operation]).apply(changed, in_place=True)
                # Copies of copies double each time.
                if operation.get("op") == "copy" and not _is_small(changed):
                    raise BadInput("shot.patch", "This change would make the shot too large.")
        except jsonpatch.JsonPatchTestFailed:
            raise Conflict(
                "shot.conflict", "The shot has changed in another window in between. It has been loaded afresh."
            ) from None
        except (jsonpatch.JsonPatchException, jsonpatch.JsonPointerException, TypeError, LookupError, ValueError,
                RecursionError) as error:  # fmt: skip
            raise BadInput("shot.patch", "This change cannot be applied to the shot.") from error
        document = read_shot(changed)
        _store(shot, document, shot.current, label)
    return shot


MOST_VALUES = 2_000_000
_MADE: LruCache[tuple[str, str, float], str] = LruCache(lambda _key: "", 64)
"""Digests of solves that were put right by hand, by what was asked for."""


def _is_small(document: Any) -> bool:
    """Whether it has fewer than `MOST_VALUES` values."""
    count, todo = 0, [document]
    while todo:
        one = todo.pop()
        count += 1
        if count > MOST_VALUES:
            return False
        if isinstance(one, dict | list):
            todo += one.values() if isinstance(one, dict) else one
    return True


def change_shot(shot_id: uuid.UUID, label: str, change: Any) -> Shot:
    """Apply a function Document -> Document | None (None: nothing to do) as one revision."""
    with transaction.atomic():
        shot = _locked(shot_id)
        document = change(document_of(shot))
        if document is None:
            return shot
        _store(shot, read_shot(document.model_dump(mode="json"), stored=True), shot.current, label)
    return shot


def step(shot_id: uuid.UUID, back: bool) -> Shot:
    """Undo (`back`) or redo."""
    with transaction.atomic():
        shot = _locked(shot_id)
        assert shot.current is not None
        target = shot.current.parent if back else shot.current.children.order_by("-number").first()
        if target is None:
            raise BadInput("shot.no_step", "There is nothing to undo." if back else "There is nothing to redo.")
        _go_to(shot, target)
    return shot


def give_footage(shot_id: uuid.UUID, asset: Asset) -> None:
    """Make a ready clip the footage of a shot."""
    info = asset.info
    footage = Footage(
        asset=asset.digest, name=asset.name, width=info["width"], height=info["height"], rate=info["fps"],
        frames=info["frames"], in_frame=0, out_frame=info["frames"] - 1, opacity=0.0 if asset.settings.get("canvas") else 100.0,
        ground="clear" if info.get("has_alpha") else "black",
    )  # fmt: skip

    def change(document: Document) -> Document | None:
        changed = replace_footage(document, footage)
        return None if changed is document else changed

    if Shot.objects.filter(pk=shot_id).exists():
        change_shot(shot_id, f"Footage {asset.name}", change)


def _locked(shot_id: uuid.UUID) -> Shot:
    try:
        return Shot.objects.select_for_update().get(pk=shot_id)
    except Shot.DoesNotExist:
        raise NotHere("shot") from None


def _store(shot: Shot, document: Document, parent: Revision | None, label: str) -> None:
    document = settled(document, _put_right)
    number = (shot.revisions.aggregate(top=Max("number"))["top"] or 0) + 1
    made = Revision.objects.create(
        shot=shot, number=number, parent=parent, document=document.model_dump(mode="json"),
        picture=picture_hash(document), label=label[:120],
    )  # fmt: skip
    _go_to(shot, made)


def _put_right(base: str, motion: CameraMotion, fps: float) -> str:
    """A solve put right by hand, as a measurement of its own: every edit of the shot asks for it."""
    def make() -> str:
        track = read_measurement(base)
        assert isinstance(track, CameraTrack)
        return store.keep_measurement(put_right(track, motion, fps).to_bytes())

    digest = _MADE.get((base, said_by_hand(motion), fps), make)
    Measurement.objects.get_or_create(digest=digest, defaults={"kind": CameraTrack.KIND, "summary": {}})
    return digest


def _go_to(shot: Shot, revision: Revision) -> None:
    """Make a revision the current one of a shot that is locked or new, and tell the open pages."""
    shot.current = revision
    shot.name = revision.document["name"]
    shot.version += 1
    shot.save()
    tell("shot", {"shot": str(shot.id), "version": shot.version})


def thumb_frame(document: dict[str, Any]) -> int:
    """The frame that stands for a stored shot: the middle of its range."""
    footage = document["footage"]
    return (footage["in_frame"] + footage["out_frame"]) // 2 if footage else 0
