"""API: does what is attached hold, and what would be good to follow."""

from __future__ import annotations

import hashlib
import json
import math
import uuid
from typing import Any, Literal

import numpy as np
from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field

from jobs.api import JobOut, job_out
from jobs.models import Job
from jobs.queue import enqueue
from library.assets import find_asset, readable_path
from library.pool import pool
from plonket.base.errors import BadInput
from plonket.checks.advise import advise
from plonket.document.bases import LayerBase
from plonket.document.hashes import picture_hash
from plonket.document.kinds import LAYERS
from plonket.document.operations import leaders
from plonket.document.retime import as_filmed
from plonket.document.shot import Shot as Document
from plonket.media import open_clip
from plonket.track.apart import apart, paths_of
from plonket_server import store
from plonket_server.drawing import draw
from shots.editing import document_of, find_shot
from shots.models import SlipCheck

router = Router(tags=["checks"])


class RunOut(Schema):
    first: int
    last: int
    px: float


class SlipOut(Schema):
    layer: str
    rms_px: float | None = Field(description="None when nothing could be judged")
    px: list[float | None] = Field(description="Per frame; none where it could not be judged")
    reference_frame: int
    worst: list[RunOut]
    message: str


class SlipIn(Schema):
    layers: list[str] | None = Field(default=None, description="None: all that follow something")


class FactOut(Schema):
    about: Literal["detail", "blur", "light", "depth", "moving"]
    grade: Literal["good", "fair", "poor"]
    says: str


class SuggestionOut(Schema):
    kind: Literal["locked", "camera", "plane", "point"]
    frame: int
    outline: list[tuple[float, float]]
    why: str


class MoverAtOut(Schema):
    frame: int
    box: tuple[float, float, float, float]


class MoverOut(Schema):
    first: int
    last: int
    box: tuple[float, float, float, float] = Field(description="x0, y0, x1, y1 of all it covers")
    at: list[MoverAtOut]
    who: Literal["person", "thing"]


class AdviceOut(Schema):
    facts: list[FactOut]
    suggestions: list[SuggestionOut]
    movers: list[MoverOut]


def followers(document: Document) -> list[LayerBase]:
    """Layers whose slip can be measured now."""
    measured = {m.id for m in document.motions if m.measurement is not None}
    leads = leaders(document)
    return [one for one in document.layers if "slips" in LAYERS.of(one).traits and leads.get(one.id) in measured]


def slip_key(document: Document, layer: LayerBase) -> str:
    """What a layer's slip depends on: where it is, and all that moves it; not how it looks."""
    document = as_filmed(document)
    kept = layer.model_dump(mode="json", include={
        "kind", "id", "width", "height", "mirror", "follow", "x", "y", "turn", "size", "anchor_x", "anchor_y", "plane", "fit",
        "shape",
    })  # fmt: skip
    moves = picture_hash(document.model_copy(update={"stack": [], "parcels": [], "finish": []}))
    footage = document.footage
    ends = [footage.in_frame, footage.out_frame] if footage else []
    return hashlib.sha256(json.dumps([kept, moves, ends], sort_keys=True).encode()).hexdigest()


def start_check(shot_id: uuid.UUID, document: Document, wanted: list[str] | None = None) -> Job | None:
    """Measure the slip of those followers whose slip is not known for where they are now."""
    todo = []
    for layer in followers(document):
        key = slip_key(document, layer)
        known = SlipCheck.objects.filter(shot_id=shot_id, layer=layer.id, key=key).exists()
        if (wanted is None or layer.id in wanted) and not known:
            todo.append({"layer": layer.id, "name": layer.name, "key": key})
    if not todo:
        return None
    label = f"Checking {todo[0]['name']}" if len(todo) == 1 else f"Checking {len(todo)} things"
    return enqueue(
        Job.Kind.CHECK, shot_id=shot_id, label=label,
        payload={"checks": todo, "document": document.model_dump(mode="json")},
    )  # fmt: skip


@router.get("/shots/{shot_id}/slip", response=list[SlipOut])
def slips(request: HttpRequest, shot_id: uuid.UUID) -> Any:
    """The slip of every follower, where it is known for where things are now."""
    document = document_of(find_shot(shot_id))
    keys = {layer.id: slip_key(document, layer) for layer in followers(document)}
    out = []
    for check in SlipCheck.objects.filter(shot_id=shot_id, key__in=keys.values()):
        if keys.get(check.layer) == check.key:
            out.append(SlipOut(layer=check.layer, message=check.message, **check.result))
    return out


