"""API: putting a solved camera's room straight."""

from __future__ import annotations

import uuid
from typing import Any, Literal

import numpy as np
from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field

from library.pool import pool, read_measurement
from plonket.base.conventions import F64
from plonket.base.errors import BadInput
from plonket.base.fields import raised
from plonket.document.follow import Follow
from plonket.document.operations import fresh_id, fresh_name, lay_room, with_values
from plonket.document.perch import Perch
from plonket.document.retime import as_filmed
from plonket.document.shot import Shot as Document
from plonket.document.spot import Spot
from plonket.layers.form import FormLayer
from plonket.layers.model import MeshLayer, pivot_at, stands
from plonket.layers.solid import landing
from plonket.render.sources import ShotSources
from plonket.room.alignment import Room, along, at_origin, laid, measured, nudged, suggested, surface
from plonket.room.boxes import box_round
from plonket.room.camera import RoomCamera
from plonket.room.camera_track import CameraTrack
from plonket.room.meshes.files import read_model
from plonket.track.camera.by_hand import pulled
from plonket.track.camera.settings import CameraMotion
from plonket.track.room_motion import RoomMotion
from shots.api import ShotOut, shot_out
from shots.editing import change_shot, document_of, find_shot

router = Router(tags=["rooms"])
Does = Literal["ground", "origin", "axis", "scale", "suggest", "turn", "raise"]

LABELS: dict[Does, str] = {
    "ground": "Ground through details", "origin": "Origin at a detail", "axis": "Direction along details",
    "scale": "Set a distance", "suggest": "Find the ground", "turn": "Turn the room", "raise": "Raise the room",
}  # fmt: skip


class RoomIn(Schema):
    does: Does
    details: list[int] = Field(default_factory=list, max_length=5000, description="Numbers of details")
    amount: float | None = Field(default=None, description="Metres of a distance or rise, degrees of a turn")


@router.post("/shots/{shot_id}/motions/{motion_id}/room", response=ShotOut)
def put_straight(request: HttpRequest, shot_id: uuid.UUID, motion_id: str, body: RoomIn) -> Any:
    """Lay the ground, set the origin, a direction or a distance; one step that can be undone."""
    find_shot(shot_id)

    def change(document: Document) -> Document:
        motion = document.motion(motion_id)
        track = pool().measured(motion.measurement) if motion.measurement else None
        if not isinstance(motion, RoomMotion) or not isinstance(track, CameraTrack):
            raise BadInput("room.unsolved", f"{motion.name} is not solved yet. Measure it first.")
        if track.kind != "full" and body.does != "turn":
            raise BadInput("room.turns", "This camera only turns: there is no room to put straight.")
        return lay_room(document, motion_id, _straight(motion.room, track, body))

    return shot_out(change_shot(shot_id, LABELS[body.does], change))


class DetailsIn(Schema):
    details: list[int] = Field(max_length=5000, description="Numbers of three details or more that lie on what is made")
    frame: int = Field(ge=0, description="Of the clip, whose camera sees its front")


@router.post("/shots/{shot_id}/motions/{motion_id}/surface", response=ShotOut)
def add_surface(request: HttpRequest, shot_id: uuid.UUID, motion_id: str, body: DetailsIn) -> Any:
    """A perch that lies on the flat surface through some details, facing the camera; a pixel of it is one of the frame."""
    find_shot(shot_id)

    def change(document: Document) -> Document:
        camera = _solved(ShotSources(as_filmed(document), pool()), motion_id)
        frame = min(body.frame, camera.track.frames - 1)
        found = surface(camera.room.points(_places(camera.track, body.details)), camera.eye(frame))
        perch = _perch(document, motion_id, camera, frame, "Surface", *found)
        return document.model_copy(update={"perches": [*document.perches, perch]})

    return shot_out(change_shot(shot_id, "A surface through details", change))


@router.post("/shots/{shot_id}/motions/{motion_id}/box", response=ShotOut)
def add_box(request: HttpRequest, shot_id: uuid.UUID, motion_id: str, body: DetailsIn) -> Any:
    """What is really there, as a box on the ground round some details, on a perch of its own."""
    find_shot(shot_id)

    def change(document: Document) -> Document:
        camera = _solved(ShotSources(as_filmed(document), pool()), motion_id)
        frame = min(body.frame, camera.track.frames - 1)
        eye = camera.eye(frame)
        foot, heading, size = box_round(camera.room.points(_places(camera.track, body.details)), eye)
        perch = _perch(document, motion_id, camera, frame, "Box stands here", foot, heading)
        wide, tall, deep = (round(max(float(v), 0.0001), 4) for v in size)
        name = fresh_name("Really there", {layer.name for layer in document.layers})
        form = FormLayer(id=fresh_id(document, "layer"), name=name, use="holdout", wide=wide, tall=tall, deep=deep,
                         follow=Follow(target=perch.id, reference_frame=frame, perspective=True))  # fmt: skip
        return document.model_copy(update={"perches": [*document.perches, perch], "stack": [form, *document.stack]})

    return shot_out(change_shot(shot_id, "A box round details", change))


