"""API: elements matched to the plate, and recordings lined up with it."""

from __future__ import annotations

import uuid
from typing import Any, Literal

import numpy as np
from asgiref.sync import sync_to_async
from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field

from plonket.errors import BadInput
from plonket.layers.common import PictureLayer
from plonket.match import match_to_plate
from plonket.media.lineup import line_up_pictures, line_up_sound
from plonket.media.sound import read_wav
from plonket.shot import Shot as Document
from plonket.sources import ShotSources
from plonket_server import store
from plonket_server.pool import pool
from shots.api import ShotOut, shot_out
from shots.editing import change_shot, document_of, find_shot, with_layer
from shots.keys import picture_layer

router = Router(tags=["likeness"])


class MatchIn(Schema):
    frame: int = Field(ge=0)


class MatchOut(Schema):
    shot: ShotOut
    says: list[str] = Field(description="What was measured, in plain words")


class LineUpIn(Schema):
    by: Literal["sound", "picture"]


class LineUpOut(Schema):
    shot: ShotOut
    starts: int
    off: float = Field(description="What is left in frames, because clips start on whole ones")


@router.post("/shots/{shot_id}/layers/{layer_id}/match", response=MatchOut)
async def match(request: HttpRequest, shot_id: uuid.UUID, layer_id: str, body: MatchIn) -> Any:
    """Match a layer to the plate where it sits in a frame: one undoable change."""
    # Measuring takes its time: in a thread of its own, so that nothing else waits.
    return await sync_to_async(_match, thread_sensitive=False)(shot_id, layer_id, body.frame)


def _match(shot_id: uuid.UUID, layer_id: str, frame: int) -> MatchOut:
    document = document_of(find_shot(shot_id))
    found = match_to_plate(document, ShotSources(document, pool()), layer_id, frame)
    name = next(layer.name for layer in document.layers if layer.id == layer_id)

    def change(now: Document) -> Document | None:
        values: dict[str, Any] = {"looks": found.looks}
        if found.shutter is not None:
            values["shutter"] = found.shutter
        return with_layer(now, layer_id, values)

    shot = change_shot(shot_id, f"Match {name} to the plate", change)
    return MatchOut(shot=shot_out(shot), says=found.says or ["nothing differs enough to change"])


@router.post("/shots/{shot_id}/layers/{layer_id}/lineup", response=LineUpOut)
async def line_up(request: HttpRequest, shot_id: uuid.UUID, layer_id: str, body: LineUpIn) -> Any:
    """Start a layer's clip where it shows the same moment as the footage."""
    return await sync_to_async(_line_up, thread_sensitive=False)(shot_id, layer_id, body.by)


def _line_up(shot_id: uuid.UUID, layer_id: str, by: str) -> LineUpOut:
    document = document_of(find_shot(shot_id))
    layer = picture_layer(document, layer_id)
    assert document.footage is not None
    frames = _shift(document, layer, by) - layer.first
    starts = int(np.floor(frames + 0.5))

    def change(now: Document) -> Document | None:
        return with_layer(now, layer_id, {"starts": starts + layer.first, "speed": 100.0, "by_keys": False})

    shot = change_shot(shot_id, f"Line {layer.name} up by its {by}", change)
    return LineUpOut(shot=shot_out(shot), starts=starts, off=round(frames - starts, 3))


def _shift(document: Document, layer: PictureLayer, by: str) -> float:
    footage = document.footage
    assert footage is not None
    if pool().length(layer.asset) <= 1:
        raise BadInput("lineup.still", f"{layer.name} is a still: there is nothing to line up.")
    if by == "sound":
        paths = [store.derived_folder(asset) / "sound.wav" for asset in (footage.asset, layer.asset)]
        if not all(path.exists() for path in paths):
            raise BadInput("lineup.silent", "One of the two has no sound. Line them up by the picture.")
        return line_up_sound(read_wav(paths[0]), read_wav(paths[1]), float(footage.fps)).frames
    first, second = pool().clip(footage.asset), pool().clip(layer.asset)
    ratio = float(second.info.rate / footage.fps)
    return line_up_pictures(first.rgb, footage.frames, second.rgb, second.info.frames, ratio=ratio).frames