@router.post("/shots/{shot_id}/slip", response=JobOut | None)
def check_slip(request: HttpRequest, shot_id: uuid.UUID, body: SlipIn) -> Any:
    """Measure slip in the background."""
    document = document_of(find_shot(shot_id))
    if not followers(document):
        raise BadInput("slip.none", "Nothing in the stack follows a measured motion yet.")
    busy = Job.objects.filter(shot_id=shot_id, kind=Job.Kind.CHECK, state__in=Job.OPEN).first()
    job = busy or start_check(shot_id, document, body.layers)
    return job_out(job) if job else None


@router.get("/clips/{digest}/advice", response=AdviceOut)
def advice(request: HttpRequest, digest: str, start: int = 0, stop: int | None = None) -> Any:
    """What a look at the clip suggests to follow."""
    asset = find_asset(digest)
    frames = int(asset.info["frames"])
    stop = frames if stop is None else stop
    if not 0 <= start < stop <= frames:
        raise BadInput("advise.range", f"The range {start}-{stop - 1} does not lie within the clip.")
    kept = store.derived_folder(digest) / f"advice-3-{start}-{stop}.json"
    if not kept.exists():
        store.keep_bytes(draw(advice_on, digest, start, stop).model_dump_json().encode(), kept)
    return AdviceOut.model_validate_json(kept.read_bytes())


def advice_on(digest: str, start: int, stop: int) -> AdviceOut:
    """A look at a clip, taken in the drawing process."""
    clip = open_clip(readable_path(digest))
    try:
        found = advise(clip, start, stop)
    finally:
        clip.close()
    return AdviceOut(
        facts=[FactOut(about=f.about, grade=f.grade, says=f.says) for f in found.facts],
        suggestions=[
            SuggestionOut(kind=s.kind, frame=s.frame, outline=list(s.outline), why=s.why) for s in found.suggestions
        ],
        movers=[
            MoverOut(first=m.first, last=m.last, box=m.box, at=[MoverAtOut(frame=f, box=box) for f, box in m.at],
                     who=m.who)
            for m in found.movers
        ],
    )  # fmt: skip


def slip_result(px: np.ndarray, reference: int, rms: float, worst: list[tuple[int, int, float]]) -> dict[str, Any]:
    """A slip as it is stored and sent."""
    return {
        "rms_px": round(rms, 4) if np.isfinite(rms) else None,
        "px": [round(float(v), 3) if np.isfinite(v) else None for v in px],
        "reference_frame": reference,
        "worst": [{"first": a, "last": b, "px": round(p, 2)} for a, b, p in worst],
    }


class ApartOut(Schema):
    px: list[float] = Field(description="For every frame of the clip")
    paths: list[list[tuple[float, float]]] = Field(description="Where each of the two takes the spot, frame by frame")
    rms: float = Field(description="Over the part of the clip that the shot shows")
    worst: int = Field(description="The frame of the clip on which they are furthest apart")


@router.get("/shots/{shot_id}/motions/{motion_id}/apart/{other_id}", response=ApartOut)
def motions_apart(
    request: HttpRequest, shot_id: uuid.UUID, motion_id: str, other_id: str, frame: int, x: float, y: float
) -> Any:
    """How far apart two motions take a spot that they share in a frame of the clip."""
    document = as_filmed(document_of(find_shot(shot_id)))
    footage = document.footage
    if footage is None or not 0 <= frame < footage.frames or not (math.isfinite(x) and math.isfinite(y)):
        raise BadInput("apart.spot", "Choose a spot in one of the clip's frames.")
    paths = [pool().movement(document.motion(one), frame) for one in (motion_id, other_id)]
    if paths[0] is None or paths[1] is None:
        raise BadInput("apart.unmeasured", "Both motions must be measured first.")
    ways = np.nan_to_num(paths_of(paths[0], paths[1], np.array([x, y])), nan=-1e6).clip(-1e6, 1e6)
    px = apart(ways)
    inside = px[footage.in_frame : footage.out_frame + 1]
    return ApartOut(
        px=px.round(3).tolist(), paths=ways.round(2).tolist(), rms=round(float(np.sqrt(np.mean(inside**2))), 3),
        worst=footage.in_frame + int(np.argmax(inside)),
    )  # fmt: skip