def _solved(sources: ShotSources, motion_id: str) -> RoomCamera:
    camera = sources.camera(motion_id)
    if camera is None or camera.track.kind != "full":
        raise BadInput("room.unsolved", "This motion is not solved in 3D yet. Measure it first.")
    return camera


def _perch(
    document: Document, motion_id: str, camera: RoomCamera, frame: int, called: str, place: F64, heading: float,
    tilt: float = 0.0,
) -> Perch:  # fmt: skip
    """A perch on a spot of the room; a pixel of what sits there is one of the frame."""
    x, y, z = (round(float(v), 5) for v in place)
    pixel = 1000 * float(np.linalg.norm(place - camera.eye(frame))) / camera.lens(frame).focal
    spot = Spot(x=x, y=y, z=z, heading=round(heading, 3), tilt=round(tilt, 3), pixel_mm=round(pixel, 5))
    return Perch(
        id=fresh_id(document, "perch"), name=fresh_name(called, {p.name for p in document.perches}), spot=spot,
        follow=Follow(target=motion_id, reference_frame=frame, perspective=True),
    )  # fmt: skip


class PulledDetail(Schema):
    detail: int = Field(description="Its number")
    x: float = Field(description="Pixel of the clip where it belongs")
    y: float


class PullIn(Schema):
    frame: int = Field(ge=0, description="Of the clip")
    details: list[PulledDetail] = Field(min_length=1, max_length=100)
    over: int = Field(default=0, ge=0, le=100000, description="Frames before and after it over which the turn comes and goes")


@router.post("/shots/{shot_id}/motions/{motion_id}/pull", response=ShotOut)
def pull(request: HttpRequest, shot_id: uuid.UUID, motion_id: str, body: PullIn) -> Any:
    """Turn a solved camera in a frame so that details lie where they belong; see `by_hand.pulled`."""
    find_shot(shot_id)

    def change(document: Document) -> Document:
        motion = document.motion(motion_id)
        if not isinstance(motion, CameraMotion) or motion.untouched is None or document.footage is None:
            raise BadInput("room.unsolved", "This motion is not solved in 3D yet. Measure it first.")
        track = read_measurement(motion.untouched)
        assert isinstance(track, CameraTrack)
        to = {one.detail: (one.x, one.y) for one in body.details}
        numbers = pulled(track, motion, body.frame, to, over=body.over, fps=float(document.footage.filmed_fps))
        changed = motion.model_copy(update=numbers)
        return document.model_copy(update={"motions": [changed if one.id == motion_id else one for one in document.motions]})

    return shot_out(change_shot(shot_id, f"Put frame {body.frame} right", change))


class LandingIn(Schema):
    frame: int = Field(ge=0)
    pixel: tuple[float, float] = Field(description="x, y on the clip's frame")
    surface: str | None = Field(default=None, description="A perch in the room whose flat wall takes it")
    without: str | None = Field(default=None, description="A layer that is looked through: what is being moved")


class LandingOut(Schema):
    place: tuple[float, float, float] | None = Field(description="Metres in the room; none: the sky")
    on: str | None = Field(description="The model or form that is met; none: the ground, or the surface that was named")
    normal: tuple[float, float, float] | None = Field(
        description="Which way the footage's surface there faces, by its measured depth; none: it is not known"
    )


@router.post("/shots/{shot_id}/motions/{motion_id}/landing", response=LandingOut)
def land(request: HttpRequest, shot_id: uuid.UUID, motion_id: str, body: LandingIn) -> Any:
    """What a click on the picture meets in a room."""
    sources = ShotSources(document_of(find_shot(shot_id)), pool())
    camera = _solved(sources, motion_id)
    seat = sources.seat(body.surface) if body.surface else None
    frame = min(body.frame, camera.track.frames - 1)
    found = landing(sources, motion_id, frame, body.pixel, seat[1] if seat else None, body.without)
    if found is None:
        return LandingOut(place=None, on=None, normal=None)
    return LandingOut(place=_rounded(found.place), on=found.on, normal=None if found.normal is None else _rounded(found.normal))


def _rounded(place: F64) -> tuple[float, float, float]:
    x, y, z = (round(float(v), 5) for v in place)
    return x, y, z


