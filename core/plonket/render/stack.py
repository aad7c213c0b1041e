"""The registry of layer kinds, and how a stack of layers is drawn."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from plonket.base.conventions import F32, F64
from plonket.base.fields import value_at
from plonket.base.registry import Entry, Registry
from plonket.image.blend import lay_over, mix_into
from plonket.image.picture import CLEAR, Picture, windowed
from plonket.keying.common import LUMA
from plonket.layers import beam, fill, form, generated, light, model, parcel, pin, still, wash
from plonket.layers.common import LayerModel, PictureLayer, faded
from plonket.layers.sources import Sources
from plonket.looks.apply import looked
from plonket.looks.common import LookModel
from plonket.masks.combine import combined, space_of
from plonket.masks.common import MaskModel
from plonket.render.inverse_depth import near_for
from plonket.track.following import shifted

LAYERS: Registry[Callable[[Any, Any, int, tuple[int, int], F64], Picture]] = Registry("layer")


def drawn(
    layer: LayerModel, sources: Sources, frame: int, size: tuple[int, int], view: F64, scale: float = 1.0,
    behind: F32 | None = None,
) -> Picture:  # fmt: skip
    """A layer's picture cut by its masks and its matte, with its looks.

    `view` leads from the clip's pixels to the picture's, `scale` is the picture's of full resolution, `behind` what the
    layer is laid over.
    """
    kind: str = layer.kind  # type: ignore[attr-defined]
    picture = LAYERS.get(kind).run(layer, sources, frame, size, view)
    if not picture.rgba.size:
        return picture
    lies = OWN_SPACE.get(kind)
    own = lies(layer, sources, frame) if lies else None
    into = _into(sources, frame, view, own)
    kept = [m for m in layer.masks if m.mode == "keep"]
    if kept and isinstance(layer, PictureLayer) and layer.key is not None:
        picture = _kept(picture, layer, kept, sources, frame, size, view, into)
    picture = _masked(picture, [m for m in layer.masks if m.mode != "keep"], frame, into)
    if layer.matte is not None:
        picture = _through_matte(picture, layer, sources, frame, size, view, scale)
    if not layer.looks or not picture.rgba.size:
        return picture

    def neighbour(at: int) -> Picture:
        return LAYERS.get(kind).run(layer, sources, at, size, view)

    near = near_for(layer, sources, frame, size, view)
    return looked(layer.looks, picture, frame, size, scale, into, behind, neighbour, sources.table, near)


def _into(sources: Sources, frame: int, view: F64, own: F64 | None) -> Callable[[MaskModel | LookModel], F64 | None]:
    """From the pixels of whatever rides on something to the whole picture's."""

    def into(thing: Any) -> F64 | None:
        space = space_of(thing, sources.spaces, frame, own)
        return None if space is None else np.asarray(view @ space)

    return into


def _masked(picture: Picture, masks: Sequence[Any], frame: int, into: Callable[[Any], F64 | None]) -> Picture:
    cover = _cover(picture, masks, frame, into)
    if cover is None:
        return picture
    return Picture(rgba=picture.rgba * cover[..., None], x=picture.x, y=picture.y) if cover.any() else CLEAR


def _cover(picture: Picture, masks: Sequence[Any], frame: int, into: Callable[[Any], F64 | None]) -> F32 | None:
    h, w = picture.rgba.shape[:2]
    window = shifted(-picture.x, -picture.y)

    def inside(mask: Any) -> F64 | None:
        matrix = into(mask)
        return None if matrix is None else np.asarray(window @ matrix)

    return combined(masks, frame, (w, h), inside)


def _kept(
    keyed: Picture, layer: PictureLayer, masks: Sequence[Any], sources: Sources, frame: int, size: tuple[int, int],
    view: F64, into: Callable[[Any], F64 | None],
) -> Picture:  # fmt: skip
    """The keyed picture with its own unkeyed pixels where masks keep them."""
    kind: str = layer.kind  # type: ignore[attr-defined]
    whole = LAYERS.get(kind).run(layer.model_copy(update={"key": None}), sources, frame, size, view)
    cover = _cover(whole, [m.model_copy(update={"mode": "add"}) for m in masks], frame, into)
    if cover is None or not whole.rgba.size or whole.rgba.shape != keyed.rgba.shape:
        return keyed
    return Picture(rgba=keyed.rgba + cover[..., None] * (whole.rgba - keyed.rgba), x=keyed.x, y=keyed.y)


