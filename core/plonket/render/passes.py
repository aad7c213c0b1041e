"""A frame taken apart, for other programs: what each layer adds, its shadow, what it covers, how far away it is.

Put together again as `plonket.outputs.layers.put_together` does, they are the picture before its finish.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from plonket.base.conventions import F32, F64
from plonket.base.errors import BadInput
from plonket.base.progress import Work
from plonket.document.bases import BlendName, LayerBase
from plonket.document.kinds import LAYERS
from plonket.document.shot import Shot
from plonket.image.picture import Picture, windowed
from plonket.layers.hidden import spot_nearness
from plonket.layers.sources import Sources
from plonket.media.failures import media_errors
from plonket.outputs.layers import ONLY_EXR, PAGE, PASSES, FramePasses, LayerPasses, folder_of, write_frame
from plonket.outputs.layers_page import WORDS, About, page_of, words_of
from plonket.render.frame import checked_frame, lies, scaled_size, under_stack
from plonket.render.inverse_depth import inverse_depth_for
from plonket.render.stack import drawn, lay_stack


def frame_passes(
    shot: Shot, sources: Sources, frame: int, *, scale: float = 1.0, wanted: Sequence[str] = PASSES
) -> FramePasses:
    """A frame's parts. Raises `BadInput` as `render_frame` does."""
    footage = checked_frame(shot, frame)
    size = scaled_size((footage.width, footage.height), scale)
    zoom, matrix = lies(shot, sources, frame, size, None)
    found = FramePasses(base=under_stack(shot, sources, frame, matrix, size, "final", held=None))

    def laid(layer: LayerBase, picture: Picture, blend: BlendName) -> None:
        whole = windowed(picture, 0, 0, size)
        found.layers.append(LayerPasses(
            layer=layer, name=folder_of(layer), light=whole[..., :3], matte=whole[..., 3], shadow=np.zeros_like(whole[..., 3]),
            blend=blend,
        ))  # fmt: skip

    def washed(canvas: F32) -> None:
        # What lies below a wash cannot be told apart any more.
        found.base, found.layers = canvas.copy(), []

    shown = [layer for layer in shot.stack if layer.shown]
    lay_stack(found.base.copy(), shown, sources, frame, matrix, float(zoom[0, 0]), laid=laid, washed=washed)
    if "depth" in wanted:
        known = inverse_depth_for(None, sources, frame, size, matrix)()
        found.depth = None if known is None else _distance(known.room)
    for one in found.layers:
        _told_apart(one, sources, frame, size, matrix, float(zoom[0, 0]), wanted)
    return found


def _told_apart(
    one: LayerPasses, sources: Sources, frame: int, size: tuple[int, int], view: F64, scale: float, wanted: Sequence[str]
) -> None:
    """Shadow and matte of what throws one, and where its surface is."""
    layer = one.layer
    assert layer is not None
    entry = LAYERS.of(layer)
    dull = entry.mirrorless(layer) if entry.mirrorless else None
    if dull is not None:
        rest = windowed(drawn(dull, sources, frame, size, view, scale), 0, 0, size)
        mirrored = np.dstack([one.light - rest[..., :3], one.matte - rest[..., 3]])
        one.reflection = np.maximum(mirrored, 0).astype(np.float32)
        one.light, one.matte, layer = rest[..., :3], rest[..., 3], dull
    bare = entry.shadowless(layer) if entry.shadowless else None
    if bare is not None and one.matte.any():
        own = windowed(drawn(bare, sources, frame, size, view, scale), 0, 0, size)[..., 3]
        one.shadow, one.matte = np.maximum(one.matte - own, 0), np.minimum(own, one.matte)
    follow = getattr(layer, "follow", None)
    seat = sources.seat(follow.target) if follow is not None and sources.on_spot(follow.target) else None
    if entry.surface is None and seat is not None and "placed" in entry.traits and follow is not None:
        near = spot_nearness(*seat, frame, view, (0, 0, *size), flat=follow.perspective)
        one.depth = np.where(one.matte > 1 / 512, _distance(near), 0).astype(np.float32)
    if entry.surface is not None and {"depth", "normals"}.intersection(wanted):
        told = entry.surface(layer, sources, frame, size, view)
        if told is not None:
            one.depth = np.where(one.matte > 1 / 512, told[0], 0).astype(np.float32)
            one.normals = None if told[1] is None else np.where(one.matte[..., None] > 1 / 512, told[1], 0).astype(np.float32)


def _distance(near: F32) -> F32:
    return np.where(near > 1e-9, 1 / np.maximum(near, 1e-9), 0).astype(np.float32)


def write_passes(
    shot: Shot, sources: Sources, out: Path, *, start: int, stop: int, scale: float = 1.0, wanted: Sequence[str] = PASSES,
    kind: str = "exr", work: Work | None = None,
) -> None:  # fmt: skip
    """Frames start..stop-1 in their parts: a folder a layer, one for the base, and `passes.json`, which says how they go
    together. `kind` is ``exr`` (one file a frame with all passes as channels) or ``png`` (16 bits; a folder a pass)."""
    if strange := sorted(set(wanted) - set(PASSES)):
        raise BadInput("render.passes", f"There is no pass {strange[0]}. There are: {', '.join(PASSES)}.")
    if kind not in ("exr", "png"):
        raise BadInput("render.format", f"Passes come as exr or png; not as {kind}.")
    if kind == "png" and (cut := [name for name in wanted if name in ONLY_EXR]):
        raise BadInput("render.format", f"A PNG holds no {cut[0]}, whose values go beyond its range. Use --format exr.")
    if out.suffix:
        raise BadInput("render.out", f"{out.name}: passes come in a folder. Give a name without an ending.")
    footage = checked_frame(shot, start)
    checked_frame(shot, stop - 1)
    work = work or Work()
    order: dict[str, dict[str, str]] = {}
    for frame in range(start, stop):
        work.check_cancelled()
        passes = frame_passes(shot, sources, frame, scale=scale, wanted=wanted)
        with media_errors(out, "written"):
            for told in write_frame(out, frame - start, passes, kind, wanted):
                order.setdefault(told["folder"], told)
        work.progress(frame - start + 1, stop - start)
    with media_errors(out, "written"):
        about = About(first=start, frames=stop - start, fps=str(footage.fps), kind=kind, wanted=wanted,
                      layers=list(order.values()), size=scaled_size((footage.width, footage.height), scale))  # fmt: skip
        (out / PAGE).write_text(page_of(about))
        (out / WORDS).write_text(words_of(about))
