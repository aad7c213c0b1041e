"""API: how the clip's frames lie in the finished picture."""

from __future__ import annotations

import json
import uuid
from typing import Any

import numpy as np
from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field

from jobs.api import JobOut, job_out
from jobs.models import Job
from jobs.queue import enqueue
from library.pool import pool
from plonket.base.errors import BadInput
from plonket.base.outlines import carry, control_points, flatten
from plonket.document.bases import MaskedTreatment
from plonket.document.hashes import mends_hash
from plonket.document.retime import as_filmed
from plonket.document.shot import Shot
from plonket.masks.combine import space_of
from plonket.masks.outlined import OutlineMask
from plonket.plate.repair.alike import find_alike
from plonket.plate.repair.filled import Filled
from plonket.plate.rolling_shutter import readout_of
from plonket.render.sources import ShotSources
from plonket.track.depth.settings import DepthMotion
from plonket.track.plane.settings import PlaneMotion
from plonket_server import store
from plonket_server.problems import NotHere
from shots.editing import document_at, document_of, find_shot
from shots.masks import thing_with_masks

router = Router(tags=["plate"])


class AlikeOut(Schema):
    matrix: list[float] = Field(description="Nine numbers, row by row: from the example's pixels of the clip to the place's")
    likeness: float = Field(description="Correlation with the example, up to 1")


class ViewOut(Schema):
    matrices: list[list[float]] = Field(description="Per frame, nine numbers row by row: the clip's pixels to the picture's")
    held: list[list[float]] = Field(description="The same for the held picture worked on, where the movement is given back")
    zoom: list[float] = Field(description="Per frame, to keep the borders out")
    before: list[list[float]] = Field(description="Per frame, where the held spot is in the clip")
    after: list[list[float]] = Field(description="The same as it is meant to move, before zooming")
    says: str = Field(description="What a creator should know; empty when all is well")


@router.get("/shots/{shot_id}/view", response=ViewOut)
def view(request: HttpRequest, shot_id: uuid.UUID, number: int | None = None) -> Any:
    """The view as the plate is treated now or was in revision `number`; empty lists when nothing treats it."""
    document = document_of(find_shot(shot_id)) if number is None else document_at(shot_id, number)
    path = ShotSources(document, pool()).view
    if path is None:
        return ViewOut(matrices=[], held=[], zoom=[], before=[], after=[], says="")
    matrices = path.matrices()
    return ViewOut(
        matrices=matrices.reshape(len(matrices), 9).tolist(),
        held=[] if path.held is None else path.held.reshape(len(matrices), 9).tolist(), zoom=np.round(path.zoom, 5).tolist(),
        before=np.round(path.before, 3).tolist(), after=np.round(path.after, 3).tolist(), says=path.says,
    )  # fmt: skip


@router.get("/shots/{shot_id}/masks/{thing_id}/{mask_id}/alike", response=list[AlikeOut])
def alike(request: HttpRequest, shot_id: uuid.UUID, thing_id: str, mask_id: str, frame: int) -> Any:
    """Further things in a frame that look like what a mask shows there, the likest first."""
    document = document_of(find_shot(shot_id))
    if document.footage is None or not 0 <= frame < document.footage.frames:
        raise BadInput("frame.range", "This frame lies outside the clip.")
    mask = next((m for m in thing_with_masks(document, thing_id).masks if m.id == mask_id), None)
    if not isinstance(mask, OutlineMask):
        raise NotHere("outline")
    space = space_of(mask, ShotSources(as_filmed(document), pool()).spaces, frame)
    if space is None:
        raise BadInput("alike.own", "An outline that rides on a layer cannot be looked for in the footage.")
    polygon = carry(flatten(control_points(mask.outline, frame)), space)
    if not np.isfinite(polygon).all():
        raise BadInput("alike.outside", "The example lies outside the picture in this frame.")
    rgb = pool().clip(document.footage.asset).rgb(frame)
    return [AlikeOut(matrix=a.matrix.ravel().tolist(), likeness=round(a.likeness, 3)) for a in find_alike(rgb, polygon)]


class AheadOut(Schema):
    done: int = Field(description="How many frames of the range are mended ahead")
    total: int
    unseen: float | None = Field(description="Share of what is borrowed that no frame shows; none: nothing is borrowed yet")
    says: str = Field(description="Which way was used for how much of it; empty: nothing is borrowed yet")


@router.get("/shots/{shot_id}/ahead", response=AheadOut)
def ahead(request: HttpRequest, shot_id: uuid.UUID) -> Any:
    """How much of the mended footage is worked out."""
    document = as_filmed(document_of(find_shot(shot_id)))
    if document.footage is None:
        return AheadOut(done=0, total=0, unseen=None, says="")
    folder = store.mended_folder(mends_hash(document))
    frames = range(document.footage.in_frame, document.footage.out_frame + 1)
    done = sum((folder / f"{i:06d}.png").exists() for i in frames)
    told = Filled.sum([Filled(**json.loads(path.read_bytes())) for path in folder.glob("told-*.json")])
    unseen = told.unseen_share if told.filled else None
    says = told.says(deeper=not told.by_depth and _could_be_deeper(document))
    return AheadOut(done=done, total=len(frames), unseen=unseen, says=says)


def _could_be_deeper(document: Shot) -> bool:
    """Whether the footage's depth could be measured, and was not."""
    measured = any(isinstance(m, DepthMotion) and m.measurement for m in document.motions)
    return not measured and ShotSources(document, pool()).room is not None


@router.post("/shots/{shot_id}/ahead", response=JobOut)
def mend_ahead(request: HttpRequest, shot_id: uuid.UUID) -> Any:
    """Work the mended footage of the range out in the background."""
    document = document_of(find_shot(shot_id))
    if document.footage is None or not any(isinstance(one, MaskedTreatment) and one.shown for one in document.plate):
        raise BadInput("mend.none", "Nothing is taken out of this shot yet.")
    if Job.objects.filter(shot_id=shot_id, kind=Job.Kind.MEND, state__in=Job.OPEN).exists():
        raise BadInput("mend.busy", "The frames are being filled already. Stop that first.")
    payload = {"document": document.model_dump(mode="json")}
    return job_out(enqueue(Job.Kind.MEND, shot_id=shot_id, label="Filling frames", payload=payload))


class ReadoutOut(Schema):
    share: float | None = Field(description="Of a frame's time; none: no surface tells")
    motion: str | None = Field(description="The plane that told it")


@router.get("/shots/{shot_id}/readout", response=ReadoutOut)
def readout(request: HttpRequest, shot_id: uuid.UUID) -> Any:
    """How long the sensor takes to read a frame, judged from a plane that was measured in perspective."""
    document = as_filmed(document_of(find_shot(shot_id)))
    footage = document.footage
    for motion in document.motions:
        path = pool().movement(motion, motion.reference_frame) if isinstance(motion, PlaneMotion) else None
        if footage is not None and path is not None:
            share = readout_of(path[footage.in_frame : footage.out_frame + 1], (footage.width, footage.height))
            if share is not None:
                return ReadoutOut(share=round(share, 3), motion=motion.name)
    return ReadoutOut(share=None, motion=None)
