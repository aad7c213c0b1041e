"""What is slow about a layer, worked out ahead: cut-outs carried through their clip, models filmed."""

from __future__ import annotations

from typing import Any

import numpy as np

from plonket.document.kinds import LAYERS
from plonket.document.shot import Shot
from plonket.keying.cutout import CutOutKey
from plonket.layers.common import KeyedLayer
from plonket.layers.filmed import FilmedLayer
from plonket.layers.model import order_for
from plonket.matting.carried import Carried
from plonket.raytrace.request import RenderRequest
from plonket.render.sources import ShotSources


def ahead_frames(shot: Shot, layer: Any) -> list[int]:
    """Frames of the shot for which a layer may be worked out ahead, in the order that suits it; none: it is not slow."""
    if shot.footage is None:
        return []
    frames = [f for f in range(shot.footage.in_frame, shot.footage.out_frame + 1) if layer.is_there(f)]
    if isinstance(layer, FilmedLayer):
        return frames
    if isinstance(layer, KeyedLayer) and isinstance(layer.key, CutOutKey) and any(s.subject for s in layer.key.strokes):
        # From the frames with strokes outwards: each is carried on from its neighbour.
        staked = np.array(sorted({s.frame for s in layer.key.strokes})) + getattr(layer, "starts", 0)
        moment = shot.footage.moment if "footage" in LAYERS.of(layer).traits else float
        return sorted(frames, key=lambda f: float(np.abs(staked - moment(f)).min()))
    return []


def is_ahead(layer: Any, sources: ShotSources, frame: int, scale: float) -> bool:
    """Whether a frame of a layer is there already."""
    if isinstance(layer, FilmedLayer):
        order = _order(layer, sources, frame, scale)
        return order is None or sources.pool.is_filmed(order)
    return all(carried.known(k) for carried, k in _carried(layer, sources, frame))


def work_ahead(layer: Any, sources: ShotSources, frame: int, scale: float) -> None:
    """Work a frame of a layer out and keep it."""
    if isinstance(layer, FilmedLayer):
        order = _order(layer, sources, frame, scale)
        if order is not None and not sources.pool.is_filmed(order):
            sources.film(order)
        return
    for carried, k in _carried(layer, sources, frame):
        carried.mask(k)


def _carried(layer: Any, sources: ShotSources, frame: int) -> list[tuple[Carried, int]]:
    """The cut-outs that a frame of a layer shows, each with the frame of its own clip."""
    shows = LAYERS.of(layer).shows
    seen = shows(layer, sources, frame) if shows else []
    found = [(sources.pool.key_context(asset, layer.key).carried, k) for asset, k, _ in seen]
    return [(carried, k) for carried, k in found if carried is not None]


def _order(layer: FilmedLayer, sources: ShotSources, frame: int, scale: float) -> RenderRequest | None:
    width = sources.size[0]
    zoom = max(1, round(width * scale)) / width
    view = np.diag([zoom, zoom, 1.0]) @ (np.eye(3) if sources.view is None else sources.view.matrix(sources.moment(frame)))
    made = order_for(layer, sources, frame, np.asarray(view))
    return made[0] if made else None
