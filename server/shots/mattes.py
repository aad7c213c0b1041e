"""API: mattes of things that were picked: their pictures, and what is done by them in one step."""

from __future__ import annotations

import uuid
from typing import Any, Literal

import cv2
import numpy as np
from django.http import HttpRequest, HttpResponse
from ninja import Router, Schema
from pydantic import Field, FiniteFloat

from library.pool import pool
from plonket.base.conventions import U8
from plonket.base.errors import BadInput
from plonket.document.operations import fresh_id, fresh_name
from plonket.document.retime import as_filmed
from plonket.document.shot import Shot as Document
from plonket.document.shot import read_shot
from plonket.matting.measure import made_by, matte_of, picker
from plonket.track.matte.matte_track import MatteTrack
from plonket.track.matte.settings import MatteMotion
from plonket.track.plane.settings import PlaneMotion
from plonket.track.room_motion import LookingMotion
from plonket_server.connections import in_thread
from plonket_server.drawing import draw
from plonket_server.problems import NotHere
from shots.api import shot_out
from shots.editing import change_shot, document_of, find_shot
from shots.operations import OperationOut

router = Router(tags=["mattes"])

MOVER_WIDER, LEAST_WIDER = 0.15, 4.0
"""Share of its size, and pixels, by which the box round a mover is drawn wider: it only says about where it is."""
TAKEN_OUT_WIDER = 6.0
"""Pixels by which what is taken out is wider than its matte: blur and shadow at its rim."""


class UseIn(Schema):
    use: Literal["front", "take out", "ignore"]


@router.get("/shots/{shot_id}/motions/{motion_id}/mattes/{frame}.png")
async def matte_picture(request: HttpRequest, shot_id: uuid.UUID, motion_id: str, frame: int) -> HttpResponse:
    """What a matte covers in a frame of the clip, as coverage of white: as it was measured, or, on a frame with clicks or boxes
    that were not measured yet, as they pick it.

    The header ``X-Plonket-Matte`` says which: *measured*, *clicked*, *old* (its clicks, or how it is measured, have changed
    since) or *none*.
    """

    def made() -> HttpResponse:
        document = as_filmed(document_of(find_shot(shot_id)))
        motion, footage = document.motion(motion_id), document.footage
        if not isinstance(motion, MatteMotion) or footage is None or not 0 <= frame < footage.frames:
            raise NotHere("matte")
        alpha, how = draw(matte_in, footage.asset, motion, frame)
        cover = np.zeros((footage.height, footage.width), np.uint8) if alpha is None else alpha
        white = np.full_like(cover, 255)
        _, data = cv2.imencode(".png", np.dstack([white, white, white, cover]), [cv2.IMWRITE_PNG_COMPRESSION, 1])
        # The address tells what it was made from; the same one may stand for another matte of the same motion later.
        return HttpResponse(data.tobytes(), content_type="image/png", headers={
            "X-Content-Type-Options": "nosniff", "Cache-Control": "no-store", "X-Plonket-Matte": how,
        })  # fmt: skip

    return await in_thread(made)


def matte_in(asset: str, motion: MatteMotion, frame: int) -> tuple[U8 | None, str]:
    """8-bit (h, w) and how it is known, found in the drawing process. Raises `Degenerate`."""
    measured = pool().measured(motion.measurement) if motion.measurement else None
    track = measured if isinstance(measured, MatteTrack) else None
    is_fresh = track is not None and track.made_by[frame] == made_by(motion, frame)
    if not is_fresh and frame in motion.staked():
        return cut_now(asset, motion, frame), "clicked"
    alpha = None if track is None else track.alpha(frame)
    return alpha, "measured" if is_fresh else "old" if alpha is not None else "none"


def cut_now(asset: str, motion: MatteMotion, frame: int) -> U8 | None:
    """The matte of a frame that has clicks or boxes of its own. Raises `Degenerate`."""
    clip = pool().clip(asset)
    picked = picker(motion, clip.rgb, clip.info.frames, clip.info.width)
    return matte_of(motion, clip.rgb(frame), picked.mask(frame))


@router.post("/shots/{shot_id}/motions/{motion_id}/use", response=OperationOut)
def use_matte(request: HttpRequest, shot_id: uuid.UUID, motion_id: str, body: UseIn) -> Any:
    """Bring what a matte covers forward, take it out of the footage, or have all other motions ignore it: one change."""
    document = document_of(find_shot(shot_id))
    name = document.motion(motion_id).name
    made: list[str] = []

    def change(now: Document) -> Document:
        found = now.motion(motion_id)
        if not isinstance(found, MatteMotion) or now.footage is None:
            raise BadInput("matte.kind", f"{found.name} is no matte.")
        changed, new = DONE[body.use](now, found)
        made[:] = [new] if new else []
        return changed

    shot = change_shot(shot_id, f"{LABELS[body.use]} {name}"[:120], change)
    return OperationOut(shot=shot_out(shot), made=made[0] if made else None)