def _through_matte(
    picture: Picture, layer: LayerModel, sources: Sources, frame: int, size: tuple[int, int], view: F64, scale: float
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
    canvas: F32, layers: Sequence[LayerModel], sources: Sources, frame: int, view: F64, scale: float, *, finished: bool = True
) -> F32:
    """Layers, nearest first, laid on a canvas (h, w, 4) from the last to the first.

    Parameters
    ----------
    view : (3, 3) from the clip's pixels to the canvas's. scale : of full resolution. finished : with blends and with what
        lies behind; else only what they cover.
    """
    size = (canvas.shape[1], canvas.shape[0])
    for layer in reversed(layers):
        if not layer.shown or (isinstance(layer, form.FormLayer) and layer.unseen):
            continue
        if isinstance(layer, wash.WashLayer):
            if finished:
                canvas = _washed(canvas, layer, sources, frame, view, scale)
            continue
        picture = drawn(layer, sources, frame, size, view, scale, canvas if finished else None)
        lay_over(canvas, picture, layer.blend if finished else "normal")
    return canvas


def _washed(canvas: F32, layer: wash.WashLayer, sources: Sources, frame: int, view: F64, scale: float) -> F32:
    """Everything so far with the wash's looks, where its masks and its matte let them."""
    share = float(np.clip(value_at(layer.opacity, frame) / 100, 0, 1))
    if share <= 0 or not layer.looks:
        return canvas
    size = (canvas.shape[1], canvas.shape[0])
    into = _into(sources, frame, view, None)
    below = Picture(rgba=canvas)
    near = near_for(layer, sources, frame, size, view)
    new = looked(layer.looks, below, frame, size, scale, into, None, None, sources.table, near).rgba
    if layer.blend != "normal":
        blended = canvas.copy()
        lay_over(blended, Picture(rgba=new), layer.blend)
        new = blended
    cover = _cover(below, layer.masks, frame, into)
    if cover is None and layer.matte is None and share >= 1:
        return new
    weight = np.full(canvas.shape[:2], share, np.float32) if cover is None else cover * np.float32(share)
    if layer.matte is not None:
        marked = np.zeros_like(canvas)
        marked[..., 3] = weight
        weight = _through_matte(Picture(rgba=marked), layer, sources, frame, size, view, scale).rgba[..., 3]
    mix_into(new, canvas, np.ascontiguousarray(weight, np.float32))
    return new


def _draw_parcel(layer: parcel.ParcelLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    """The parcel's layers, each drawn straight into the picture: nothing is sampled twice."""
    lies = view @ parcel.frame_from_parcel(layer, sources.spaces, frame)
    canvas = np.zeros((size[1], size[0], 4), np.float32)
    zoom = float(np.sqrt(abs(np.linalg.det(lies[:2, :2]))))
    lay_stack(canvas, sources.parcel(layer.parcel), sources, max(frame - layer.starts, 0), lies, zoom)
    return faded(Picture(rgba=canvas), layer, frame)


def _draw_nothing(layer: wash.WashLayer, sources: Sources, frame: int, size: tuple[int, int], view: F64) -> Picture:
    return CLEAR


for _kind, _label, _help, _settings, _run in (
    ("still", "Placed", "A picture or clip that stays where you put it, or follows a motion.", still.StillLayer, still.draw),
    ("pin", "Pinned", "A picture or clip pinned by its corners to a surface.", pin.PinLayer, pin.draw),
    ("beam", "Beam", "A line or curve between points or perches, with things hung on it.", beam.BeamLayer, beam.draw),
    ("generated", "Generated", "Sparks, smoke, rain, light and the like, made as the shot runs.", generated.GeneratedLayer,
     generated.draw),
    ("model", "Model", "A 3D model standing in a solved room, with its shadow.", model.ModelLayer, model.draw),
    ("form", "Form", "A box, cylinder or plane: what is really there, or a surface that the plate is projected on.",
     form.FormLayer, form.draw),
    ("lamp", "Lamp", "A soft rectangle that lights the models in its room.", light.LampLayer, light.draw),
    ("dome", "Dome", "Light from all round, from a light map, for the models in its room.", light.DomeLayer, light.draw),
    ("fill", "Colour", "One colour or a gradient over the whole picture.", fill.FillLayer, fill.draw),
    ("wash", "Wash", "Its looks apply to everything below it.", wash.WashLayer, _draw_nothing),
    ("parcel", "Parcel", "Several layers kept as one, usable several times.", parcel.ParcelLayer, _draw_parcel),
):  # fmt: skip
    LAYERS.add(Entry(kind=_kind, label=_label, help=_help, settings=_settings, run=_run))

OWN_SPACE: dict[str, Callable[[Any, Sources, float], F64 | None]] = {
    "still": still.lies,
    "pin": pin.lies,
    "generated": generated.lies,
    "parcel": lambda layer, sources, frame: parcel.frame_from_parcel(layer, sources.spaces, frame),
}
"""From a layer's own pixels to the clip's, for the kinds that have any."""
