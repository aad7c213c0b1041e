"""Clips of one moment lined up with the footage."""

from __future__ import annotations

import uuid
from collections.abc import Callable
from typing import Any

import numpy as np

from library.pool import pool
from plonket.base.errors import BadInput, Cancelled
from plonket.base.progress import Work
from plonket.document.operations import with_values
from plonket.document.shot import Footage
from plonket.document.shot import Shot as Document
from plonket.layers.common import PictureLayer
from plonket.media.lineup import LinedUp, line_up_pictures, line_up_sound
from plonket.media.sound import read_wav
from plonket_server import store
from shots.editing import change_shot, document_of, find_shot
from shots.keys import picture_layer


def line_up(shot_id: uuid.UUID, layer_id: str, by: str, work: Work, is_held: Callable[[], bool]) -> dict[str, Any]:
    """Find where a layer's clip belongs and put it there, if the work is still ours then.

    Returns
    -------
    `starts`, its first frame, `off`, what is left in frames because clips start on whole ones, and `says`, how sure it is.
    """
    document = document_of(find_shot(shot_id))
    layer, footage = picture_layer(document, layer_id), document.footage
    assert footage is not None
    found = _lined_up(document, layer, by, work)
    # It keeps its own rate, as fast as the footage is shown.
    speed = float(100 * footage.fps / footage.filmed_fps)
    # What of it is used begins later by as much as is left out before it.
    frames = _in_shot(footage, found.frames) + layer.first * float(footage.filmed_fps / pool().clip(layer.asset).info.rate)
    starts = int(np.floor(frames + 0.5))

    def change(now: Document) -> Document | None:
        if not is_held():
            raise Cancelled
        return with_values(now, layer_id, {"starts": starts, "speed": speed, "by_keys": False, "pace": "own"})

    change_shot(shot_id, f"Line {layer.name} up by its {by}", change)
    return {"layer": layer_id, "name": layer.name, "starts": starts, "off": round(frames - starts, 3), "says": found.says}


def _in_shot(footage: Footage, frame: float) -> float:
    """The frame of the shot that shows a frame of the clip, which may lie before its first or after its last."""
    if footage.time is None:
        return frame
    moments = np.array([footage.moment(f) for f in range(footage.length)])
    near = int(np.abs(moments - frame).argmin())
    return near + (frame - float(moments[near]) if frame < moments.min() or frame > moments.max() else 0.0)


def _lined_up(document: Document, layer: PictureLayer, by: str, work: Work) -> LinedUp:
    footage = document.footage
    assert footage is not None
    if by == "sound":
        paths = [store.derived_folder(asset) / "sound.wav" for asset in (footage.asset, layer.asset)]
        if not all(path.exists() for path in paths):
            raise BadInput("lineup.silent", "One of the two has no sound. Line them up by the picture.")
        return line_up_sound(read_wav(paths[0]), read_wav(paths[1]), float(footage.filmed_fps))
    first, second = pool().clip(footage.asset), pool().clip(layer.asset)
    ratio = float(second.info.rate / footage.filmed_fps)
    return line_up_pictures(first.rgb, footage.frames, second.rgb, second.info.frames, ratio=ratio, work=work)
