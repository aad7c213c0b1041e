"""Masks whose outlines bend with what they lie on."""

from __future__ import annotations

import uuid
from collections.abc import Callable
from typing import Any

from library.pool import pool
from plonket.base.conventions import F64
from plonket.base.errors import BadInput, Cancelled
from plonket.base.progress import Work
from plonket.document.retime import as_filmed
from plonket.document.shot import Shot as Document
from plonket.masks.combine import space_of
from plonket.masks.follow_outline import drawn_keys, follow_outline, with_followed
from plonket.masks.outlined import OutlineMask
from plonket.render.sources import ShotSources
from shots.editing import change_shot, document_of, find_shot
from shots.masks import followed_mask, thing_with_masks, with_masks

GONE = "This mask is not there any more, or was drawn anew meanwhile. Follow it again."


def follow_mask(shot_id: uuid.UUID, asked: dict[str, Any], work: Work, is_held: Callable[[], bool]) -> dict[str, Any]:
    """Follow a mask's outline through the shot's range, and make it a change of the shot, if the work is still ours then.

    asked : `thing` and `mask`, where they lie (see `thing_with_masks`); `frame` and `way`, from which frame on, *both*, *on* or
        *back*.

    Returns
    -------
    `name`, `keys`, how many shapes were needed, `trust`, the least of all frames, and `stopped`, where it was lost, first.
    """
    document = as_filmed(document_of(find_shot(shot_id)))
    mask, footage = followed_mask(document, asked["thing"], asked["mask"]), document.footage
    assert footage is not None
    spaces = ShotSources(document, pool()).spaces
    start, stop = footage.in_frame, footage.out_frame + 1
    if asked["way"] == "on":
        start = max((k.frame for k in drawn_keys(mask.outline) if k.frame <= asked["frame"]), default=start)
    elif asked["way"] == "back":
        stop = min((k.frame for k in drawn_keys(mask.outline) if k.frame >= asked["frame"]), default=stop - 1) + 1

    def to_clip(frame: int) -> F64 | None:
        return space_of(mask, spaces, frame)

    found = follow_outline(
        mask.outline, pool().clip(footage.asset).rgb, start, stop, bend=mask.bends / 100, to_clip=to_clip, work=work
    )
    # What was followed before outside of these frames stays.
    for key in mask.outline.keys:
        if key.followed and not start <= key.frame < stop:
            found.keep(key)
    outline = with_followed(mask.outline, found)

    def change(now: Document) -> Document | None:
        if not is_held():
            raise Cancelled
        thing = thing_with_masks(now, asked["thing"])
        latest = next((m for m in thing.masks if m.id == mask.id), None)
        if not isinstance(latest, OutlineMask) or latest.outline != mask.outline:
            raise BadInput("follow.changed", GONE)
        bent = latest.model_copy(update={"outline": outline})
        return with_masks(now, asked["thing"], [bent if m.id == mask.id else m for m in thing.masks])

    change_shot(shot_id, f"{mask.name} follows what it shows", change)
    lost = min(found.stopped, key=lambda f: abs(f - asked["frame"])) if found.stopped else None
    return {"name": mask.name, "thing": asked["thing"], "mask": mask.id, "keys": len(outline.keys),
            "trust": round(min(found.trust.values()), 2), "stopped": lost,
            "why": None if lost is None else found.stopped[lost]}  # fmt: skip
