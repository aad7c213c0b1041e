"""API: picking colours of keyed layers in the picture, and how good their mattes are."""

from __future__ import annotations

import uuid
from typing import Any

import cv2
import numpy as np
from django.http import HttpRequest
from ninja import Router, Schema
from pydantic import Field

from library.pool import pool
from plonket.base.colour import encode_8bit, linear_from_codes
from plonket.base.conventions import F64
from plonket.base.errors import BadInput
from plonket.base.outlines import carry
from plonket.document.bases import LayerBase
from plonket.document.kinds import LAYERS
from plonket.document.operations import with_values
from plonket.document.shot import Shot as Document
from plonket.keying.chroma import restored
from plonket.keying.common import at_moment
from plonket.keying.cutout import CutOutKey
from plonket.keying.screen import ScreenKey, key_screen
from plonket.layers.common import KeyedLayer, PictureLayer
from plonket.matting.carried import CutStroke
from plonket.render.sources import ShotSources
from plonket.render.stack import drawn
from plonket_server.drawing import draw
from plonket_server.problems import NotHere
from shots.api import ShotOut, shot_out
from shots.editing import change_shot, document_of, find_shot

router = Router(tags=["keys"])
LEAST_PX = 2.0
"""A click picks the mean of so many pixels to every side."""


class PickOut(Schema):
    colour: str = Field(description="#rrggbb, the mean of what was picked")


class MatteOut(Schema):
    noise: float = Field(description="SD of the matte on cloth that is seen for sure")
    holes: float = Field(description="Share of the solid subject that is not quite solid")
    covered: float = Field(description="Share of the picture that is kept")


def keyed_layer(document: Document, layer_id: str) -> KeyedLayer:
    """A layer that can have a key. Raises `NotHere`."""
    for layer in document.layers:
        if layer.id == layer_id and isinstance(layer, KeyedLayer):
            return layer
    raise NotHere("layer")


def picture_layer(document: Document, layer_id: str) -> PictureLayer:
    """A layer with a picture or clip of its own. Raises `NotHere`."""
    layer = keyed_layer(document, layer_id)
    if not isinstance(layer, PictureLayer):
        raise BadInput("layer.footage", f"{layer.name} shows the footage itself: it needs no lining up.")
    return layer


def _shown(layer: KeyedLayer, document: Document, frame: int) -> tuple[str, int]:
    """The asset and the frame of it that a layer shows most of in a frame of the shot. Raises `BadInput`."""
    shows = LAYERS.of(layer).shows
    seen = shows(layer, ShotSources(document, pool()), frame) if shows else []
    if not seen:
        raise BadInput("layer.gone", f"{layer.name} shows nothing in this frame.")
    asset, own, _ = max(seen, key=lambda one: one[2])
    return asset, own


def _seen(layer: KeyedLayer, document: Document, frame: int) -> np.ndarray:
    """The layer's own picture in a frame of the shot, 8-bit (h, w, 3)."""
    asset, own = _shown(layer, document, frame)
    return np.asarray(pool().clip(asset).rgba(own)[..., :3])


def clip_from(layer: LayerBase, document: Document, frame: int) -> F64 | None:
    """(3, 3) from a layer's own pixels to the clip's in a frame; None where it does not lie anywhere."""
    clip_from_layer = LAYERS.of(layer).clip_from_layer
    return clip_from_layer(layer, ShotSources(document, pool()), frame) if clip_from_layer else None


class SpotOut(Schema):
    x: float
    y: float


@router.get("/shots/{shot_id}/layers/{layer_id}/colour", response=PickOut)
def pick(
    request: HttpRequest, shot_id: uuid.UUID, layer_id: str, frame: int, x0: float, y0: float, x1: float, y1: float
) -> Any:
    """The mean colour of a layer's own picture under a spot or box of the clip's pixels."""
    document = document_of(find_shot(shot_id))
    layer = keyed_layer(document, layer_id)
    clip_from_layer = clip_from(layer, document, frame)
    if clip_from_layer is None:
        raise BadInput("layer.nowhere", f"{layer.name} does not lie anywhere in this frame.")
    box = np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]], np.float64)
    own = carry(box, np.asarray(np.linalg.inv(clip_from_layer), np.float64))
    rgb = _seen(layer, document, frame)
    low, high = own.min(axis=0), own.max(axis=0)
    middle = (low + high) / 2
    low, high = np.minimum(low, middle - LEAST_PX), np.maximum(high, middle + LEAST_PX)
    if not np.isfinite(own).all() or (high < 0).any() or (low > [rgb.shape[1], rgb.shape[0]]).any():
        raise BadInput("pick.outside", f"There is nothing of {layer.name} here. Pick inside its picture.")
    (a, b), (c, d) = (np.clip(v, 0, [rgb.shape[1] - 1, rgb.shape[0] - 1]).astype(int) for v in (low, high))
    part = linear_from_codes(np.ascontiguousarray(rgb[b : d + 1, a : c + 1]))
    code = encode_8bit(np.median(part.reshape(-1, 3), axis=0).astype(np.float32))
    return PickOut(colour="#" + "".join(f"{int(v):02x}" for v in code))


