"""A frame in its parts, as files: what each layer adds, its shadow, what it covers, how far away it is."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import cv2
import numpy as np

from plonket.base.colour import deep_codes
from plonket.base.conventions import F32
from plonket.document.bases import BlendName, LayerBase
from plonket.image.blend import lay_over
from plonket.image.exr import write_exr
from plonket.image.picture import Picture
from plonket.media.failures import disk_full

PASSES = ("beauty", "shadow", "reflection", "matte", "depth", "normals")
ONLY_EXR = ("depth", "normals")
"""Whole numbers of a picture would cut them off."""
BASE = "base"


@dataclass(kw_only=True)
class LayerPasses:
    """What a layer adds to a frame.

    Attributes
    ----------
    name : of the folder that its files lie in. light : (h, w, 3) linear, premultiplied. matte : (h, w) what it covers itself.
    shadow : (h, w) what it takes off what lies behind it besides. reflection : (h, w, 4) what the ground mirrors of it, linear,
    premultiplied by its share of the ground, or None. blend : how it is laid on that. depth : (h, w) metres along
    the camera's axis, 0 where nothing is or it is not known. normals : (h, w, 3) unit, x right, y up, z to the camera, or None.
    """

    layer: LayerBase | None
    name: str
    light: F32
    matte: F32
    shadow: F32
    reflection: F32 | None = None
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
        light, taken = one.light, one.matte + one.shadow
        if one.reflection is not None:
            light, taken = light + one.reflection[..., :3], taken + one.reflection[..., 3]
        rgba = np.dstack([light, np.clip(taken, 0, 1)]).astype(np.float32)
        lay_over(canvas, Picture(rgba=rgba), one.blend)
    return canvas


def folder_of(layer: LayerBase) -> str:
    """A folder's name that tells the layer by its name and stays its own by its id."""
    plain = re.sub(r"[^a-z0-9]+", "-", layer.name.lower()).strip("-")[:40]
    return f"{plain}_{layer.id}" if plain else layer.id


PAGE = "passes.json"

def write_frame(out: Path, number: int, passes: FramePasses, kind: str, wanted: Sequence[str]) -> list[dict[str, str]]:
    """Write a frame's parts below a folder; returns what is to be said of its layers, the lowest first.

    `kind` : ``exr`` (a file a layer with all passes as channels), ``exr-one`` (one file, channels by layer: ``name.R`` ...) or
    ``png`` (16 bits; a folder a pass).
    """
    if kind == "exr-one":
        channels = _channels(_base_of(passes), [name for name in wanted if name in ("beauty", "depth")])
        for one in passes.layers:
            channels |= {f"{one.name}.{name}": values for name, values in _channels(one, wanted).items()}
        out.mkdir(parents=True, exist_ok=True)
        write_exr(out / f"{number:06d}.exr", channels)
        return [_told(one) for one in passes.layers]
    _write(out / BASE, number, _base_of(passes), kind, [name for name in wanted if name in ("beauty", "depth")])
    for one in passes.layers:
        _write(out / one.name, number, one, kind, wanted)
    return [_told(one) for one in passes.layers]


def _told(one: LayerPasses) -> dict[str, str]:
    assert one.layer is not None
    return {"folder": one.name, "name": one.layer.name, "kind": one.layer.kind, "blend": one.blend}


def _base_of(passes: FramePasses) -> LayerPasses:
    base = passes.base
    none = np.zeros(base.shape[:2], np.float32)
    return LayerPasses(layer=None, name=BASE, light=base[..., :3], matte=base[..., 3], shadow=none, depth=passes.depth)


def _write(folder: Path, number: int, one: LayerPasses, kind: str, wanted: Sequence[str]) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    if kind == "exr":
        write_exr(folder / f"{number:06d}.exr", _channels(one, wanted))
        return
    code = {"beauty": _coded(one.light, one.matte), "matte": _grey(one.matte), "shadow": _grey(one.shadow)}
    if one.reflection is not None:
        code["reflection"] = _coded(one.reflection[..., :3], one.reflection[..., 3])
    for name in wanted:
        if name == "reflection" and one.reflection is None:
            continue
        (folder / name).mkdir(exist_ok=True)
        if not cv2.imwrite(str(folder / name / f"{number:06d}.png"), code[name]):
            raise disk_full()


def _coded(light: F32, cover: F32) -> np.ndarray:
    """Straight, 16-bit, sRGB-coded, in the order blue, green, red, coverage."""
    alpha = cover[..., None]
    colour = np.where(alpha > 1e-3, light / np.maximum(alpha, 1e-3), light).astype(np.float32)
    return np.dstack([deep_codes(np.ascontiguousarray(colour))[..., ::-1], _grey(cover)])


def _grey(values: F32) -> np.ndarray:
    return np.round(np.clip(values, 0, 1) * 65535).astype(np.uint16)


def _channels(one: LayerPasses, wanted: Sequence[str]) -> dict[str, np.ndarray]:
    """An EXR file's channels by name."""
    channels: dict[str, np.ndarray] = {}
    if "beauty" in wanted:
        channels |= dict(zip("RGB", one.light.transpose(2, 0, 1).astype(np.float16), strict=True))
    if "beauty" in wanted or "matte" in wanted:
        channels["A"] = one.matte.astype(np.float16)
    if "shadow" in wanted:
        channels["shadow.A"] = one.shadow.astype(np.float16)
    if "reflection" in wanted and one.reflection is not None:
        parts = zip("RGBA", one.reflection.transpose(2, 0, 1).astype(np.float16), strict=True)
        channels |= {f"reflection.{name}": part for name, part in parts}
    if "depth" in wanted and one.depth is not None:
        channels["Z"] = one.depth
    if "normals" in wanted and one.normals is not None:
        channels |= {f"N.{axis}": part for axis, part in zip("XYZ", one.normals.transpose(2, 0, 1), strict=True)}
    return channels
