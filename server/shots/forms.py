"""API: forms put in place by tugs, and objects solved from points."""

from __future__ import annotations

import uuid
from typing import Any

import numpy as np
from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field

from library.assets import find_asset
from library.models import Asset
from library.pool import pool
from plonket.base.errors import BadInput
from plonket.document.operations import fresh_id
from plonket.document.shot import Footage
from plonket.document.shot import Shot as Document
from plonket.room.camera_track import CameraTrack
from plonket.room.meshes.forms import FormKind, edges_of, model_form, unit_form
from plonket.room.meshes.raster import touched
from plonket.track.form.fit import FormPose, first_pose, fit_tugs, focal_of, with_tugs
from plonket.track.form.measure import form_surface, stood_in
from plonket.track.form.settings import FormMotion, FormStake, Pose, Tug
from shots.api import ShotOut, shot_out
from shots.editing import change_shot, document_of, find_shot

router = Router(tags=["forms"])
MOST_EDGES = 4000


class FormIn(Schema):
    shape: FormKind = "box"
    frame: int = Field(ge=0)
    asset: str | None = Field(default=None, description="A model of the shelf, for the shape `model`")


class TugsIn(Schema):
    frame: int = Field(ge=0)
    tugs: list[Tug] = Field(max_length=60)


class TouchIn(Schema):
    frame: int = Field(ge=0)
    x: float
    y: float


class FitOut(Schema):
    pose: Pose
    wide: float
    tall: float
    deep: float
    focal_px: float
    off_px: float = Field(description="How far the tugs are from where the form shows them, RMS")


class OutlineOut(Schema):
    edges: list[list[float]] = Field(description="Of each edge: x, y, z of both ends, then of the normals of both its sides")


class PlaceOut(Schema):
    at: list[float] = Field(description="x, y, z on the form of unit size")


@router.get("/forms/outline", response=OutlineOut)
def outline(request: HttpRequest, shape: FormKind, asset: str | None = None) -> Any:
    """The sharp edges of a form, to draw it."""
    surface = unit_form(shape) if shape != "model" else model_form(str(pool().path(_model(asset))))
    edges, sides = edges_of(surface)
    some = np.linspace(0, len(edges) - 1, min(len(edges), MOST_EDGES)).astype(int)
    rows = np.concatenate([surface.vertices[edges[some]].reshape(-1, 6), sides[some].reshape(-1, 6)], axis=1)
    return OutlineOut(edges=np.round(rows, 5).tolist())


def _model(asset: str | None) -> str:
    if asset is None or find_asset(asset).kind != Asset.Kind.MODEL:
        raise BadInput("form.model", "Choose a 3D model from the shelf for this form.")
    return asset


@router.post("/shots/{shot_id}/forms", response=ShotOut)
def add_form(request: HttpRequest, shot_id: uuid.UUID, body: FormIn) -> Any:
    """A new form in the middle of the picture, to be tugged into place on this frame."""
    find_shot(shot_id)
    extent = (0.2, 0.2, 0.2)
    if body.shape == "model":
        size = np.array(find_asset(_model(body.asset)).info["extent"], np.float64)
        wide, tall, deep = (float(v) for v in np.maximum(size / max(float(size[1]), 1e-9) * 0.2, 1e-4))
        extent = (wide, tall, deep)

    def change(document: Document) -> Document:
        footage = _footage(document)
        motion_id = fresh_id(document, "motion")
        count = sum(isinstance(m, FormMotion) for m in document.motions)
        motion = FormMotion(
            id=motion_id, name="Form" if not count else f"Form {count + 1}", reference_frame=body.frame, shape=body.shape,
            asset=body.asset if body.shape == "model" else None, wide=extent[0], tall=extent[1], deep=extent[2],
            focal_px=0.85 * max(footage.width, footage.height), **_lens(footage),
        )  # fmt: skip
        stake = FormStake(frame=body.frame, pose=first_pose(motion).pose())
        fresh = motion.model_copy(update={"stakes": [stake]})
        return document.model_copy(update={"motions": [*document.motions, fresh]})

    return shot_out(change_shot(shot_id, "Add a form", change))


