"""API: shots, edits, undo and redo."""

from __future__ import annotations

import functools
import uuid
from collections.abc import Iterator
from datetime import datetime
from typing import Annotated, Any, Literal

from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field, WithJsonSchema
from pydantic.json_schema import models_json_schema

from library.models import Project
from plonket.base.fields import Name
from plonket.document.hashes import plate_hash, spaces_hash
from plonket.document.kinds import REGISTRIES
from plonket.document.operations import leaders
from plonket.document.shot import Shot as Document
from plonket.formats.registry import formats_of
from plonket_server.problems import NotHere
from shots.editing import add_shot, document_of, find_shot, patch_shot, step, thumb_frame
from shots.models import Shot

router = Router(tags=["shots"])
SENT_ALONG = ("Follow", "TrackPoint")


STANDS_FOR_DOCUMENT = "x-document"
StoredDocument = Annotated[dict[str, Any], WithJsonSchema({"type": "object", STANDS_FOR_DOCUMENT: True})]
"""A document that was validated when it was read. Told by its own type, every end point that answers with one would compile
the validators of all kinds anew (34 MB each) and run them; the API's schema names the type all the same."""


class ShotBrief(Schema):
    id: uuid.UUID
    name: str
    changed: datetime
    picture: str
    footage: str | None
    frame: int


class ShotOut(Schema):
    id: uuid.UUID
    project: uuid.UUID
    project_name: str
    number: int
    version: int = Field(description="How often it was changed, undoing included: of two answers the higher is the later")
    picture: str = Field(description="Hash of what the pictures depend on; part of frame addresses")
    document: StoredDocument
    undo: str | None = Field(description="What undo would take back")
    redo: str | None = Field(description="What redo would bring again")
    plate: str = Field(description="Hash of what the treated plate depends on; part of the address of `/view`")
    spaces: str = Field(description="Hash of what the places of followers depend on; part of the address of `/spaces`")
    leaders: dict[str, str] = Field(description="What leads each thing: the motion that its place comes from")


class ShotIn(Schema):
    name: Name = "New shot"


class EditIn(Schema):
    label: Name
    patch: list[dict[str, Any]] = Field(description="RFC 6902 operations", min_length=1, max_length=1000)


class GroupOut(Schema):
    name: str
    when: dict[str, list[Any]] = Field(description="Values that fields must have, one of each list, for it to mean anything")


class FormatOut(Schema):
    name: str
    label: str
    measured: bool = Field(description="Whether it holds what was measured")


class KindOut(Schema):
    """A registered kind, as its entry says; see `plonket.base.registry.Entry`."""

    kind: str
    label: str
    help: str
    groups: list[GroupOut]
    card: dict[str, str]
    says: dict[str, str]
    handles: str
    traits: list[str]
    formats: list[FormatOut] = Field(description="Files that a motion can be written to")
    schema_: dict[str, Any] = Field(alias="schema")


def shot_out(shot: Shot) -> ShotOut:
    assert shot.current is not None
    child = shot.current.children.order_by("-number").first()
    document = document_of(shot)
    return ShotOut(
        id=shot.id, project=shot.project_id, project_name=shot.project.name, number=shot.current.number,
        version=shot.version, picture=shot.current.picture, document=document.model_dump(mode="json"),
        undo=shot.current.label if shot.current.parent_id else None, redo=child.label if child else None,
        plate=plate_hash(document) if document.footage else "", spaces=spaces_hash(document), leaders=leaders(document),
    )  # fmt: skip


KindRegistry = Literal["motion", "treatment", "layer", "generator", "mask", "key", "look", "place", "footage", "output",
                       "frame"]  # fmt: skip


@router.get("/kinds/{registry}", response=list[KindOut], by_alias=True)
def kinds(request: HttpRequest, registry: KindRegistry) -> Any:
    """The registered kinds with the schemas from which forms are made."""
    return _kinds(registry)


def _kinds(registry: str) -> list[dict[str, Any]]:
    return _made(registry, tuple(REGISTRIES[registry].kinds()))


