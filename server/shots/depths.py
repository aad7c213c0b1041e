"""API: the depth of a clip as a picture in false colours."""

from __future__ import annotations

import json
import uuid
from typing import Any

import cv2
import numpy as np
from django.http import HttpRequest, HttpResponse
from ninja import Router

from library.pool import pool
from plonket.base.conventions import U8
from plonket.depth.cloud import depth_cloud, dump_cloud
from plonket.depth.of_motion import is_fresh
from plonket.depth.shown import COLOURS, depth_colours, scale_of
from plonket.document.retime import as_filmed
from plonket.document.shot import Shot as Document
from plonket.render.sources import ShotSources
from plonket.track.depth.depth_track import DepthTrack
from plonket.track.depth.settings import DepthMotion
from plonket_server.connections import in_thread
from plonket_server.drawing import draw
from plonket_server.problems import NotHere
from shots.editing import document_of, find_shot

router = Router(tags=["depths"])


@router.get("/shots/{shot_id}/motions/{motion_id}/depths/{frame}.png")
async def depth_picture(request: HttpRequest, shot_id: uuid.UUID, motion_id: str, frame: int) -> HttpResponse:
    """How far away everything in a frame of the clip is, in false colours; clear where it is not known.

    The header ``X-Plonket-Depth`` is JSON: `how` (*measured*, *old*: the camera, or how it is measured, has changed since, or
    *none*), `near` and `far`, the ends of the scale in metres, and its `colours` from near to far.
    """

    def made() -> HttpResponse:
        document = as_filmed(document_of(find_shot(shot_id)))
        motion, footage = document.motion(motion_id), document.footage
        if not isinstance(motion, DepthMotion) or footage is None or not 0 <= frame < footage.frames:
            raise NotHere("depth")
        colours, told = draw(depth_in, document, motion_id, frame)
        picture = np.zeros((footage.height, footage.width, 4), np.uint8) if colours is None else colours
        _, data = cv2.imencode(".png", cv2.cvtColor(picture, cv2.COLOR_RGBA2BGRA), [cv2.IMWRITE_PNG_COMPRESSION, 1])
        return HttpResponse(data.tobytes(), content_type="image/png", headers={
            "X-Content-Type-Options": "nosniff", "Cache-Control": "no-store", "X-Plonket-Depth": json.dumps(told),
        })  # fmt: skip

    return await in_thread(made)


@router.get("/shots/{shot_id}/motions/{motion_id}/cloud")
async def depth_cloud_file(request: HttpRequest, shot_id: uuid.UUID, motion_id: str) -> HttpResponse:
    """The depth of a clip as points of its room with their colours (see `dump_cloud`); none where the camera or the way of
    measuring has changed since."""

    def made() -> HttpResponse:
        document = as_filmed(document_of(find_shot(shot_id)))
        if not isinstance(document.motion(motion_id), DepthMotion) or document.footage is None:
            raise NotHere("depth")
        return HttpResponse(draw(cloud_in, document, motion_id), content_type="application/octet-stream", headers={
            "X-Content-Type-Options": "nosniff", "Cache-Control": "no-store",
        })  # fmt: skip

    return await in_thread(made)


def cloud_in(document: Document, motion_id: str) -> bytes:
    """The cloud's file, found in the drawing process."""
    sources, footage = ShotSources(document, pool()), document.footage
    motion = document.motion(motion_id)
    assert isinstance(motion, DepthMotion) and footage is not None
    track = pool().measured(motion.measurement) if motion.measurement else None
    camera, room = sources.solved(motion.camera), sources.camera(motion.camera)
    if not isinstance(track, DepthTrack) or room is None or camera is None:
        return dump_cloud(np.zeros((0, 3), np.float32), np.zeros((0, 3), np.uint8))
    frames = [int(f) for f in np.flatnonzero(track.known()) if is_fresh(track, motion, camera, sources, int(f))]
    return dump_cloud(*depth_cloud(track, room, frames, pool().clip(footage.asset).rgb))


def depth_in(document: Document, motion_id: str, frame: int) -> tuple[U8 | None, dict[str, Any]]:
    """(h, w, 4) and what the header says, found in the drawing process."""
    sources = ShotSources(document, pool())
    motion = document.motion(motion_id)
    assert isinstance(motion, DepthMotion)
    track = pool().measured(motion.measurement) if motion.measurement else None
    camera, room = sources.solved(motion.camera), sources.camera(motion.camera)
    nothing: dict[str, Any] = {"how": "none", "near": 0, "far": 0, "colours": COLOURS}
    if not isinstance(track, DepthTrack) or room is None or camera is None:
        return None, nothing
    depth, sure, scale = track.depth(frame), track.sure(frame), scale_of(track)
    if depth is None or sure is None or scale is None:
        return None, nothing
    fresh = is_fresh(track, motion, camera, sources, frame)
    near, far = (one * room.room.scale for one in scale)
    told = nothing | {"how": "measured" if fresh else "old", "near": round(near, 4), "far": round(far, 4)}
    return depth_colours(depth, sure, *scale), told
