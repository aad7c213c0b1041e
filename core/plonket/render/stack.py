"""How a stack of layers is drawn."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import groupby
from typing import Any

import numpy as np

from plonket.base.colour import LUMA
from plonket.base.conventions import F32, F64
from plonket.base.homography import translation
from plonket.document.bases import BlendName, LayerBase, LookBase, MaskBase
from plonket.document.kinds import KEYS, LAYERS
from plonket.image.blend import lay_over, mix_into
from plonket.image.picture import CLEAR, Picture, windowed
from plonket.keying.from_behind import glow, lit
from plonket.keying.seam import joined
from plonket.layers.common import KeyedLayer
from plonket.layers.in_room import by_distance, hidden_in_room
from plonket.layers.sources import Sources
from plonket.looks.apply import apply_looks
from plonket.masks.combine import Mattes, combined, space_of
from plonket.render.inverse_depth import inverse_depth_for


def drawn(
    layer: LayerBase, sources: Sources, frame: int, size: tuple[int, int], view: F64, scale: float = 1.0,
    behind: F32 | None = None,
) -> Picture:  # fmt: skip
    """A layer's picture cut by its masks and its matte, with its looks.

    `view` leads from the clip's pixels to the picture's, `scale` is the picture's of full resolution, `behind` what the
    layer is laid over.
    """
    if not layer.is_there(frame):
        return CLEAR
    picture = _own_picture(layer, sources, frame, size, view, behind)
    if not picture.rgba.size:
        return picture
    clip_from_layer = LAYERS.of(layer).clip_from_layer
    own = clip_from_layer(layer, sources, frame) if clip_from_layer else None
    into = _into(sources, frame, view, own)
    kept = [m for m in layer.masks if m.mode == "keep"]
    if kept and isinstance(layer, KeyedLayer) and (layer.key or any(mask.key for mask in kept)):
        picture = _kept(picture, layer, kept, sources, frame, size, view, into, behind)
    moment = sources.moment(frame)
    picture = _masked(picture, [m for m in layer.masks if m.mode != "keep"], moment, into, sources.picked)
    picture = hidden_in_room(picture, layer, sources, frame, size, view)
    if layer.matte is not None:
        picture = _through_matte(picture, layer, sources, frame, size, view, scale)
    if not layer.looks or not picture.rgba.size:
        return picture

    def neighbour(at: int) -> Picture:
        return LAYERS.of(layer).run(layer, sources, at, size, view)

    inverse_depth = inverse_depth_for(layer, sources, frame, size, view)
    return apply_looks(
        layer.looks, picture, frame, size, scale, into, behind, neighbour, sources.table, inverse_depth, moment=moment,
        mattes=sources.picked,
    )  # fmt: skip


def _own_picture(
    layer: LayerBase, sources: Sources, frame: int, size: tuple[int, int], view: F64, behind: F32 | None
) -> Picture:
    """A layer as its kind draws it; what is behind shines on a keyed one in the place of its cloth, where its key says so."""
    run = LAYERS.of(layer).run
    picture: Picture = run(layer, sources, frame, size, view)
    key = layer.key if isinstance(layer, KeyedLayer) else None
    pair = KEYS.of(key).by_behind(key) if key is not None and behind is not None and picture.rgba.size else None
    if pair is None or behind is None:
        return picture
    bare, white = (run(layer.model_copy(update={"key": one}), sources, frame, size, view).rgba for one in pair)
    h, w = picture.rgba.shape[:2]
    light = glow(behind)[picture.y : picture.y + h, picture.x : picture.x + w]
    return Picture(rgba=lit(bare, white, picture.rgba, light), x=picture.x, y=picture.y)


def _into(sources: Sources, frame: int, view: F64, own: F64 | None) -> Callable[[MaskBase | LookBase], F64 | None]:
    """From the pixels of whatever rides on something to the whole picture's."""

    def into(thing: Any) -> F64 | None:
        space = space_of(thing, sources.spaces, frame, own)
        return None if space is None else np.asarray(view @ space)

    return into


def _masked(
    picture: Picture, masks: Sequence[Any], moment: float, into: Callable[[Any], F64 | None], mattes: Mattes
) -> Picture:
    cover = _cover(picture, masks, moment, into, mattes)
    if cover is None:
        return picture
    return Picture(rgba=picture.rgba * cover[..., None], x=picture.x, y=picture.y) if cover.any() else CLEAR


def _cover(
    picture: Picture, masks: Sequence[Any], moment: float, into: Callable[[Any], F64 | None], mattes: Mattes
) -> F32 | None:
    """What masks cover of a picture; they are set at moments of the clip."""
    h, w = picture.rgba.shape[:2]
    window = translation(-picture.x, -picture.y)

    def inside(mask: Any) -> F64 | None:
        matrix = into(mask)
        return None if matrix is None else np.asarray(window @ matrix)

    return combined(masks, moment, (w, h), inside, mattes)