class PivotIn(Schema):
    frame: int = Field(ge=0)
    pixel: tuple[float, float] | None = Field(default=None, description="x, y on the model; none: its bottom's middle")


@router.post("/shots/{shot_id}/layers/{layer_id}/pivot", response=ShotOut)
def set_pivot(request: HttpRequest, shot_id: uuid.UUID, layer_id: str, body: PivotIn) -> Any:
    """The place on a model that stands on its spot and about which it turns. The model stays where it is on this frame."""
    find_shot(shot_id)

    def change(document: Document) -> Document:
        layer = next((one for one in document.layers if one.id == layer_id), None)
        sources = ShotSources(document, pool())
        seat = sources.seat(layer.follow.target) if isinstance(layer, MeshLayer) else None
        if not isinstance(layer, MeshLayer) or seat is None:
            raise BadInput("pivot.layer", "Only a model that stands in a room has a pivot.")
        frame = min(body.frame, seat[0].track.frames - 1)
        if body.pixel is None:
            now = stands(layer, *seat, frame)
            pivot, shift = np.zeros(3), now[:3, :3] @ -np.array(layer.pivot)
        else:
            found = pivot_at(layer, *seat, frame, body.pixel, read_model(pool().path(layer.asset)))
            if found is None:
                raise BadInput("pivot.beside", f"{layer.name} is not seen there. Click on it.")
            pivot, shift = found
        # Up is the layer's own lift: the spot stays on the ground that takes the shadows.
        _, up = seat[1].axes(frame, seat[0].eye(frame), seat[0].turn(frame))
        lift = float(shift @ up)
        x, y, z = (round(float(v), 6) for v in pivot)
        turned = layer.model_copy(update={"pivot": (x, y, z), "lift": raised(layer.lift, lift)})
        return _moved(document, turned, shift - lift * up)

    return shot_out(change_shot(shot_id, "Set the pivot", change))


def _moved(document: Document, layer: MeshLayer, shift: F64) -> Document:
    """The document with a layer in its place, and its perch moved; a perch of its own where others stand on it as well."""
    perch = next((p for p in document.perches if p.id == layer.follow.target), None)
    if perch is None or perch.spot is None:
        raise BadInput("pivot.perch", f"{layer.name} does not stand on a perch of its own. Give it one first.")
    put = {axis: raised(getattr(perch.spot, axis), float(by)) for axis, by in zip("xyz", shift, strict=True)}
    moved = perch.model_copy(update={"spot": perch.spot.model_copy(update=put)})
    if sum(one.id == perch.id for one in document.references()) > 1:
        fresh = fresh_id(document, "perch")
        moved = moved.model_copy(update={"id": fresh, "name": f"Under {layer.name}"[:80]})
        layer = layer.model_copy(update={"follow": layer.follow.model_copy(update={"target": fresh})})
        perches = [*document.perches, moved]
    else:
        perches = [moved if p.id == perch.id else p for p in document.perches]
    values = {"pivot": layer.pivot, "lift": layer.lift, "follow": layer.follow}
    return with_values(document, layer.id, values).model_copy(update={"perches": perches})


def _straight(room: Room, track: CameraTrack, body: RoomIn) -> Room:
    if body.does == "suggest":
        # As it was measured the set stands upright.
        return suggested(track.points[track.kept], track.rotation, track.position, np.array([0.0, 1.0, 0.0]), 0.3)
    if body.does in ("turn", "raise"):
        amount = body.amount or 0.0
        if not np.isfinite(amount) or abs(amount) > 1e6:
            raise BadInput("room.amount", "Give a number of degrees or metres.")
        return nudged(room, turn_deg=amount if body.does == "turn" else 0.0, rise=amount if body.does == "raise" else 0.0)
    at = room.points(_places(track, body.details))
    if body.does == "ground":
        return laid(room, at, room.points(track.position).mean(axis=0))
    if body.does == "origin":
        if len(at) != 1:
            raise BadInput("room.origin", "Pick one detail for the origin.")
        return at_origin(room, at[0])
    if len(at) != 2:
        raise BadInput("room.pair", "Pick two details for this.")
    if body.does == "axis":
        return along(room, at[0], at[1])
    metres = body.amount
    if metres is None or not 1e-4 <= metres <= 1e5:
        raise BadInput("room.distance", "Give the real distance between the two details in metres.")
    return measured(room, at[0], at[1], metres)


def _places(track: CameraTrack, numbers: list[int]) -> F64:
    rows = {int(i): k for k, i in enumerate(track.ids)}
    missing = [n for n in numbers if n not in rows]
    if missing:
        raise BadInput("room.detail", "A picked detail belongs to an earlier measurement. Pick again.")
    return track.points[[rows[n] for n in numbers]].reshape(-1, 3)