@router.get("/shots/{shot_id}/layers/{layer_id}/matte", response=MatteOut | None)
def matte(request: HttpRequest, shot_id: uuid.UUID, layer_id: str, frame: int) -> Any:
    """How good a layer's matte is in a frame; nothing without a screen key."""
    document = document_of(find_shot(shot_id))
    return draw(matte_of, document, layer_id, frame) if isinstance(keyed_layer(document, layer_id).key, ScreenKey) else None


def matte_of(document: Document, layer_id: str, frame: int) -> MatteOut | None:
    """What is to be said of a screen key's matte, worked out in the drawing process."""
    layer = keyed_layer(document, layer_id)
    if not isinstance(layer.key, ScreenKey):
        return None
    asset, own = _shown(layer, document, frame)
    key = at_moment(layer.key, frame)
    rgb = np.ascontiguousarray(pool().clip(asset).rgba(own)[..., :3])
    # Judged as it is keyed: with its colour brought back to the edges.
    light = linear_from_codes(restored(rgb) if key.sharp and pool().length(asset) > 1 else rgb)
    found = key_screen(light, key, colours=pool().key_context(asset, key).colours)
    covered = round(float(found.rgba[..., 3].mean()), 4)
    return MatteOut(noise=round(found.noise, 4), holes=round(found.holes, 4), covered=covered)


@router.get("/shots/{shot_id}/layers/{layer_id}/edge", response=SpotOut | None)
def edge(request: HttpRequest, shot_id: uuid.UUID, layer_id: str, frame: int) -> Any:
    """Where a layer's edge is softest in a frame, in the finished picture's pixels; nothing without an edge."""
    return draw(edge_of, document_of(find_shot(shot_id)), layer_id, frame)


def edge_of(document: Document, layer_id: str, frame: int) -> SpotOut | None:
    """Where a layer's edge is softest, found in the drawing process."""
    layer = next((one for one in document.layers if one.id == layer_id), None)
    if layer is None or document.footage is None:
        raise NotHere("layer")
    size = (document.footage.width, document.footage.height)
    sources = ShotSources(document, pool())
    view = np.eye(3) if sources.view is None else sources.view.matrix(sources.moment(frame))
    picture = drawn(layer, sources, frame, size, view)
    if not picture.rgba.size:
        return None
    alpha = picture.rgba[..., 3]
    soft = cv2.boxFilter(((alpha > 0.08) & (alpha < 0.92)).astype(np.float32), -1, (61, 61))
    y, x = np.unravel_index(int(np.argmax(soft)), soft.shape)
    return SpotOut(x=float(x + picture.x), y=float(y + picture.y)) if soft[y, x] > 0 else None


class StrokeIn(Schema):
    frame: int = Field(ge=0, description="Of the shot")
    subject: bool = True
    width: float = Field(default=14, ge=1, le=400, description="In pixels of the footage")
    points: list[tuple[float, float]] = Field(min_length=1, max_length=2000, description="In pixels of the footage")


@router.post("/shots/{shot_id}/layers/{layer_id}/strokes", response=ShotOut)
def add_stroke(request: HttpRequest, shot_id: uuid.UUID, layer_id: str, body: StrokeIn) -> Any:
    """A stroke over the subject of a cut-out, or over what is not, on the frame of its clip that is shown."""
    document = document_of(find_shot(shot_id))
    layer = keyed_layer(document, layer_id)
    clip_from_layer = clip_from(layer, document, body.frame)
    asset, shown = _shown(layer, document, body.frame)
    if clip_from_layer is None:
        raise BadInput("layer.gone", f"{layer.name} shows nothing in this frame.")
    own = carry(np.array(body.points, np.float64), np.asarray(np.linalg.inv(clip_from_layer), np.float64))
    inside = ((own >= 0) & (own <= pool().clip(asset).info.size)).all(axis=1)
    if not np.isfinite(own).all() or not inside.any():
        raise BadInput("stroke.outside", f"Draw on {layer.name} itself.")
    # A hand draws many points that say nothing.
    own = cv2.approxPolyDP(own.astype(np.float32).reshape(-1, 1, 2), 0.7, False).reshape(-1, 2)
    bigger = np.sqrt(abs(np.linalg.det(np.linalg.inv(clip_from_layer)[:2, :2])))
    stroke = CutStroke(
        frame=shown, subject=body.subject, width=float(np.clip(body.width * bigger, 1, 400)),
        points=[(round(float(x), 1), round(float(y), 1)) for x, y in own],
    )  # fmt: skip

    def change(now: Document) -> Document | None:
        latest = keyed_layer(now, layer_id)
        if not isinstance(latest.key, CutOutKey):
            raise BadInput("stroke.key", f"{layer.name} is not a cut-out any more.")
        key = latest.key.model_copy(update={"strokes": [*latest.key.strokes, stroke]})
        return with_values(now, layer_id, {"key": key})

    what = "the subject" if body.subject else "what is not"
    return shot_out(change_shot(shot_id, f"A stroke over {what}", change))