def _kept(
    keyed: Picture, layer: KeyedLayer, masks: Sequence[Any], sources: Sources, frame: int, size: tuple[int, int],
    view: F64, into: Callable[[Any], F64 | None], behind: F32 | None,
) -> Picture:  # fmt: skip
    """The keyed picture with its own unkeyed pixels where masks keep them, or keyed as those masks say."""
    rgba = keyed.rgba
    # In their order: where two overlap, the later one counts.
    for key, run in groupby(masks, key=lambda mask: mask.key):
        own = _own_picture(layer.model_copy(update={"key": key}), sources, frame, size, view, behind)
        adding = [mask.model_copy(update={"mode": "add"}) for mask in run]
        cover = _cover(own, adding, sources.moment(frame), into, sources.picked)
        if cover is not None and own.rgba.size and own.rgba.shape == rgba.shape:
            keep = key is None or layer.key is None
            rgba = rgba + cover[..., None] * (own.rgba - rgba) if keep else joined(rgba, own.rgba, cover)
    return Picture(rgba=rgba, x=keyed.x, y=keyed.y)


def _through_matte(
    picture: Picture, layer: LayerBase, sources: Sources, frame: int, size: tuple[int, int], view: F64, scale: float
) -> Picture:
    """The picture where another layer is: by what that covers, or by how bright it is."""
    other = sources.layer(layer.matte or "")
    h, w = picture.rgba.shape[:2]
    matte = np.zeros((h, w), np.float32)
    if other is not None:
        part = windowed(drawn(other, sources, frame, size, view, scale), picture.x, picture.y, (w, h))
        matte = part[..., 3] if layer.matte_by == "alpha" else np.clip(part[..., :3] @ LUMA, 0, 1)
    share = 1 - matte if layer.matte_inverted else matte
    return Picture(rgba=picture.rgba * share[..., None], x=picture.x, y=picture.y)


def lay_stack(
    canvas: F32, layers: Sequence[LayerBase], sources: Sources, frame: int, view: F64, scale: float, *, finished: bool = True,
    laid: Callable[[LayerBase, Picture, BlendName], None] | None = None, washed: Callable[[F32], None] | None = None,
) -> F32:
    """Layers, nearest first, laid on a canvas (h, w, 4) from the last to the first; those of a solved room by their distance.

    Parameters
    ----------
    view : (3, 3) from the clip's pixels to the canvas's. scale : of full resolution. finished : with blends and with what
        lies behind; else only what they cover. laid, washed : told of every picture before it is laid, and of the canvas after
        a wash.
    """
    size = (canvas.shape[1], canvas.shape[0])
    every = [one for layer in layers for one in sources.copies(layer)]
    for layer in reversed(by_distance(every, sources, frame)):
        if not layer.shown or layer.unseen or not layer.is_there(frame):
            continue
        if "wash" in LAYERS.of(layer).traits:
            if finished:
                canvas = _washed(canvas, layer, sources, frame, view, scale)
                if washed is not None:
                    washed(canvas)
            continue
        picture = drawn(layer, sources, frame, size, view, scale, canvas if finished else None)
        under = LAYERS.of(layer).under
        left = under(layer, sources, frame, size, view, picture) if under and finished else None
        blend: BlendName = layer.blend if finished else "normal"
        for part, how in ([left] if left is not None else []) + [(picture, blend)]:
            if laid is not None:
                laid(layer, part, how)
            lay_over(canvas, part, how)
    return canvas


def _washed(canvas: F32, layer: LayerBase, sources: Sources, frame: int, view: F64, scale: float) -> F32:
    """Everything so far with the wash's looks, where its masks and its matte let them."""
    share = layer.presence(frame)
    if share <= 0 or not layer.looks:
        return canvas
    size = (canvas.shape[1], canvas.shape[0])
    into = _into(sources, frame, view, None)
    below = Picture(rgba=canvas)
    inverse_depth = inverse_depth_for(layer, sources, frame, size, view)
    moment = sources.moment(frame)
    new = apply_looks(
        layer.looks, below, frame, size, scale, into, None, None, sources.table, inverse_depth, moment=moment,
        mattes=sources.picked,
    ).rgba  # fmt: skip
    if layer.blend != "normal":
        blended = canvas.copy()
        lay_over(blended, Picture(rgba=new), layer.blend)
        new = blended
    cover = _cover(below, layer.masks, moment, into, sources.picked)
    if cover is None and layer.matte is None and share >= 1:
        return new
    weight = np.full(canvas.shape[:2], share, np.float32) if cover is None else cover * np.float32(share)
    if layer.matte is not None:
        marked = np.zeros_like(canvas)
        marked[..., 3] = weight
        weight = _through_matte(Picture(rgba=marked), layer, sources, frame, size, view, scale).rgba[..., 3]
    mix_into(new, canvas, np.ascontiguousarray(weight, np.float32))
    return new
