"""The shot's own footage as a layer: what lies under it in the stack is behind that part of the footage."""

from __future__ import annotations

from typing import Literal

import numba
import numpy as np

from plonket.base.colour import LUMA, code_of
from plonket.base.conventions import F32, F64, FAST
from plonket.base.fields import Number, choice, number, value_at
from plonket.document.bases import BlendName
from plonket.document.kinds import LAYERS, LayerEntry
from plonket.image.picture import CLEAR, Picture
from plonket.keying.common import at_moment
from plonket.layers.common import KeyedLayer, faded
from plonket.layers.sources import Sources

OLD = "Old and new"
_STAYS: dict[str, BlendName] = {"plain": "normal", "darken": "darken", "lighten": "lighten"}


class PlateLayer(KeyedLayer):
    """The footage once more, steadied and mended as it is, cut by its own key, masks and matte.

    What its key takes off lets through what lies under it in the stack; some of the old may stay in front of that.
    """

    kind: Literal["plate"] = "plate"
    stays: Number = number(0.0, label="Old one stays", low=0, high=100, step=1, unit="%", group=OLD,
                           help="How much of what is taken off still lies over what is put behind.")  # fmt: skip
    stays_as: Literal["plain", "darken", "lighten"] = choice(
        "plain", label="It is mixed in", group=OLD,
        names={"plain": "As it is", "darken": "Only where it is darker", "lighten": "Only where it is brighter"})  # fmt: skip
    stays_from: Number = number(0.0, label="Brighter than", low=0, high=100, step=0.5, unit="%", group=OLD,
                                help="Only what is brighter than this stays, as the light edges of clouds.")  # fmt: skip
    stays_to: Number = number(100.0, label="Darker than", low=0, high=100, step=0.5, unit="%", group=OLD,
                              help="Only what is darker than this on screen stays.")  # fmt: skip
    stays_soft: Number = number(10.0, label="Range fades over", low=0, high=50, step=0.5, unit="%", group=OLD)


def clip_from_layer(layer: PlateLayer, sources: Sources, frame: float) -> F64:
    """(3, 3): its own pixels are the clip's."""
    return np.eye(3)


def shows(layer: PlateLayer, sources: Sources, frame: int) -> list[tuple[str, int, float]]:
    """The footage's frame, or the two between which it is."""
    if not sources.footage:
        return []
    moment = sources.moment(frame)
    low, share = int(moment), moment - int(moment)
    return [(sources.footage, low, 1 - share)] + ([(sources.footage, low + 1, share)] if share else [])


def draw(layer: PlateLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """The plate as it lies in the picture, less what its key takes off; `view`: from the clip's pixels to the picture's."""
    if sources.footage is None:
        return CLEAR
    # What is set for the footage's own pixels belongs to the clip's frames.
    key = None if layer.key is None else at_moment(layer.key, sources.moment(frame))
    return faded(Picture(rgba=sources.plate_picture(frame, size, view, key)), layer, frame)


def old_under(
    layer: PlateLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64, picture: Picture
) -> tuple[Picture, BlendName] | None:
    """What stays of the footage that was taken off, and how it is mixed with what is put behind; None: nothing stays."""
    presence = layer.presence(frame)
    share = float(np.clip(value_at(layer.stays, frame) / 100, 0, 1)) * presence
    if sources.footage is None or layer.key is None or share <= 0:
        return None
    whole = sources.plate_picture(frame, size, view, None)
    low, high = value_at(layer.stays_from, frame) / 100, value_at(layer.stays_to, frame) / 100
    soft = max(value_at(layer.stays_soft, frame) / 100, 1e-3)
    left = np.empty_like(whole)
    taken = np.zeros(whole.shape[:2], np.float32)
    h, w = picture.rgba.shape[:2]
    # What it keeps is kept, however faint it is.
    taken[picture.y : picture.y + h, picture.x : picture.x + w] = picture.rgba[..., 3] / np.float32(presence)
    _left(whole, taken, np.float32(share), np.array([low, high, soft], np.float32), LUMA.astype(np.float32), left)
    return Picture(rgba=left), _STAYS[layer.stays_as]


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _left(whole: F32, taken: F32, share: np.float32, within: F32, luma: F32, out: F32) -> None:
    """The part of the picture that the key took off, where its brightness on screen lies in a range; nought fades nothing."""
    one, zero = np.float32(1.0), np.float32(0.0)
    low, high, soft = within
    for y in numba.prange(out.shape[0]):
        for x in range(out.shape[1]):
            weight = share * (one - min(taken[y, x], one))
            if weight > zero and (low > zero or high < one):
                light = whole[y, x, 0] * luma[0] + whole[y, x, 1] * luma[1] + whole[y, x, 2] * luma[2]
                seen = code_of(light)
                if low > zero:
                    up = min(max((seen - low) / soft + np.float32(0.5), zero), one)
                    weight *= up * up * (np.float32(3) - np.float32(2) * up)
                if high < one:
                    down = min(max((high - seen) / soft + np.float32(0.5), zero), one)
                    weight *= down * down * (np.float32(3) - np.float32(2) * down)
            for c in range(4):
                out[y, x, c] = whole[y, x, c] * weight


LAYERS.add(LayerEntry(
    kind="plate", order=5, label="Footage in front", settings=PlateLayer, run=draw, clip_from_layer=clip_from_layer,
    shows=shows, under=old_under,
    help="The shot's own footage once more, cut by a key or masks: what lies under it is behind that part of the footage.",
    traits=frozenset({"keyed", "footage"}),
    groups=(OLD, "Mix"),
    card={"key=null": "Footage", "": "Footage, keyed"},
    says={"": "The footage in front of what lies under it"},
))  # fmt: skip