@router.post("/shots/{shot_id}/motions/{motion_id}/fit", response=FitOut)
def fit(request: HttpRequest, shot_id: uuid.UUID, motion_id: str, body: TugsIn) -> Any:
    """What these tugs would make of the form; nothing is changed. For showing it while a tug is dragged."""
    document = document_of(find_shot(shot_id))
    motion, footage = _form(document, motion_id), _footage(document)
    size = (footage.width, footage.height)
    moved = with_tugs(motion, body.frame, body.tugs, size, _stands(motion, body.frame))
    stake = moved.stake(body.frame)
    assert stake is not None
    stood = FormPose.of(stake.pose)
    off = fit_tugs(moved, [(body.tugs, stood)], size, focal=focal_of(moved, size)).off_px if body.tugs else 0.0
    return FitOut(
        pose=stake.pose, wide=moved.wide, tall=moved.tall, deep=moved.deep, focal_px=focal_of(moved, size), off_px=off
    )


@router.post("/shots/{shot_id}/motions/{motion_id}/tugs", response=ShotOut)
def tug(request: HttpRequest, shot_id: uuid.UUID, motion_id: str, body: TugsIn) -> Any:
    """The tugs of a form on a frame, which becomes a stake; one step that can be undone."""
    find_shot(shot_id)

    def change(document: Document) -> Document:
        motion, footage = _form(document, motion_id), _footage(document)
        if body.frame >= footage.frames:
            raise BadInput("form.frame", "This frame lies beyond the clip's end.")
        moved = with_tugs(motion, body.frame, body.tugs, (footage.width, footage.height), _stands(motion, body.frame))
        return document.model_copy(update={"motions": [moved if m.id == motion_id else m for m in document.motions]})

    return shot_out(change_shot(shot_id, f"Tug on frame {body.frame}", change))


@router.post("/shots/{shot_id}/motions/{motion_id}/touch", response=PlaceOut | None)
def touch(request: HttpRequest, shot_id: uuid.UUID, motion_id: str, body: TouchIn) -> Any:
    """The place on a form that is seen at a pixel; nothing where the form is not."""
    document = document_of(find_shot(shot_id))
    motion, footage = _form(document, motion_id), _footage(document)
    size = (footage.width, footage.height)
    stake = motion.stake(body.frame)
    stood = FormPose.of(stake.pose) if stake else (_stands(motion, body.frame) or first_pose(motion))
    surface = form_surface(motion, lambda asset: str(pool().path(asset)))
    focal = focal_of(motion, size)
    way = ((body.x - size[0] / 2) / focal, (body.y - size[1] / 2) / focal)
    local = touched(surface.corners() @ stood.turn.T + stood.place, way)
    if local is None:
        return None
    at = (local - stood.place) @ stood.turn / np.maximum(np.array(motion.size), 1e-9)
    return PlaceOut(at=[round(float(v), 5) for v in at])


def _lens(footage: Footage) -> dict[str, Any]:
    """What the footage's file tells of its lens."""
    told = find_asset(footage.asset).info.get("equivalent_mm")
    return {"knows": "equivalent", "equivalent_mm": float(told)} if told else {}


def _form(document: Document, motion_id: str) -> FormMotion:
    motion = document.motion(motion_id)
    if not isinstance(motion, FormMotion):
        raise BadInput("form.kind", f"{motion.name} is not a form.")
    return motion


def _footage(document: Document) -> Footage:
    if document.footage is None:
        raise BadInput("shot.no_footage", "This shot has no footage yet. Bring in a clip first.")
    return document.footage


def _stands(motion: FormMotion, frame: int) -> FormPose | None:
    """Where a form is on a frame without a stake: as it was measured, or as on the nearest stake."""
    track = pool().measured(motion.measurement) if motion.measurement else None
    if isinstance(track, CameraTrack) and frame < track.frames and track.known().any():
        return stood_in(track, frame)
    if not motion.stakes:
        return None
    return FormPose.of(min(motion.stakes, key=lambda s: abs(s.frame - frame)).pose)
