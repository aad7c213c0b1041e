"""API: the light of the set, and things that take it."""

from __future__ import annotations

import tempfile
import uuid
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field, FiniteFloat

from library.assets import bring_in
from library.pool import pool
from plonket.base.conventions import F32
from plonket.base.errors import BadInput
from plonket.base.fields import value_at
from plonket.document.bases import LayerBase
from plonket.document.follow import Follow
from plonket.document.operations import fresh_id, fresh_name, with_values
from plonket.document.shot import Shot as Document
from plonket.document.spot import Spot
from plonket.layers.filmed import FilmedLayer
from plonket.layers.light import DomeLayer
from plonket.layers.model import MeshLayer, stands
from plonket.layers.model_lights import with_lamps
from plonket.lighting.set_light import SetLight
from plonket.looks.shadow import Shadow
from plonket.render.set_lighting import SHADOW, as_deep, by_pointed, light_map, light_of, model_light, standee_shadow
from plonket.render.sources import ShotSources
from plonket.room.meshes.files import read_model
from plonket_server import store
from plonket_server.connections import in_thread
from plonket_server.drawing import draw
from plonket_server.problems import NotHere
from shots.api import ShotOut, shot_out
from shots.editing import change_shot, document_of, find_shot

router = Router(tags=["lighting"])


class StandsAt(Schema):
    frame: int = Field(ge=0)
    place: tuple[FiniteFloat, FiniteFloat, FiniteFloat] = Field(description="Metres in the room: the foot of what stands there")
    tall: FiniteFloat = Field(gt=0, description="Metres")


class LightIn(Schema):
    stands: StandsAt | None = Field(default=None, description="Where a picture stands whose shadow is asked for")


class LightOut(Schema):
    says: str = Field(description="What was found, in plain words")
    told: str = Field(description="What told the direction: shadows, shading, overcast or habit")
    sure: float = Field(description="0 to 1")
    model: dict[str, Any] = Field(description="Values of a model that is lit like that")
    shadow: dict[str, Any] | None = Field(default=None, description="A look: the shadow of a picture that stands at a place")


class LitOut(Schema):
    shot: ShotOut
    says: str


class FrameIn(Schema):
    frame: int = Field(ge=0)


class PointedIn(Schema):
    frame: int = Field(ge=0)
    pixel: tuple[FiniteFloat, FiniteFloat] = Field(description="x, y of a place in a shadow of the plate")


def _layer(document: Document, layer_id: str) -> LayerBase:
    """A layer of the shot. Raises `NotHere`."""
    for layer in document.layers:
        if layer.id == layer_id:
            return layer
    raise NotHere("layer")


def found_light(document: Document, motion_id: str) -> SetLight:
    """The light of a motion's room, worked out in the drawing process."""
    return light_of(ShotSources(document, pool()), motion_id)


def shadow_at(document: Document, motion_id: str, at: StandsAt) -> Shadow | None:
    """The shadow that a picture throws which stands at a place."""
    sources = ShotSources(document, pool())
    camera = sources.camera(motion_id)
    if camera is None:
        return None
    x, y, z = at.place
    frame = min(at.frame, camera.track.frames - 1)
    return standee_shadow(light_of(sources, motion_id), camera, Spot(x=x, y=y, z=z), at.tall, frame)


@router.post("/shots/{shot_id}/motions/{motion_id}/light", response=LightOut)
async def light(request: HttpRequest, shot_id: uuid.UUID, motion_id: str, body: LightIn) -> Any:
    """The light of a solved room; with a place, also the shadow of a picture that stands there. Nothing is changed."""

    def ask() -> LightOut:
        document = document_of(find_shot(shot_id))
        found = draw(found_light, document, motion_id)
        shadow = draw(shadow_at, document, motion_id, body.stands) if body.stands is not None else None
        return LightOut(says=found.says(), told=found.told, sure=found.sure, model=model_light(found),
                        shadow=None if shadow is None else shadow.model_dump(mode="json"))  # fmt: skip

    # Looking at a whole clip takes its time: in a thread of its own.
    return await in_thread(ask)


@router.post("/shots/{shot_id}/layers/{layer_id}/light", response=LitOut)
async def take_light(request: HttpRequest, shot_id: uuid.UUID, layer_id: str, body: FrameIn) -> Any:
    """Light a layer as the set is lit: a model's sun and sky, a standing picture's shadow. One undoable change."""
    return await in_thread(lambda: _take(shot_id, layer_id, body.frame))


def _take(shot_id: uuid.UUID, layer_id: str, frame: int) -> LitOut:
    document = document_of(find_shot(shot_id))
    layer = _layer(document, layer_id)
    found, values = draw(_values_for, document, layer_id, frame)
    shot = change_shot(shot_id, f"Light {layer.name} as the set", lambda now: with_values(now, layer_id, values))
    return LitOut(shot=shot_out(shot), says=found.says())


def _values_for(document: Document, layer_id: str, frame: int) -> tuple[SetLight, dict[str, Any]]:
    sources = ShotSources(document, pool())
    layer = sources.layer(layer_id)
    target = getattr(getattr(layer, "follow", None), "target", None)
    motion, seat = sources.room_of(target), sources.seat(target)
    if layer is None or motion is None or seat is None:
        raise BadInput("light.nowhere", "This does not stand in a solved room, where the light of the set could reach it.")
    found = light_of(sources, motion)
    if isinstance(layer, FilmedLayer):
        return found, model_light(found)
    camera, spot = seat
    size, height = getattr(layer, "size", 100.0), getattr(layer, "height", 0)
    tall = height * value_at(size, frame) / 100 * value_at(spot.pixel_mm, frame) / 1000
    return found, {"looks": _with(layer.looks, standee_shadow(found, camera, spot, max(tall, 1e-3), frame))}