def brought_forward(shot: Document, matte: MatteMotion) -> tuple[Document, str]:
    """The footage once more before all layers, cut by the matte; and the new layer's id."""
    data = shot.model_dump(mode="json")
    new, name = fresh_id(shot, "layer"), fresh_name(f"{matte.name}, in front"[:100], {t.name for t in shot.things()})
    data["stack"].insert(0, {"kind": "plate", "id": new, "name": name, "key": {"kind": "picked", "motion": matte.id}})
    return read_shot(data), new


def taken_out(shot: Document, matte: MatteMotion) -> tuple[Document, str]:
    """A mend that borrows what the matte covers from other frames; and its id."""
    data = shot.model_dump(mode="json")
    new, name = fresh_id(shot, "mend"), fresh_name(f"Without {matte.name}"[:100], {t.name for t in shot.things()})
    mask = {"kind": "picked", "id": "mask-1", "name": matte.name, "motion": matte.id, "grow": TAKEN_OUT_WIDER,
            "shadow": True}  # fmt: skip
    data["plate"].append({"kind": "mend", "id": new, "name": name, "method": "time", "masks": [mask]})
    return read_shot(data), new


def left_out(shot: Document, matte: MatteMotion) -> tuple[Document, None]:
    """All motions that look at the whole picture look past what the matte covers. Raises `BadInput` where there is none."""
    looking = [m for m in shot.motions if isinstance(m, PlaneMotion | LookingMotion)]
    if not looking:
        raise BadInput("matte.nothing", "Nothing here looks at the picture yet. Follow a surface or the camera first.")
    if all(matte.id in m.ignored for m in looking):
        raise BadInput("matte.ignored", f"{matte.name} is ignored already.")
    more = {
        m.id: m.model_copy(update={"ignored": [*m.ignored, matte.id]}) for m in looking if matte.id not in m.ignored
    }  # fmt: skip
    return shot.model_copy(update={"motions": [more.get(m.id, m) for m in shot.motions]}), None


class MoverIn(Schema):
    frame: int = Field(ge=0, description="Of the clip")
    box: tuple[FiniteFloat, FiniteFloat, FiniteFloat, FiniteFloat] = Field(description="x0, y0, x1, y1 round what moves")
    use: Literal["matte", "take out", "ignore"] = "matte"
    who: Literal["person", "thing"] = "thing"


@router.post("/shots/{shot_id}/movers", response=OperationOut)
def pick_mover(request: HttpRequest, shot_id: uuid.UUID, body: MoverIn) -> Any:
    """A matte of something that moves by itself, still to be measured, and what is done by it: one change. `made` is the
    matte."""
    find_shot(shot_id)
    made: list[str] = []

    def change(now: Document) -> Document:
        if now.footage is None or body.frame >= now.footage.frames:
            raise BadInput("matte.frame", "The footage has no such frame.")
        x0, y0, x1, y1 = body.box
        wider = MOVER_WIDER * max(x1 - x0, y1 - y0) + LEAST_WIDER
        box = {"frame": body.frame, "x0": max(x0 - wider, 0), "y0": max(y0 - wider, 0),
               "x1": min(x1 + wider, now.footage.width), "y1": min(y1 + wider, now.footage.height)}  # fmt: skip
        data = now.model_dump(mode="json")
        made[:] = [fresh_id(now, "motion")]
        name = fresh_name(MOVER_NAMES[body.who], {t.name for t in now.things()})
        data["motions"].append({"kind": "matte", "id": made[0], "name": name, "boxes": [box]})
        changed = read_shot(data)
        if body.use == "matte":
            return changed
        found = changed.motion(made[0])
        assert isinstance(found, MatteMotion)
        return DONE[body.use](changed, found)[0]  # type: ignore[no-any-return]

    shot = change_shot(shot_id, MOVER_LABELS[body.use], change)
    return OperationOut(shot=shot_out(shot), made=made[0] if made else None)


DONE: dict[str, Any] = {"front": brought_forward, "take out": taken_out, "ignore": left_out}
LABELS = {"front": "Bring forward:", "take out": "Take out:", "ignore": "Ignore:"}
MOVER_NAMES = {"person": "Person", "thing": "Mover"}
MOVER_LABELS = {"matte": "Pick a mover", "take out": "Take out a mover", "ignore": "Ignore a mover"}
