"""Distance: blur or haze that grows from one spot to another, across the picture or into the solved room."""

from __future__ import annotations

from typing import Literal

import numba
import numpy as np

from plonket.base.colour import linear_of
from plonket.base.conventions import F32, F64, FAST
from plonket.base.fields import Number, choice, colour, number, value_at
from plonket.document.bases import PlacedLook
from plonket.document.kinds import LOOKS, LookEntry
from plonket.looks.common import LookContext, blurred


class Haze(PlacedLook):
    """Nothing at the near spot, all of it at the far one; or as much on both sides of what stays sharp.

    Into the room it goes by how far away things are: the spots' own distances set its ends.
    """

    kind: Literal["haze"] = "haze"
    does: Literal["haze", "blur", "both"] = choice(
        "haze", label="Brings", group="Distance", names={"haze": "Haze", "blur": "Blur", "both": "Both"})  # fmt: skip
    near_x: Number = number(640.0, label="Near x", low=-32768, high=32768, step=0.5, unit="px", group="Distance")
    near_y: Number = number(620.0, label="Near y", low=-32768, high=32768, step=0.5, unit="px", group="Distance")
    far_x: Number = number(640.0, label="Far x", low=-32768, high=32768, step=0.5, unit="px", group="Distance")
    far_y: Number = number(180.0, label="Far y", low=-32768, high=32768, step=0.5, unit="px", group="Distance")
    goes: Literal["picture", "room"] = choice(
        "picture", label="Goes", group="Distance", names={"picture": "Across the picture", "room": "Into the room"},
        help="Into the room: by how far away things are, between the distances of what the two spots lie on. "
             "It needs a solved camera.")  # fmt: skip
    sides: Literal["one", "both"] = choice(
        "one", label="Grows", group="Distance",
        names={"one": "Towards the far spot", "both": "To both sides"})  # fmt: skip
    colour: str = colour("#b8c4d0", label="Colour", group="Haze")
    density: Number = number(60.0, label="Density", low=0, high=100, step=1, unit="%", group="Haze")
    radius: Number = number(8.0, label="Blur", low=0, high=200, step=0.1, unit="px", group="Haze", soft=(0, 40))


def reach(look: Haze, frame: int) -> float:
    """How far it spreads, in pixels of the clip."""
    return 3 * value_at(look.radius, frame) if look.does != "haze" else 0.0


def run(rgba: F32, look: Haze, context: LookContext) -> F32:
    """Haze covers what is there, light by light; blur goes through a few strengths, mixed by distance."""
    f = context.frame
    near = context.spot(look, value_at(look.near_x, f), value_at(look.near_y, f))
    far = context.spot(look, value_at(look.far_x, f), value_at(look.far_y, f))
    if near is None or far is None:
        return rgba
    if look.goes == "room":
        into = _into_room(rgba, look, context, near, far)
        if into is None:
            return rgba
        away = into
    else:
        away = np.empty(rgba.shape[:2], np.float32)
        _distance(away, near, far - near, look.sides == "both")
    out = rgba
    radius = value_at(look.radius, f) * context.scale
    if look.does != "haze" and radius > 0.1:
        out = by_distance(rgba, away, radius)
    if look.does != "blur":
        share = (away * np.float32(value_at(look.density, f) / 100))[..., None]
        haze = linear_of(look.colour).astype(np.float32) * out[..., 3:]
        out = np.concatenate([out[..., :3] * (1 - share) + haze * share, out[..., 3:]], axis=2)
    return np.asarray(out, np.float32)


def _into_room(rgba: F32, look: Haze, context: LookContext, near: F64, far: F64) -> F32 | None:
    """How much (h, w): even in one over the distance, as an opening's circles grow; None: no camera is solved."""
    found = context.inverse_depth()
    if found is None:
        return None
    h, w = rgba.shape[:2]
    from_, to = (found.at(float(at[0]) + context.x, float(at[1]) + context.y) for at in (near, far))
    if abs(to - from_) < 1e-9:
        return np.zeros((h, w), np.float32)
    here = found.room[context.y : context.y + h, context.x : context.x + w] if found.own is None else np.full((h, w), found.own)
    away = (here - from_) / (to - from_)
    return np.asarray(np.clip(np.abs(away) if look.sides == "both" else away, 0, 1), np.float32)


def by_distance(rgba: F32, away: F32, radius: float) -> F32:
    """Blur whose SD is `away` (h, w) times `radius`: between versions each twice as soft as the one before."""
    levels = [0.0, *(radius / 2**k for k in range(max(1, int(np.ceil(np.log2(max(radius, 1)))) + 1), -1, -1))]
    wanted = away * radius
    out = rgba.copy()
    before = rgba
    for low, high in zip(levels[:-1], levels[1:], strict=True):
        soft = blurred(rgba, high)
        share = np.clip((wanted - low) / (high - low), 0, 1)[..., None]
        out = np.where(wanted[..., None] > low, before + share * (soft - before), out)
        before = soft
    return np.asarray(out, np.float32)


@numba.njit(parallel=True, cache=True, fastmath=FAST)  # type: ignore[misc]
def _distance(away: F32, near: F64, step: F64, both: bool) -> None:
    square = max(step[0] * step[0] + step[1] * step[1], 1e-6)
    for j in numba.prange(away.shape[0]):
        for i in range(away.shape[1]):
            t = ((i + 0.5 - near[0]) * step[0] + (j + 0.5 - near[1]) * step[1]) / square
            t = abs(t) if both else t
            t = min(max(t, 0.0), 1.0)
            away[j, i] = t * t * (3 - 2 * t)


LOOKS.add(LookEntry(
    kind="haze", order=100, label="Distance", settings=Haze, run=run, reach=reach,
    help="Haze or blur that grows from spot to spot.",
))  # fmt: skip