def _with(looks: list[Any], shadow: Shadow) -> list[Any]:
    """Looks with the set's shadow in place of the one before, behind all others."""
    return [*(look for look in looks if look.id != SHADOW), shadow]


@router.post("/shots/{shot_id}/layers/{layer_id}/lamps", response=ShotOut)
async def take_lamps(request: HttpRequest, shot_id: uuid.UUID, layer_id: str, body: FrameIn) -> Any:
    """Put the lamps of a model's file into its room, as lamps of the shot. One undoable change."""
    return await in_thread(lambda: _lamps(shot_id, layer_id, body.frame))


def lamps_in(document: Document, layer_id: str, frame: int) -> Document:
    """The document with them, worked out in the drawing process."""
    sources, layer = ShotSources(document, pool()), _layer(document, layer_id)
    if not isinstance(layer, MeshLayer):
        raise BadInput("lamps.none", f"{layer.name} is no 3D model.")
    motion, seat = sources.room_of(layer.follow.target), sources.seat(layer.follow.target)
    if motion is None or seat is None:
        raise BadInput("light.nowhere", "This does not stand in a solved room, which its lamps could light.")
    mesh = read_model(Path(sources.model(layer.asset)))
    if not mesh.lights:
        raise BadInput("lamps.none", f"There are no lamps in the file of {layer.name}.")
    return with_lamps(document, layer, mesh, stands(layer, *seat, frame), motion, frame)


def _lamps(shot_id: uuid.UUID, layer_id: str, frame: int) -> ShotOut:
    name = _layer(document_of(find_shot(shot_id)), layer_id).name
    return shot_out(change_shot(shot_id, f"Lamps of {name}"[:120], lambda now: draw(lamps_in, now, layer_id, frame)))


@router.post("/shots/{shot_id}/layers/{layer_id}/shadow", response=LitOut)
async def point_at_shadow(request: HttpRequest, shot_id: uuid.UUID, layer_id: str, body: PointedIn) -> Any:
    """Make a layer's shadow as deep as one of the plate that is pointed at. One undoable change."""
    return await in_thread(lambda: _point(shot_id, layer_id, body))


def _pointed(document: Document, frame: int, pixel: tuple[float, float]) -> Any:
    return by_pointed(ShotSources(document, pool()), frame, pixel)


def _point(shot_id: uuid.UUID, layer_id: str, body: PointedIn) -> LitOut:
    document = document_of(find_shot(shot_id))
    name = _layer(document, layer_id).name
    share = draw(_pointed, document, body.frame, body.pixel)

    def change(now: Document) -> Document:
        layer = _layer(now, layer_id)
        if isinstance(layer, FilmedLayer):
            return with_values(now, layer_id, as_deep(layer, share, body.frame))
        shadows = [look for look in layer.looks if isinstance(look, Shadow)]
        if not shadows:
            raise BadInput("light.no_shadow", f"{name} throws no shadow yet. Light it as the set, or give it a Drop shadow.")
        deep = round(100 * float(share.mean()), 1)
        looks = [look.model_copy(update={"strength": deep}) if look in shadows else look for look in layer.looks]
        return with_values(now, layer_id, {"looks": looks})

    shot = change_shot(shot_id, f"Shadow of {name} as deep as the plate's", change)
    return LitOut(shot=shot_out(shot), says=f"{100 * float(share.mean()):.0f} % of the light is missing in that shadow.")


def made_map(document: Document, motion_id: str) -> F32:
    """A light map grown from the footage, made in the drawing process."""
    return light_map(ShotSources(document, pool()), motion_id)


@router.post("/shots/{shot_id}/motions/{motion_id}/light-map", response=LitOut)
async def grow_light_map(request: HttpRequest, shot_id: uuid.UUID, motion_id: str) -> Any:
    """Grow a light map from the footage and hang it over the room as a dome: one undoable change."""
    return await in_thread(lambda: _grow(shot_id, motion_id))


def _grow(shot_id: uuid.UUID, motion_id: str) -> LitOut:
    shot = find_shot(shot_id)
    document = document_of(shot)
    found = draw(made_map, document, motion_id)
    with tempfile.TemporaryDirectory(dir=store.root()) as folder:
        path = Path(folder) / "light.hdr"
        cv2.imwrite(str(path), np.ascontiguousarray(found[..., ::-1]))
        asset = bring_in(path, f"Light of {shot.name}.hdr")

    def change(now: Document) -> Document:
        near = [one for one in now.layers if isinstance(one, DomeLayer) and one.follow.target == motion_id]
        if near:
            return with_values(now, near[0].id, {"asset": asset.digest})
        name = fresh_name("Light of the set", {layer.name for layer in now.layers})
        dome = DomeLayer(id=fresh_id(now, "layer"), name=name, asset=asset.digest, follow=Follow(target=motion_id))
        return now.model_copy(update={"stack": [*now.stack, dome]})

    done = change_shot(shot_id, "Light map from the footage", change)
    return LitOut(shot=shot_out(done), says="What was seen, continued to all sides, now lights and is mirrored by the models.")
