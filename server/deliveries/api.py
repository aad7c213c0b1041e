"""API: deliveries."""

from __future__ import annotations

import shutil
import uuid
from datetime import datetime
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field

from deliveries.models import Delivery
from jobs.api import JobOut, job_out
from jobs.models import Job
from jobs.queue import enqueue
from library.api import AssetOut, asset_out
from library.assets import bring_in
from plonket.base.errors import BadInput
from plonket.media.failures import media_errors
from plonket_server import store
from plonket_server.problems import NotHere
from shots.editing import document_of, find_shot

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
    clear: bool = Field(description="Whether it has coverage: browsers do not play such a file")
    created: datetime


@router.get("/deliveries", response=list[DeliveryOut])
def deliveries(request: HttpRequest) -> Any:
    """Finished videos, the newest first."""
    return [
        DeliveryOut(id=d.id, shot=d.shot_id, name=d.name, bytes=d.bytes, width=d.width, height=d.height,
                    frames=d.frames, rate=d.rate, clear=d.ending == ".mov", created=d.created)
        for d in Delivery.objects.all()[:200]
    ]  # fmt: skip


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
    """A finished video among the clips, to be plonked or to make another shot on it."""
    found = Delivery.objects.filter(pk=delivery_id).first()
    if found is None:
        raise NotHere("delivery")
    store.check_room(2 * found.bytes)
    store.root().mkdir(parents=True, exist_ok=True)
    with TemporaryDirectory(dir=store.root()) as folder:
        copy = Path(folder) / f"copy{found.ending}"
        with media_errors(found.path):
            shutil.copyfile(found.path, copy)
        return asset_out(bring_in(copy, f"{found.name}{found.ending}"))


@router.delete("/deliveries/{delivery_id}", response={204: None})
def remove_delivery(request: HttpRequest, delivery_id: uuid.UUID) -> Any:
    """Remove a finished video."""
    found = Delivery.objects.filter(pk=delivery_id).first()
    if found is None:
        raise NotHere("delivery")
    shutil.rmtree(store.delivery_folder(found.folder), ignore_errors=True)
    found.delete()
    return 204, None
