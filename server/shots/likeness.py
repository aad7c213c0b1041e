"""API: elements matched to the plate, and recordings lined up with it."""

from __future__ import annotations

import uuid
from typing import Any, Literal

from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field, FiniteFloat

from jobs.api import JobOut, job_out
from jobs.models import Job
from jobs.queue import enqueue
from library.pool import pool
from plonket.base.errors import BadInput
from plonket.document.operations import with_values
from plonket.document.shot import Shot as Document
from plonket.image.grain_in_time import MeasuredGrain
from plonket.looks.grain import Grain
from plonket.render.match import Matched, match_to_plate
from plonket.render.picked import Of, Point, picked_values
from plonket.render.precompute import ahead_frames, is_ahead
from plonket.render.sources import ShotSources
from plonket_server.connections import in_thread
from plonket_server.drawing import draw
from shots.api import ShotOut, shot_out
from shots.editing import change_shot, document_of, find_shot
from shots.keys import picture_layer

router = Router(tags=["likeness"])


class MatchIn(Schema):
    frame: int = Field(ge=0)


class MatchOut(Schema):
    shot: ShotOut
    says: list[str] = Field(description="What was measured, in plain words")


class LineUpIn(Schema):
    by: Literal["sound", "picture"]


@router.post("/shots/{shot_id}/layers/{layer_id}/match", response=MatchOut)
async def match(request: HttpRequest, shot_id: uuid.UUID, layer_id: str, body: MatchIn) -> Any:
    """Match a layer to the plate where it sits in a frame: one undoable change."""
    # Measuring takes its time: in a thread of its own, so that nothing else waits.
    return await in_thread(lambda: _match(shot_id, layer_id, body.frame))


def matched(document: Document, layer_id: str, frame: int) -> Matched:
    """What matching a layer gives, worked out in the drawing process."""
    return match_to_plate(document, ShotSources(document, pool()), layer_id, frame)


def _match(shot_id: uuid.UUID, layer_id: str, frame: int) -> MatchOut:
    document = document_of(find_shot(shot_id))
    found = draw(matched, document, layer_id, frame)
    name = next(layer.name for layer in document.layers if layer.id == layer_id)

    def change(now: Document) -> Document | None:
        values: dict[str, Any] = {"looks": found.looks}
        if found.shutter is not None:
            values["shutter"] = found.shutter
        return with_values(now, layer_id, values)

    shot = change_shot(shot_id, f"Match {name} to the plate", change)
    says = found.says or ["nothing differs enough to change"]
    if found.left:
        says = [*says, f"left alone, as no change brings them nearer: {', '.join(found.left)}"]
    return MatchOut(shot=shot_out(shot), says=says)


class PointIn(Schema):
    layer: str | None = Field(default=None, description="Whose look it is; none: the whole picture's")
    look: str
    point: Point
    of: Of = Field(description="Whether the point is one of the look's own picture, or of the plate")
    frame: int = Field(ge=0)
    pixel: tuple[FiniteFloat, FiniteFloat]


@router.post("/shots/{shot_id}/point", response=ShotOut)
async def pick_point(request: HttpRequest, shot_id: uuid.UUID, body: PointIn) -> Any:
    """Set a look's black, grey or white by a place of the picture: one undoable change."""
    return await in_thread(lambda: _pick(shot_id, body))


def picked(document: Document, body: PointIn) -> dict[str, Any]:
    """The look's values by a point, worked out in the drawing process."""
    sources = ShotSources(document, pool())
    return picked_values(document, sources, body.layer, body.look, body.point, body.of, body.frame, body.pixel)


def _pick(shot_id: uuid.UUID, body: PointIn) -> ShotOut:
    values = draw(picked, document_of(find_shot(shot_id)), body)

    def laid(looks: list[Any]) -> list[Any]:
        return [type(one).model_validate({**one.model_dump(), **values}) if one.id == body.look else one for one in looks]

    def change(now: Document) -> Document | None:
        if body.layer is None:
            return now.model_copy(update={"finish": laid(now.finish)})
        layer = next((one for one in now.layers if one.id == body.layer), None)
        return None if layer is None else with_values(now, body.layer, {"looks": laid(layer.looks)})

    return shot_out(change_shot(shot_id, f"Pick {body.point}", change))


CLIP_GRAIN = "clip-grain"
"""Id of the finish's look that gives the clip's grain back."""


