"""API: where everything that follows anything is."""

from __future__ import annotations

import uuid
from typing import Any

import numpy as np
from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema
from pydantic import Field

from library.pool import pool
from plonket.base.conventions import F64
from plonket.document.retime import as_filmed
from plonket.render.sources import ShotSources
from plonket.track.movement import inverted, steadied
from plonket.track.wanted import movements_wanted
from shots.editing import document_at, document_of, find_shot

router = Router(tags=["spaces"])
Rows = list[list[float]]


class MovementOut(Schema):
    motion: str
    reference_frame: int
    smooth: float
    inverted: bool
    rows: Rows = Field(description="Per frame, nine numbers row by row: the reference frame's pixels to the frame's")


class SpotPathOut(Schema):
    perch: str
    rows: Rows = Field(description="Per frame, nine numbers row by row: pixels of its spot in a room to the frame's")


class SpacesOut(Schema):
    movements: list[MovementOut] = Field(description="All that something in the shot follows, where it is measured")
    spots: list[SpotPathOut] = Field(description="Of all perches that stand in a solved room")


@router.get("/shots/{shot_id}/spaces", response=SpacesOut)
def spaces(
    request: HttpRequest, shot_id: uuid.UUID, response: HttpResponse, number: int | None = None, filmed: bool = False
) -> Any:
    """The movements and spots that a shot uses, as it is now or was in revision `number`.

    Movements go by the clip's frames, spots by the shot's; by the clip's too where it is looked at as it was `filmed`.
    """
    document = document_of(find_shot(shot_id)) if number is None else document_at(shot_id, number)
    document = as_filmed(document) if filmed else document
    sources = ShotSources(document, pool())
    movements = []
    for one in movements_wanted(document):
        path = sources.movement(one.motion, one.reference_frame)
        if path is None:
            continue
        path = steadied(path, one.reference_frame, one.smooth, sources.size)
        movements.append(MovementOut(
            motion=one.motion, reference_frame=one.reference_frame, smooth=one.smooth, inverted=one.inverted,
            rows=_rows(inverted(path) if one.inverted else path),
        ))  # fmt: skip
    standing = [(p, p.follow.target) for p in document.perches if p.spot is not None and p.follow.target is not None]
    paths = [(p.id, sources.spot(target, p.spot)) for p, target in standing if p.spot is not None]
    spots = [SpotPathOut(perch=perch, rows=_rows(path)) for perch, path in paths if path is not None]
    return SpacesOut(movements=movements, spots=spots)


def _rows(matrices: F64) -> Rows:
    """(n, 3, 3) as nine numbers a frame; ten digits are far finer than any pixel."""
    flat = matrices.reshape(len(matrices), 9)
    return [[float(f"{v:.10g}") for v in row] for row in np.asarray(flat).tolist()]
