"""A frame in its parts, for other programs: what each layer adds, its shadow, what it covers, how far away it is.

Put together again as `put_together` does, they are the picture before its finish.
"""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import cv2
import numpy as np

from plonket.base.colour import deep_codes
from plonket.base.conventions import F32, F64
from plonket.base.errors import BadInput
from plonket.base.progress import Work
from plonket.document.bases import BlendName, LayerBase
from plonket.document.kinds import LAYERS
from plonket.document.shot import Shot
from plonket.image.blend import lay_over
from plonket.image.exr import write_exr
from plonket.image.picture import Picture, windowed
from plonket.layers.hidden import spot_nearness
from plonket.layers.sources import Sources
from plonket.media.failures import media_errors
from plonket.render.frame import checked_frame, lies, scaled_size, under_stack
from plonket.render.inverse_depth import inverse_depth_for
from plonket.render.stack import drawn, lay_stack

PASSES = ("beauty", "shadow", "matte", "depth", "normals")
ONLY_EXR = ("depth", "normals")
"""Whole numbers of a picture would cut them off."""
BASE = "base"


@dataclass(kw_only=True)
class LayerPasses:
    """What a layer adds to a frame.

    Attributes
    ----------
    name : of the folder that its files lie in. light : (h, w, 3) linear, premultiplied. matte : (h, w) what it covers itself.
    shadow : (h, w) what it takes off what lies behind it besides. blend : how it is laid on that. depth : (h, w) metres along
    the camera's axis, 0 where nothing is or it is not known. normals : (h, w, 3) unit, x right, y up, z to the camera, or None.
    """

    layer: LayerBase | None
    name: str
    light: F32
    matte: F32
    shadow: F32
    blend: BlendName = "normal"
    depth: F32 | None = None
    normals: F32 | None = None


@dataclass(kw_only=True)
class FramePasses:
    """A frame: what the rest is laid on, (h, w, 4), the plate and all that a wash changed, with the distances (h, w) of its
    room in metres where those are known; then layers, the lowest first."""

    base: F32
    depth: F32 | None = None
    layers: list[LayerPasses] = field(default_factory=list)


def put_together(passes: FramePasses) -> F32:
    """(h, w, 4) the picture before its finish: each layer takes its matte and its shadow off what lies behind, and adds its
    light, or is mixed with it by its blend."""
    canvas = passes.base.copy()
    for one in passes.layers:
        rgba = np.dstack([one.light, np.clip(one.matte + one.shadow, 0, 1)]).astype(np.float32)
        lay_over(canvas, Picture(rgba=rgba), one.blend)
    return canvas


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


def folder_of(layer: LayerBase) -> str:
    """A folder's name that tells the layer by its name and stays its own by its id."""
    plain = re.sub(r"[^a-z0-9]+", "-", layer.name.lower()).strip("-")[:40]
    return f"{plain}_{layer.id}" if plain else layer.id


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
            _write(out / BASE, frame - start, _base_of(passes), kind, [name for name in wanted if name in ("beauty", "depth")])
            for one in passes.layers:
                _write(out / one.name, frame - start, one, kind, wanted)
                assert one.layer is not None
                about = {"folder": one.name, "name": one.layer.name, "kind": one.layer.kind, "blend": one.blend}
                order.setdefault(one.name, about)
        work.progress(frame - start + 1, stop - start)
    page = {
        "first_frame": start, "frames": stop - start, "fps": str(footage.fps), "passes": list(wanted), "format": kind,
        "base": BASE, "layers": list(order.values()),
        "how": "From the base up: result = light + result x (1 - matte - shadow), linear light; other blends than normal are "
               "named. The finish of the shot comes after that and is not in these pictures.",
    }  # fmt: skip
    with media_errors(out, "written"):
        (out / "passes.json").write_text(json.dumps(page, indent=1))


def _base_of(passes: FramePasses) -> LayerPasses:
    base = passes.base
    none = np.zeros(base.shape[:2], np.float32)
    return LayerPasses(layer=None, name=BASE, light=base[..., :3], matte=base[..., 3], shadow=none, depth=passes.depth)


def _write(folder: Path, number: int, one: LayerPasses, kind: str, wanted: Sequence[str]) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    if kind == "exr":
        _write_exr(folder / f"{number:06d}.exr", one, wanted)
        return
    code = {"beauty": _coded(one), "matte": _grey(one.matte), "shadow": _grey(one.shadow)}
    for name in wanted:
        (folder / name).mkdir(exist_ok=True)
        if not cv2.imwrite(str(folder / name / f"{number:06d}.png"), code[name]):
            raise OSError(28, "No space left on device")


def _coded(one: LayerPasses) -> np.ndarray:
    """Straight, 16-bit, sRGB-coded, in the order blue, green, red, coverage."""
    alpha = one.matte[..., None]
    colour = np.where(alpha > 1e-3, one.light / np.maximum(alpha, 1e-3), one.light).astype(np.float32)
    return np.dstack([deep_codes(np.ascontiguousarray(colour))[..., ::-1], _grey(one.matte)])


def _grey(values: F32) -> np.ndarray:
    return np.round(np.clip(values, 0, 1) * 65535).astype(np.uint16)


def _write_exr(path: Path, one: LayerPasses, wanted: Sequence[str]) -> None:
    channels: dict[str, np.ndarray] = {}
    if "beauty" in wanted:
        channels |= dict(zip("RGB", one.light.transpose(2, 0, 1).astype(np.float16), strict=True))
    if "beauty" in wanted or "matte" in wanted:
        channels["A"] = one.matte.astype(np.float16)
    if "shadow" in wanted:
        channels["shadow.A"] = one.shadow.astype(np.float16)
    if "depth" in wanted and one.depth is not None:
        channels["Z"] = one.depth
    if "normals" in wanted and one.normals is not None:
        channels |= {f"N.{axis}": part for axis, part in zip("XYZ", one.normals.transpose(2, 0, 1), strict=True)}
    write_exr(path, channels)
