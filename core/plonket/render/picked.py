"""Black, grey and white points: what a look is to make of a place of its own picture, or to take from the plate."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np

from plonket.base.colour import encode, encode_8bit, opaque_from_codes
from plonket.base.conventions import F32, F64
from plonket.base.errors import BadInput
from plonket.base.fields import value_at
from plonket.document.bases import LookBase
from plonket.document.shot import Shot
from plonket.layers.sources import Sources
from plonket.looks.levels import Levels
from plonket.looks.white import WhiteBalance
from plonket.render.frame import render_frame
from plonket.render.stack import drawn

Point = Literal["black", "grey", "white"]
Of = Literal["it", "plate"]
HALF = 2
"""A point is the mean of the pixels round it, so many to each side."""
APART = 2.0
"""Per cent between black and white at the least."""


def picked_values(
    shot: Shot, sources: Sources, owner: str | None, look_id: str, point: Point, of: Of, frame: int, at: tuple[float, float]
) -> dict[str, Any]:
    """Values of a look by a point that was picked.

    Parameters
    ----------
    owner : the layer whose look it is; None: the whole picture's. of : whether the point is one of its own picture, as it comes
        to the look, or of the plate, which it is to be like. at : x, y of the picture.

    Raises
    ------
    BadInput
        Nothing is shown there, or the look has no such point.
    """
    layer = next((one for one in shot.layers if one.id == owner), None) if owner is not None else None
    looks = shot.finish if owner is None else layer.looks if layer is not None else []
    k = next((i for i, look in enumerate(looks) if look.id == look_id), None)
    if k is None or shot.footage is None:
        raise BadInput("pick.gone", "This look is not there any more.")
    if of == "plate":
        plate = shot.model_copy(update={"stack": [], "finish": []})
        tone = _tone(opaque_from_codes(render_frame(plate, sources, frame)), at, (0, 0))
    elif layer is None:
        before = shot.model_copy(update={"finish": shot.finish[:k]})
        tone = _tone(opaque_from_codes(render_frame(before, sources, frame)), at, (0, 0))
    else:
        matrix = np.eye(3) if sources.view is None else sources.view.matrix(sources.moment(frame))
        bare = layer.model_copy(update={"looks": layer.looks[:k], "opacity": 100.0})
        picture = drawn(bare, sources, frame, (shot.footage.width, shot.footage.height), matrix)
        tone = _tone(picture.rgba, at, (picture.x, picture.y))
    if tone is None:
        raise BadInput("pick.nothing", "Nothing of it is shown at this place.")
    return _values(looks[k], point, of, tone)


def _tone(rgba: F32, at: tuple[float, float], corner: tuple[int, int]) -> F64 | None:
    """(3,) light about a pixel, without its coverage; None where there is hardly any."""
    x, y = int(at[0]) - corner[0], int(at[1]) - corner[1]
    h, w = rgba.shape[:2]
    if not (0 <= x < w and 0 <= y < h):
        return None
    part = rgba[max(y - HALF, 0) : y + HALF + 1, max(x - HALF, 0) : x + HALF + 1].reshape(-1, 4).astype(np.float64)
    cover = float(part[:, 3].mean())
    return None if cover < 0.3 else np.asarray(part[:, :3].mean(axis=0) / cover)


def _values(look: LookBase, point: Point, of: Of, tone: F64) -> dict[str, Any]:
    if isinstance(look, Levels) and point != "grey":
        code = encode(np.clip(tone, 0, 4))
        one = code.mean() if look.channel == "all" else code[("red", "green", "blue").index(look.channel)]
        level = round(100 * float(one), 1)
        if of == "plate":
            return {f"out_{point}": float(np.clip(level, 0, 100))}
        # The one that was there gives way.
        if point == "black":
            return {"black": min(level, 95.0), **({"white": level + APART} if value_at(look.white, 0) < level + APART else {})}
        return {"white": max(level, 5.0), **({"black": level - APART} if value_at(look.black, 0) > level - APART else {})}
    if isinstance(look, WhiteBalance) and point == "grey":
        # What is grey in the plate has its cast: the element, neutral so far, is to have it too.
        ratio = np.maximum(tone, 1e-4)
        ratio = 1 / ratio if of == "plate" else ratio
        return {"white": _hex(ratio / float(ratio.max()))}
    raise BadInput("pick.look", f"{look.name} has no {point} point to pick.")


def _hex(light: F64) -> str:
    r, g, b = encode_8bit(np.asarray(light, np.float32).reshape(1, 1, 3))[0, 0]
    return f"#{r:02x}{g:02x}{b:02x}"
