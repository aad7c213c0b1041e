"""API: projects, assets, the shelf."""

from __future__ import annotations

import uuid
from datetime import datetime
from typing import Annotated, Any, Literal, cast

from django.db.models import Count, Max
from django.db.models.functions import Coalesce
from django.http import HttpRequest
from ninja import Query, Router, Schema
from pydantic import Field, StringConstraints

from library.assets import find_asset, model_info, prepare
from library.models import Asset, Project
from library.pool import pool
from plonket.base.fields import Name
from plonket.media.sequence import missing_numbers, spoken
from plonket.track.points.detail import judge
from plonket_server.problems import NotHere

router = Router(tags=["library"])


class ProjectOut(Schema):
    id: uuid.UUID
    name: str
    shots: int
    changed: datetime | None


class NameIn(Schema):
    name: Name


class AssetOut(Schema):
    digest: str
    kind: Literal["clip", "still", "table", "model", "light", "sound"]
    name: str
    state: Literal["conforming", "ready", "failed"]
    problem: str
    on_shelf: bool
    words: str
    width: int
    height: int
    rate: str
    frames: int
    has_audio: bool
    extent: list[float] | None = Field(description="A model's width, height and depth in its own unit")
    equivalent_mm: float | None = Field(description="Focal length as the 35 mm equivalent, where the file tells it")
    seconds: float | None = Field(description="How long a sound lasts")
    taken: str = Field(description="When it was filmed, ISO 8601; empty where its file does not tell")
    transfer: Literal["sdr", "pq", "hlg"] = Field(description="How light is coded: standard, or HDR")
    gyroscope: bool = Field(description="Whether the camera's turning was recorded beside the picture")
    missing: str = Field(description="Which of numbered pictures were not there, in words; the one before each stands for it")
    settings: dict[str, Any]


class NamesIn(Schema):
    names: list[Annotated[str, StringConstraints(max_length=400)]] = Field(max_length=20_000)


class MissingOut(Schema):
    missing: str = Field(description="The numbers that are missing among the names of pictures, in words; empty: none")


class ClipOut(Schema):
    name: str
    seconds: float


class ModelOut(Schema):
    extent: list[float]
    clips: list[ClipOut] = Field(description="How it can move")
    materials: list[str] = Field(description="What it is made of, by name")
    lights: list[str] = Field(description="Lamps in its file, by name")


class DetailOut(Schema):
    grade: Literal["good", "edge", "flat"]
    message: str
    better: list[float] | None = Field(description="Pixel [x, y] of the nearest good detail")


def asset_out(asset: Asset) -> AssetOut:
    info = asset.info
    return AssetOut(
        digest=asset.digest, kind=cast(Any, asset.kind), name=asset.name, state=cast(Any, asset.state), problem=asset.problem,
        on_shelf=asset.on_shelf, words=asset.words, width=info["width"], height=info["height"], rate=info["fps"],
        frames=info["frames"], has_audio=info["has_audio"], extent=info.get("extent"),
        equivalent_mm=info.get("equivalent_mm"), seconds=info.get("seconds"), settings=asset.settings,
        taken=info.get("taken", ""), transfer=info.get("transfer", "sdr"), gyroscope=info.get("gyroscope", False),
        missing=spoken(info.get("missing", ())),
    )  # fmt: skip


@router.get("/projects", response=list[ProjectOut])
def projects(request: HttpRequest) -> Any:
    """All projects, those first that are new or were worked in last."""
    found = Project.objects.annotate(shots=Count("shot"), changed=Max("shot__changed"))
    found = found.order_by(Coalesce("changed", "created").desc())
    return [ProjectOut(id=p.id, name=p.name, shots=p.shots, changed=p.changed) for p in found]


@router.post("/projects", response=ProjectOut)
def add_project(request: HttpRequest, body: NameIn) -> Any:
    """A new, empty project."""
    made = Project.objects.create(name=body.name.strip() or "Untitled")
    return ProjectOut(id=made.id, name=made.name, shots=0, changed=None)


@router.patch("/projects/{project_id}", response=ProjectOut)
def rename_project(request: HttpRequest, project_id: uuid.UUID, body: NameIn) -> Any:
    """Give a project another name."""
    if not Project.objects.filter(pk=project_id).update(name=body.name):
        raise NotHere("project")
    return ProjectOut(id=project_id, name=body.name, shots=0, changed=None)


@router.delete("/projects/{project_id}", response={204: None})
def remove_project(request: HttpRequest, project_id: uuid.UUID) -> Any:
    """Remove a project and its shots. Clips and stills stay on the shelf, finished videos under Deliveries."""
    if not Project.objects.filter(pk=project_id).delete()[0]:
        raise NotHere("project")
    return 204, None


@router.get("/assets", response=list[AssetOut])
def assets(request: HttpRequest, kind: Literal["clip", "still", "table", "model", "light", "sound"] | None = None) -> Any:
    """Everything in the library."""
    found = Asset.objects.all()
    if kind is not None:
        found = found.filter(kind=kind)
    return [asset_out(a) for a in found]


@router.post("/pictures/missing", response=MissingOut)
def missing_pictures(request: HttpRequest, body: NamesIn) -> Any:
    """Which numbered pictures are not among these: asked before any of them is sent."""
    return MissingOut(missing=spoken(missing_numbers(body.names)))


@router.get("/assets/{digest}", response=AssetOut)
def asset(request: HttpRequest, digest: str) -> Any:
    """One asset."""
    return asset_out(find_asset(digest))


@router.get("/assets/{digest}/model", response=ModelOut)
def model(request: HttpRequest, digest: str) -> Any:
    """What a 3D model's file says of itself."""
    return model_info(find_asset(digest))


@router.post("/assets/{digest}/prepare", response=AssetOut)
def prepare_again(request: HttpRequest, digest: str) -> Any:
    """Have a clip prepared once more from its untouched original."""
    found = find_asset(digest)
    prepare(found.digest, again=True)
    return asset_out(find_asset(digest))


@router.get("/clips/{digest}/detail", response=DetailOut)
def detail(request: HttpRequest, digest: str, frame: int, x: float, y: float,
           pattern_px: Annotated[float, Query(ge=1, le=1000, allow_inf_nan=False)] = 23) -> Any:  # fmt: skip
    """Whether there is something to hold on to at a pixel, and the nearest better place."""
    luma = pool().clip(digest).luma(frame)
    found = judge(luma, x, y, pattern_px=min(max(pattern_px, 7), 201))
    return DetailOut(grade=found.grade, message=found.message, better=list(found.better) if found.better else None)
