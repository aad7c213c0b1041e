"""API: masks as SVG, out and in."""

from __future__ import annotations

import itertools
import uuid
from collections.abc import Sequence
from typing import Any, Literal

import numpy as np
from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema
from pydantic import Field

from jobs.api import JobOut, job_out
from jobs.models import Job
from jobs.queue import enqueue
from library.pool import pool
from plonket.base.errors import BadInput
from plonket.base.outlines import Outline, OutlineKey
from plonket.document.bases import PURPLES, LayerBase, Look, LookBase, Mask, MaskedTreatment
from plonket.document.operations import fresh_name, with_values
from plonket.document.retime import as_filmed
from plonket.document.shot import Shot as Document
from plonket.formats.registry import FORMATS, Going
from plonket.formats.svg_outlines import NamedOutline, read_svg, write_svg
from plonket.masks.follow_outline import points_of
from plonket.masks.outline_of import outlines_of
from plonket.masks.outlined import OutlineMask
from plonket.masks.picked import PickedMask, cover
from plonket.render.mask_pictures import masks_as_matte
from plonket.render.sources import ShotSources
from plonket.track.matte.matte_track import MatteTrack
from plonket_server.problems import NotHere
from shots.api import ShotOut, shot_out
from shots.editing import change_shot, document_at, document_of, find_shot
from shots.motions import MOST_TEXT

router = Router(tags=["masks"])


class SvgIn(Schema):
    text: str = Field(max_length=MOST_TEXT, description="An SVG file; its shapes are pixels of the clip")
    frame: int = Field(ge=0, description="The frame that they are drawn on")


FINISH = "_finish"
"""Whose the looks over everything are; no id begins so."""


def look_address(address: str) -> tuple[str, str]:
    """The layer's id, or `FINISH`, and the look's in ``LAYER.LOOK``; the second is empty where a thing of its own is meant."""
    owner, _, look = address.partition(".")
    return owner, look


def thing_with_masks(document: Document, address: str) -> LayerBase | MaskedTreatment | LookBase:
    """The layer or treatment of that id, or the look at ``LAYER.LOOK``; `NotHere` without one."""
    owner, look_id = look_address(address)
    if look_id:
        for look in _looks(document, owner):
            if look.id == look_id:
                return look
        raise NotHere("thing with masks")
    for thing in (*document.layers, *document.plate):
        if thing.id == owner and isinstance(thing, LayerBase | MaskedTreatment):
            return thing
    raise NotHere("thing with masks")


def _looks(document: Document, owner: str) -> list[Look]:
    if owner == FINISH:
        return document.finish
    return next((layer.looks for layer in document.layers if layer.id == owner), [])


def layer_of(document: Document, address: str) -> LayerBase | None:
    """The layer in whose own pixels masks may be drawn; None: there is none."""
    owner, _ = look_address(address)
    return next((layer for layer in document.layers if layer.id == owner), None)


def with_masks(document: Document, address: str, masks: Sequence[Mask]) -> Document:
    """The document with other masks for a layer, a treatment or a look."""
    thing = thing_with_masks(document, address)
    owner, look_id = look_address(address)
    if look_id:
        looks = [one.model_copy(update={"masks": list(masks)}) if one.id == look_id else one for one in _looks(document, owner)]
        if owner == FINISH:
            return document.model_copy(update={"finish": looks})
        return with_values(document, owner, {"looks": looks})
    if isinstance(thing, LayerBase):
        return with_values(document, owner, {"masks": list(masks)})
    plate = [one.model_copy(update={"masks": list(masks)}) if one.id == owner else one for one in document.plate]
    return document.model_copy(update={"plate": plate})


@router.get("/shots/{shot_id}/masks/{thing_id}")
def masks_svg(
    request: HttpRequest, shot_id: uuid.UUID, thing_id: str, frame: int, number: int | None = None, moving: bool = False
) -> HttpResponse:
    """The outlines of a thing's masks as they are drawn at a frame, or with their movement, as an SVG file."""
    document = document_of(find_shot(shot_id)) if number is None else document_at(shot_id, number)
    thing, footage = thing_with_masks(document, thing_id), document.footage
    if footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet. Bring in a clip first.")
    outlines = [
        NamedOutline(name=m.name, use=m.mode != "subtract", outline=m.outline)
        for m in thing.masks
        if isinstance(m, OutlineMask)
    ]
    text = write_svg(outlines, (footage.width, footage.height), frame, footage.fps if moving else None)
    name = "masks.svg" if moving else f"masks-{frame}.svg"
    return as_file(text, "image/svg+xml", name)


@router.get("/shots/{shot_id}/masks/{thing_id}/pictures/{form}")
def masks_as_pictures(request: HttpRequest, shot_id: uuid.UUID, thing_id: str, form: str) -> HttpResponse:
    """What all masks of a thing cover together on every frame, in a format that mattes are written in."""
    document = document_of(find_shot(shot_id))
    thing, entry = thing_with_masks(document, thing_id), FORMATS.get(form)
    if document.footage is None or entry.track != MatteTrack.KIND or entry.write is None:
        raise BadInput("mask.format", f"Masks cannot be written as {form}.")
    track = masks_as_matte(ShotSources(document, pool()), thing.masks, layer_of(document, thing_id))
    data = entry.write(Going(motion=None, measured=track, footage=document.footage))
    return as_file(data, entry.mime, entry.kind)


