"""API: deliveries."""

from __future__ import annotations

import shutil
import uuid
from datetime import datetime
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any, Literal, cast

import numpy as np
from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field

from deliveries.models import Delivery, SavedFiles
from jobs.api import JobOut, job_out
from jobs.models import Job
from jobs.queue import enqueue
from library.api import AssetOut, asset_out
from library.assets import bring_in
from library.pool import pool
from plonket.base.errors import BadInput
from plonket.document.delivery import Delivery as DeliverySettings
from plonket.document.kinds import OUTPUTS
from plonket.media.failures import media_errors
from plonket.render.deliver import delivery_scale, delivery_size, file_name, outputs_of
from plonket.render.framing import boxes_of, frame_of, pixels_of
from plonket.render.sources import ShotSources
from plonket_server import store
from plonket_server.problems import NotHere
from shots.editing import document_at, document_of, find_shot

router = Router(tags=["deliveries"])


class DeliveryOut(Schema):
    id: uuid.UUID
    shot: uuid.UUID | None
    name: str
    bytes: int
    width: int
    height: int
    frames: int
    rate: str
    kind: str
    label: str = Field(description="What kind of file it is, for people")
    file: str = Field(description="What it is called where it is saved")
    shows: Literal["video", "picture", "sound", "nothing"] = Field(description="What a browser can make of it")
    created: datetime


def _shows(kind: str) -> str:
    entry = OUTPUTS.find(kind)
    traits = entry.traits if entry is not None else frozenset[str]()
    if "played" in traits:
        return "video"
    if traits & {"picture", "moving"}:
        return "picture"
    return "sound" if "unseen" in traits else "nothing"


@router.get("/deliveries", response=list[DeliveryOut])
def deliveries(request: HttpRequest) -> Any:
    """Finished files, the newest first."""
    out = []
    for d in Delivery.objects.all()[:200]:
        entry = OUTPUTS.find(d.kind)
        out.append(DeliveryOut(
            id=d.id, shot=d.shot_id, name=d.name, bytes=d.bytes, width=d.width, height=d.height, frames=d.frames,
            rate=d.rate, kind=d.kind, label=entry.label if entry else d.kind, file=d.file,
            shows=cast(Any, _shows(d.kind)), created=d.created,
        ))  # fmt: skip
    return out


class OutputOut(Schema):
    id: str
    kind: str
    label: str
    frame: str | None
    file: str = Field(description="What it is called where it is saved")
    width: int
    height: int
    output: dict[str, Any] = Field(description="Its settings, as a document holds them")


@router.get("/shots/{shot_id}/outputs", response=list[OutputOut])
def outputs(request: HttpRequest, shot_id: uuid.UUID, number: int | None = None) -> Any:
    """The files that delivering a shot makes, as it is now or was in revision `number`."""
    document = document_of(find_shot(shot_id)) if number is None else document_at(shot_id, number)
    if document.footage is None:
        return []
    scale = delivery_scale(document)
    out = []
    for one in outputs_of(document):
        width, height = delivery_size(document, one, scale)
        out.append(OutputOut(
            id=one.id, kind=one.kind, label=OUTPUTS.of(one).label, frame=one.frame, width=width, height=height,
            file=file_name(document, one, scale), output=one.model_dump(mode="json"),
        ))  # fmt: skip
    return out


class BoxesOut(Schema):
    boxes: list[list[float]] = Field(
        description="Per frame of the shot, in pixels of its picture: x, y of the top-left corner, width and height"
    )
    width: int = Field(description="Of what is delivered")
    height: int
    enlarged: float = Field(description="Pixels delivered for one that was filmed, across, where it is nearest")


@router.get("/shots/{shot_id}/delivery-frames/{frame_id}", response=BoxesOut)
def delivery_frame(request: HttpRequest, shot_id: uuid.UUID, frame_id: str, number: int | None = None) -> Any:
    """Where a delivery frame lies, as the shot is now or was in revision `number`."""
    document = document_of(find_shot(shot_id)) if number is None else document_at(shot_id, number)
    frame = frame_of(document, frame_id)
    if document.footage is None or frame is None:
        raise NotHere("frame")
    boxes = boxes_of(frame, document, ShotSources(document, pool()))
    width, height = pixels_of(frame, document)
    nearest = boxes[document.footage.in_frame : document.footage.out_frame + 1, 2].min()
    return BoxesOut(boxes=np.round(boxes, 2).tolist(), width=width, height=height, enlarged=round(width / nearest, 3))


class SavedOut(Schema):
    id: int
    name: str
    outputs: list[dict[str, Any]]


class SavedIn(Schema):
    name: str = Field(min_length=1, max_length=80)
    outputs: list[dict[str, Any]] = Field(min_length=1, max_length=40)


@router.get("/saved-files", response=list[SavedOut])
def saved_files(request: HttpRequest) -> Any:
    """Settings of files that were kept under a name."""
    return [SavedOut(id=one.pk, name=one.name, outputs=one.outputs) for one in SavedFiles.objects.all()]


@router.post("/saved-files", response=SavedOut)
def save_files(request: HttpRequest, body: SavedIn) -> Any:
    """Keep settings of files under a name, in place of what had it. Frames belong to their shot, so they are left out."""
    checked = DeliverySettings.model_validate({"outputs": [one | {"frame": None} for one in body.outputs]})
    kept = [one.model_dump(mode="json") for one in checked.outputs]
    made, _ = SavedFiles.objects.update_or_create(name=body.name.strip(), defaults={"outputs": kept})
    return SavedOut(id=made.pk, name=made.name, outputs=made.outputs)


@router.delete("/saved-files/{saved_id}", response={204: None})
def forget_files(request: HttpRequest, saved_id: int) -> Any:
    """Forget settings that were kept under a name."""
    if not SavedFiles.objects.filter(pk=saved_id).delete()[0]:
        raise NotHere("saved settings")
    return 204, None


@router.post("/shots/{shot_id}/deliver", response=JobOut)
def start_delivery(request: HttpRequest, shot_id: uuid.UUID) -> Any:
    """Render the shot as it is now; later edits do not change what was started."""
    document = document_of(find_shot(shot_id))
    if document.footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet. Bring in a clip first.")
    job = enqueue(
        Job.Kind.DELIVER, shot_id=shot_id, label=f"Delivering {document.name}",
        payload={"document": document.model_dump(mode="json")},
    )  # fmt: skip
    return job_out(job)


@router.post("/deliveries/{delivery_id}/bring-in", response=AssetOut)
def bring_in_again(request: HttpRequest, delivery_id: uuid.UUID) -> Any:
    """A finished file among the clips, to be plonked or to make another shot on it."""
    found = Delivery.objects.filter(pk=delivery_id).first()
    if found is None:
        raise NotHere("delivery")
    store.check_room(2 * found.bytes)
    store.root().mkdir(parents=True, exist_ok=True)
    with TemporaryDirectory(dir=store.root()) as folder:
        copy = Path(folder) / f"copy{found.ending}"
        with media_errors(found.path):
            shutil.copyfile(found.path, copy)
        return asset_out(bring_in(copy, found.file))


@router.delete("/deliveries/{delivery_id}", response={204: None})
def remove_delivery(request: HttpRequest, delivery_id: uuid.UUID) -> Any:
    """Remove a finished file."""
    found = Delivery.objects.filter(pk=delivery_id).first()
    if found is None:
        raise NotHere("delivery")
    found.path.unlink(missing_ok=True)
    found.delete()
    if not Delivery.objects.filter(folder=found.folder).exists():
        shutil.rmtree(store.delivery_folder(found.folder), ignore_errors=True)
    return 204, None