class GrainOut(Schema):
    shot: ShotOut
    says: str = Field(description="What was measured, in plain words")


@router.post("/shots/{shot_id}/grain", response=GrainOut)
async def give_grain_back(request: HttpRequest, shot_id: uuid.UUID) -> Any:
    """Lay the clip's own grain, as it is measured, over the finished picture: one undoable change."""
    return await in_thread(lambda: _grain(shot_id))


def clip_grain(asset: str) -> MeasuredGrain | None:
    """A clip's grain, measured in the drawing process unless it is known."""
    return pool().grain(asset)


def _grain(shot_id: uuid.UUID) -> GrainOut:
    footage = document_of(find_shot(shot_id)).footage
    if footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet. Bring in a clip first.")
    found = draw(clip_grain, footage.asset)
    if found is None:
        raise BadInput("grain.none", "Nowhere in this clip does its grain show clearly enough to be measured.")
    look = Grain(id=CLIP_GRAIN, name="The clip's grain", profile=found.profile)

    def change(now: Document) -> Document | None:
        kept = [one for one in now.finish if one.id != CLIP_GRAIN]
        return now.model_copy(update={"finish": [*kept, look]})

    shot = change_shot(shot_id, "Give the clip's grain back", change)
    strength = sum(sum(row) for row in found.profile.strength) / (3 * len(found.profile.strength))
    how = "from frame to frame" if found.how == "time" else "in calm places, as nothing moves"
    return GrainOut(shot=shot_out(shot), says=f"{strength:.1f} codes of grain, measured {how}.")


@router.post("/shots/{shot_id}/layers/{layer_id}/lineup", response=JobOut)
def line_up(request: HttpRequest, shot_id: uuid.UUID, layer_id: str, body: LineUpIn) -> Any:
    """Start a layer's clip where it shows the same moment as the footage, in the background."""
    layer = picture_layer(document_of(find_shot(shot_id)), layer_id)
    if pool().length(layer.asset) <= 1:
        raise BadInput("lineup.still", f"{layer.name} is a still: there is nothing to line up.")
    payload = {"layer": layer_id, "by": body.by}
    return job_out(enqueue(Job.Kind.LINEUP, shot_id=shot_id, label=f"Lining up {layer.name}", payload=payload))


class AheadIn(Schema):
    percent: int = Field(ge=10, le=100, description="Of full size, as the frames that are to be shown at once")


class LayerAheadOut(Schema):
    slow: bool = Field(description="Whether there is anything slow about the layer")
    done: int
    total: int


@router.get("/shots/{shot_id}/layers/{layer_id}/ahead", response=LayerAheadOut)
async def ahead(request: HttpRequest, shot_id: uuid.UUID, layer_id: str, percent: int) -> Any:
    """How much of what is slow about a layer is worked out over the range."""
    # Many frames are looked at: in a thread of its own, so that nothing else waits.
    return await in_thread(lambda: _ahead(shot_id, layer_id, percent))


def _ahead(shot_id: uuid.UUID, layer_id: str, percent: int) -> LayerAheadOut:
    document = document_of(find_shot(shot_id))
    layer = document.layer(layer_id)
    frames = ahead_frames(document, layer)
    sources = ShotSources(document, pool())
    done = sum(is_ahead(layer, sources, frame, percent / 100) for frame in frames)
    return LayerAheadOut(slow=bool(frames), done=done, total=len(frames))


@router.post("/shots/{shot_id}/layers/{layer_id}/ahead", response=JobOut)
def start_ahead(request: HttpRequest, shot_id: uuid.UUID, layer_id: str, body: AheadIn) -> Any:
    """Work out in the background what is slow about a layer, over the whole range."""
    document = document_of(find_shot(shot_id))
    layer = document.layer(layer_id)
    if not ahead_frames(document, layer):
        raise BadInput("ahead.none", f"There is nothing slow about {layer.name}.")
    open_jobs = Job.objects.filter(shot_id=shot_id, kind=Job.Kind.AHEAD, state__in=Job.OPEN, payload__layer=layer_id)
    if open_jobs.exists():
        raise BadInput("ahead.busy", f"{layer.name} is being worked out already. Stop that first.")
    payload = {"document": document.model_dump(mode="json"), "layer": layer_id, "scale": body.percent / 100}
    return job_out(enqueue(Job.Kind.AHEAD, shot_id=shot_id, label=f"Working out {layer.name}", payload=payload))