def as_file(data: str | bytes, mime: str, name: str) -> HttpResponse:
    """An answer that the browser keeps as a file."""
    answer = HttpResponse(data, content_type=mime)
    answer["Content-Disposition"] = f'attachment; filename="{name}"'
    answer["X-Content-Type-Options"] = "nosniff"
    return answer


@router.post("/shots/{shot_id}/masks/{thing_id}", response=ShotOut)
def masks_from_svg(request: HttpRequest, shot_id: uuid.UUID, thing_id: str, body: SvgIn) -> Any:
    """Add the closed shapes of an SVG file as masks, with their movement; they stay on the footage until they are made to
    ride."""
    footage = document_of(find_shot(shot_id)).footage
    found = read_svg(body.text, body.frame, None if footage is None else footage.fps)

    def change(document: Document) -> Document | None:
        masks = list(thing_with_masks(document, thing_id).masks)
        for one in found:
            masks.append(OutlineMask(
                id=fresh_mask(masks), name=one.name, colour=PURPLES[len(masks) % len(PURPLES)], outline=one.outline,
                mode="add" if one.use else "subtract", reference_frame=body.frame,
            ))  # fmt: skip
        return with_masks(document, thing_id, masks)

    change_shot(shot_id, f"{len(found)} masks from SVG" if len(found) > 1 else "A mask from SVG", change)
    return shot_out(find_shot(shot_id))


def followed_mask(document: Document, thing_id: str, mask_id: str) -> OutlineMask:
    """The mask of that id, if its outline can be followed. Raises `BadInput` where it cannot."""
    found = next((m for m in thing_with_masks(document, thing_id).masks if m.id == mask_id), None)
    if not isinstance(found, OutlineMask):
        raise BadInput("follow.kind", "Only a drawn outline can be followed.")
    if document.footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet. Bring in a clip first.")
    if found.rides in ("own", "screen"):
        raise BadInput("follow.rides", f"{found.name} lies on no part of the footage. Let it ride on the footage first.")
    return found


class FollowIn(Schema):
    frame: int = Field(ge=0, description="Of the clip; from where on, where it goes one way")
    way: Literal["both", "on", "back"] = "both"


@router.post("/shots/{shot_id}/masks/{thing_id}/{mask_id}/follow", response=JobOut)
def follow(request: HttpRequest, shot_id: uuid.UUID, thing_id: str, mask_id: str, body: FollowIn) -> Any:
    """Bend a mask's outline with what it shows, from the shapes that were drawn, in the background."""
    mask = followed_mask(document_of(find_shot(shot_id)), thing_id, mask_id)
    payload = {"thing": thing_id, "mask": mask_id, "frame": body.frame, "way": body.way}
    return job_out(enqueue(Job.Kind.FOLLOW, shot_id=shot_id, label=f"Following {mask.name}", payload=payload))


class RoundIn(Schema):
    frame: int = Field(ge=0, description="Of the clip")


@router.post("/shots/{shot_id}/masks/{thing_id}/{mask_id}/outline", response=ShotOut)
def draw_round(request: HttpRequest, shot_id: uuid.UUID, thing_id: str, mask_id: str, body: RoundIn) -> Any:
    """Outlines round what a mask by a matte covers in a frame, in its place: it is turned off, and can be turned on again."""
    document = document_of(find_shot(shot_id))
    mask, footage = next((m for m in thing_with_masks(document, thing_id).masks if m.id == mask_id), None), document.footage
    if not isinstance(mask, PickedMask) or footage is None or body.frame >= footage.frames:
        raise BadInput("outline.kind", "Only what a matte covers can be drawn round.")
    size = footage.width, footage.height
    found = outlines_of(cover(mask, body.frame, size, np.eye(3), ShotSources(as_filmed(document), pool()).picked))
    if not found:
        raise BadInput("outline.nothing", f"{mask.name} covers nothing in this frame. Measure it, or go to another one.")
    if len(found) > 1 and (mask.inverted or mask.mode not in ROUND_MODES):
        raise BadInput("outline.mode", f"{mask.name} is in several pieces. Let it go with those above it, or off them, and not "
                       "inverted.")  # fmt: skip

    def change(now: Document) -> Document | None:
        thing = thing_with_masks(now, thing_id)
        masks: list[Mask] = []
        for one in thing.masks:
            masks.append(one.model_copy(update={"shown": False}) if one.id == mask_id else one)
        at = next((k for k, one in enumerate(masks) if one.id == mask_id), len(masks) - 1) + 1
        for number, piece in enumerate(found):
            names = {m.name for m in masks}
            mode = ROUND_MODES[mask.mode] if piece.hole else mask.mode
            masks.insert(at + number, OutlineMask(
                id=fresh_mask(masks), name=fresh_name(f"Round {mask.name}"[:100], names), mode=mode, inverted=mask.inverted,
                colour=PURPLES[len(masks) % len(PURPLES)], strength=mask.strength,
                outline=Outline(keys=[OutlineKey(frame=body.frame, points=points_of(piece.shape))]),
            ))  # fmt: skip
        return with_masks(now, thing_id, masks)

    return shot_out(change_shot(shot_id, f"Draw round {mask.name}"[:120], change))


ROUND_MODES: dict[str, Any] = {"add": "subtract", "subtract": "add"}
"""How a hole goes in what goes so."""


def fresh_mask(masks: Sequence[Mask]) -> str:
    """An id that no mask of a thing has."""
    taken = {m.id for m in masks}
    return next(f"mask-{n}" for n in itertools.count(len(masks) + 1) if f"mask-{n}" not in taken)
