"""What pictures depend on: content hashes of documents, read off the fields.

Fields that are marked `UNSEEN` (names, colours of outlines, the delivery) and those that only say how a motion is measured
count in none of them.
"""

from __future__ import annotations

import hashlib
import json
from typing import Any

from pydantic import BaseModel

from plonket.base.fields import Unseen
from plonket.document.bases import MotionBase
from plonket.document.follow import Follow
from plonket.document.kinds import TREATMENTS
from plonket.document.shot import Shot


def shot_hash(shot: Shot) -> str:
    """Content hash of a whole document."""
    return _digest(shot.model_dump(mode="json"))


def picture_hash(shot: Shot) -> str:
    """Hash of what the pictures depend on: not the names, the range or the delivery."""
    # Zooming just enough looks at the range; nothing else does.
    return _hashed(shot, ranged=any(one.shown for one in shot.plate))


def mends_hash(shot: Shot) -> str:
    """Hash of what the mended footage depends on: not how it is steadied, nor the range."""
    mends = [one for one in shot.plate if one.shown and "mends" in TREATMENTS.of(one).traits]
    return _hashed(shot.model_copy(update={"stack": [], "parcels": [], "plate": mends, "finish": []}), ranged=False)


def spaces_hash(shot: Shot) -> str:
    """Hash of what the places of followers depend on: motions, spots in rooms, and who follows what from when."""
    follows = [
        {"pointer": one.pointer, "id": one.id, "frame": getattr(one.holder, "reference_frame", None)} | _way(one.holder)
        for one in shot.references() if one.declared.to not in ("asset", "measurement", "layer", "parcel", "frame")
    ]  # fmt: skip
    spots = [[perch.id, None if perch.spot is None else seen(perch.spot)] for perch in shot.perches]
    footage = None if shot.footage is None else seen(shot.footage)
    return _digest([[seen(motion) for motion in shot.motions], spots, footage, follows])


def _way(holder: BaseModel) -> dict[str, Any]:
    """How a follower takes a movement."""
    return holder.model_dump(mode="json") if isinstance(holder, Follow) else {}


def plate_hash(shot: Shot) -> str:
    """Hash of what the treated plate depends on; the clip's own when nothing treats it."""
    assert shot.footage is not None
    if not any(one.shown for one in shot.plate) and shot.footage.time is None:
        return shot.footage.asset
    return picture_hash(shot.model_copy(update={"stack": [], "parcels": [], "perches": [], "finish": []}))


def _hashed(shot: Shot, *, ranged: bool) -> str:
    record = seen(shot)
    if record["footage"] and not ranged:
        for name in ("in_frame", "out_frame"):
            record["footage"].pop(name)
    return _digest(record)


def seen(model: BaseModel) -> dict[str, Any]:
    """A document, or a part of one, as plain values, without what no picture depends on."""
    record = model.model_dump(mode="json")
    _strip(model, record)
    return record


def _strip(model: BaseModel, record: dict[str, Any]) -> None:
    measuring = model.MEASURING if isinstance(model, MotionBase) else frozenset[str]()
    for name, field in type(model).model_fields.items():
        if name in measuring or any(isinstance(m, Unseen) for m in field.metadata):
            record.pop(name, None)
            continue
        value = getattr(model, name)
        if isinstance(value, BaseModel):
            _strip(value, record[name])
        elif isinstance(value, list) and value and isinstance(value[0], BaseModel):
            for item, part in zip(value, record[name], strict=True):
                _strip(item, part)


def _digest(record: Any) -> str:
    text = json.dumps(record, sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(text.encode()).hexdigest()
