"""API: how the clip's frames lie in the finished picture."""

from __future__ import annotations

import uuid
from typing import Any

import numpy as np
from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field

from plonket.pool import ShotSources
from plonket_server.pool import pool
from shots.editing import document_at, document_of, find_shot

router = Router(tags=["plate"])


class ViewOut(Schema):
    matrices: list[list[float]] = Field(description="Per frame, nine numbers row by row: the clip's pixels to the picture's")
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
        return ViewOut(matrices=[], zoom=[], before=[], after=[], says="")
    matrices = path.matrices()
    return ViewOut(
        matrices=matrices.reshape(len(matrices), 9).tolist(), zoom=np.round(path.zoom, 5).tolist(),
        before=np.round(path.before, 3).tolist(), after=np.round(path.after, 3).tolist(), says=path.says,
    )  # fmt: skip