@functools.cache
def _made(registry: str, known: tuple[str, ...]) -> list[dict[str, Any]]:
    """Made once, all together, for they share most of their parts; of these only what forms ask for is sent along."""
    entries = [REGISTRIES[registry].get(kind) for kind in known]
    made, parts = models_json_schema([(entry.settings, "validation") for entry in entries])
    every = parts.get("$defs", {})
    shared = {name: part for name, part in every.items() if name in SENT_ALONG}
    out = []
    for entry in entries:
        schema = made[entry.settings, "validation"]
        whole = every[schema["$ref"].rpartition("/")[2]] if "$ref" in schema else schema
        groups = entry.groups or tuple(dict.fromkeys(_groups_of(whole)))
        out.append({
            "kind": entry.kind, "label": entry.label, "help": entry.help, "card": dict(entry.card), "says": dict(entry.says),
            "handles": entry.handles, "traits": sorted(entry.traits), "schema": {**whole, "$defs": shared},
            "formats": [{"name": f.kind, "label": f.label, "measured": bool(f.track)} for f in formats_of(entry.kind)]
            if registry == "motion" else [],
            "groups": [{"name": g, "when": {}} if isinstance(g, str) else {"name": g[0], "when": g[1]} for g in groups],
        })  # fmt: skip
    return out


def _groups_of(schema: dict[str, Any]) -> Iterator[str]:
    for field in schema.get("properties", {}).values():
        group = field.get("x-plonket", {}).get("group")
        if group:
            yield group


@router.get("/projects/{project_id}/shots", response=list[ShotBrief])
def shots(request: HttpRequest, project_id: uuid.UUID) -> Any:
    """A project's shots, the last changed first."""
    out = []
    for shot in Shot.objects.filter(project=project_id).select_related("current"):
        assert shot.current is not None
        footage = shot.current.document["footage"]
        out.append(
            ShotBrief(id=shot.id, name=shot.name, changed=shot.changed, picture=shot.current.picture,
                      footage=footage["asset"] if footage else None, frame=thumb_frame(shot.current.document))
        )  # fmt: skip
    return out


@router.post("/projects/{project_id}/shots", response=ShotOut)
def new_shot(request: HttpRequest, project_id: uuid.UUID, body: ShotIn) -> Any:
    """A new, empty shot."""
    project = Project.objects.filter(pk=project_id).first()
    if project is None:
        raise NotHere("project")
    return shot_out(add_shot(project, Document(name=body.name)))


@router.get("/shots/{shot_id}", response=ShotOut)
def shot(request: HttpRequest, shot_id: uuid.UUID) -> Any:
    """A shot as it is now."""
    return shot_out(find_shot(shot_id))


class StepOut(Schema):
    number: int
    label: str
    picture: str = Field(description="Hash of what its pictures depend on; part of frame addresses")


MOST_STEPS = 60


@router.get("/shots/{shot_id}/steps", response=list[StepOut])
def steps(request: HttpRequest, shot_id: uuid.UUID) -> Any:
    """The steps that led to the shot as it is, the latest first: those whose pictures differ from the ones after them."""
    shot = find_shot(shot_id)
    # Without their documents, which may be large.
    known = {pk: (parent, StepOut(number=number, label=label, picture=picture)) for pk, parent, number, label, picture in
             shot.revisions.values_list("pk", "parent_id", "number", "label", "picture")}  # fmt: skip
    at, out = shot.current_id, list[StepOut]()
    while at in known and len(out) < MOST_STEPS:
        at, step = known[at]
        if not out or out[-1].picture != step.picture:
            out.append(step)
    return out


@router.delete("/shots/{shot_id}", response={204: None})
def remove_shot(request: HttpRequest, shot_id: uuid.UUID) -> Any:
    """Remove a shot. Its finished videos stay under Deliveries."""
    find_shot(shot_id).delete()
    return 204, None


@router.post("/shots/{shot_id}/edits", response=ShotOut)
def edit(request: HttpRequest, shot_id: uuid.UUID, body: EditIn) -> Any:
    """Change a shot by an RFC 6902 patch."""
    return shot_out(patch_shot(shot_id, body.patch, body.label))


@router.post("/shots/{shot_id}/undo", response=ShotOut)
def undo(request: HttpRequest, shot_id: uuid.UUID) -> Any:
    """Back to the revision before."""
    return shot_out(step(shot_id, back=True))


@router.post("/shots/{shot_id}/redo", response=ShotOut)
def redo(request: HttpRequest, shot_id: uuid.UUID) -> Any:
    """On to the revision that undo left."""
    return shot_out(step(shot_id, back=False))
