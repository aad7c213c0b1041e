"""API: keyed numbers, and how the picture is steadied, as files of other programs and back."""

from __future__ import annotations

import uuid
from typing import Any, Literal

import numpy as np
from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema
from pydantic import Field

from library.pool import pool
from plonket.base.errors import BadInput
from plonket.base.fields import Name
from plonket.document.curves import moving_numbers, with_curves
from plonket.document.shot import Footage
from plonket.document.shot import Shot as Document
from plonket.formats.key_curves import read_curves, write_curves_csv, write_curves_json
from plonket.formats.moves import write_moves_csv, write_moves_json
from plonket.render.frame import lies
from plonket.render.sources import ShotSources
from shots.api import ShotOut, shot_out
from shots.editing import change_shot, document_of, find_shot
from shots.masks import as_file
from shots.motions import MOST_TEXT

router = Router(tags=["curves"])

Form = Literal["csv", "json"]
MIMES: dict[Form, str] = {"csv": "text/csv; charset=utf-8", "json": "application/json"}


class CurvesIn(Schema):
    name: Name
    text: str = Field(max_length=MOST_TEXT, description="JSON or CSV, as they are written")


@router.get("/shots/{shot_id}/curves/{owner}/curves.{form}")
def curves(request: HttpRequest, shot_id: uuid.UUID, owner: str, form: Form) -> HttpResponse:
    """The keyed numbers of a layer, treatment, perch, motion, delivery frame, of the finish or the footage."""
    document = document_of(find_shot(shot_id))
    footage, numbers = _footage(document), moving_numbers(document, owner)
    if not numbers:
        raise BadInput("curves.none", "Nothing of this has keys yet.")
    text = write_curves_json(numbers, footage.fps) if form == "json" else write_curves_csv(numbers, footage.length)
    return as_file(text, MIMES[form], f"curves.{form}")


@router.post("/shots/{shot_id}/curves/{owner}", response=ShotOut)
def bring_in_curves(request: HttpRequest, shot_id: uuid.UUID, owner: str, body: CurvesIn) -> Any:
    """Keys for numbers of a thing, by the names that they have in a file."""
    found = read_curves(body.text)

    def change(document: Document) -> Document:
        return with_curves(document, owner, found)

    return shot_out(change_shot(shot_id, f"Keys from {body.name}"[:120], change))


@router.get("/shots/{shot_id}/view/moves.{form}")
def moves(request: HttpRequest, shot_id: uuid.UUID, form: Form) -> HttpResponse:
    """How each frame of the shot is moved by steadying; as JSON it comes back as a plane."""
    document = document_of(find_shot(shot_id))
    footage, sources = _footage(document), ShotSources(document, pool())
    if sources.view is None:
        raise BadInput("view.none", "Nothing moves the picture of this shot. Steady it first.")
    size = (footage.width, footage.height)
    matrices = np.stack([lies(document, sources, frame, size, None)[1] for frame in range(footage.length)])
    text = write_moves_json(matrices) if form == "json" else write_moves_csv(matrices, size)
    return as_file(text, MIMES[form], f"steady.{form}")


def _footage(document: Document) -> Footage:
    if document.footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet. Bring in a clip first.")
    return document.footage
