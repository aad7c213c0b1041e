"""Materials of OpenUSD: the preview surface, and the same facts of shaders that are named otherwise."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import cv2
import numpy as np

from plonket.base.colour import encode_8bit
from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import FormatError
from plonket.room.meshes.mesh import Material, Texture
from plonket.room.meshes.textures import read_texture

if TYPE_CHECKING:
    from pxr import UsdShade

NAMES = {
    "colour": ("diffuseColor", "base_color", "baseColor"), "metal": ("metallic", "metalness", "base_metalness"),
    "rough": ("roughness", "specular_roughness"), "glow": ("emissiveColor", "emission_color", "emissive"),
    "opacity": ("opacity", "geometry_opacity"), "threshold": ("opacityThreshold",), "bumps": ("normal",),
    "clear": ("transmission", "transmission_weight"),
}  # fmt: skip
"""What inputs are called, the preview surface's own name first."""
WRAPS = {"clamp": "clamp", "mirror": "mirror", "black": "clamp"}
CHANNELS = {"r": 0, "g": 1, "b": 2, "a": 3, "x": 0, "y": 1, "z": 2, "w": 3}


class Found:
    """An input that a picture tells.

    Attributes
    ----------
    pixels : (h, w, 4) 8-bit. channel : which of them is meant; 0 where it is a colour. gain : (4,) it is multiplied with. at,
    wrap : as `Texture` has them. uv : the name of the coordinates that it goes by. raw : its codes are light.
    """

    def __init__(self, pixels: U8, channel: int, gain: F64, at: F64, wrap: str, uv: str, raw: bool) -> None:
        self.pixels, self.channel, self.gain, self.at = pixels, channel, gain, at
        self.wrap, self.uv, self.raw = wrap, uv, raw

    def texture(self, pixels: U8) -> Texture:
        return Texture(pixels=np.ascontiguousarray(pixels), at=self.at, wrap=self.wrap)

    def one(self) -> U8:
        """(h, w) of its channel, its gain in it."""
        plain = self.pixels[..., self.channel]
        gain = float(self.gain[self.channel])
        return plain if gain == 1.0 else np.clip(np.round(plain * gain), 0, 255).astype(np.uint8)


class UsdMaterials:
    """The materials of a stage, each read when it is asked for."""

    def __init__(self, folder: Path, name: str) -> None:
        self._folder, self._name = folder, name
        self._made: dict[str, tuple[Material, str]] = {}
        self._pictures: dict[str, U8] = {}

    def of(self, material: UsdShade.Material) -> tuple[Material, str]:
        """A material, and the name of the coordinates that its pictures go by; "" where it has none."""
        path = str(material.GetPath())
        if path not in self._made:
            self._made[path] = self._material(material)
        return self._made[path]

    def _material(self, material: UsdShade.Material) -> tuple[Material, str]:
        name = material.GetPrim().GetName()[:80]
        shader = material.ComputeSurfaceSource()[0] or material.ComputeSurfaceSource("mtlx")[0]
        if not shader:
            return Material(name=name), ""
        told = {what: self._input(shader, names) for what, names in NAMES.items()}
        pictures = [one for one in told.values() if isinstance(one, Found)]
        uv = pictures[0].uv if pictures else ""
        colour, picture = self._colour(told["colour"], 0.18)
        glow, glow_picture = self._colour(told["glow"], 0.0)
        surface = _surface(told["rough"], told["metal"])
        opacity, cover = _cover(told["opacity"], _number(told["threshold"], 0.0))
        bumps = told["bumps"]
        return Material(
            name=name, colour=colour, picture=picture, opacity=opacity, cover=cover,
            metal=1.0 if surface is not None else _number(told["metal"], 0.0),
            rough=1.0 if surface is not None else _number(told["rough"], 0.5), surface=surface,
            bumps=bumps.texture(bumps.pixels[..., :3]) if isinstance(bumps, Found) else None,
            glow=(float(glow[0]), float(glow[1]), float(glow[2])), glow_picture=glow_picture,
            clear=_number(told["clear"], 0.0),
        ), uv  # fmt: skip

    def _colour(self, told: Any, otherwise: float) -> tuple[F32, Texture | None]:
        if isinstance(told, Found):
            pixels = told.pixels[..., :3]
            if told.raw:
                light = np.asarray(pixels, np.float32) / 255
                pixels = encode_8bit(np.ascontiguousarray(light))
            return np.clip(told.gain[:3], 0, None).astype(np.float32), told.texture(pixels)
        values = np.asarray([otherwise] * 3 if told is None else told, np.float64).ravel()
        values = np.repeat(values[:1], 3) if len(values) < 3 else values[:3]
        if not np.isfinite(values).all():
            values = np.full(3, otherwise)
        return np.clip(values, 0, 1e4).astype(np.float32), None

    def _input(self, shader: UsdShade.Shader, names: Sequence[str]) -> Any:
        """What an input says: a `Found` picture, a plain value, or None."""
        from pxr import UsdShade

        for name in names:
            asked = shader.GetInput(name)
            if not asked:
                continue
            for source in asked.GetValueProducingAttributes():
                owner = UsdShade.Shader(source.GetPrim())
                if owner and UsdShade.Output.IsOutput(source):
                    return self._picture(owner, source.GetName().split(":", 1)[-1])
                return source.Get()
        return None

    def _picture(self, shader: UsdShade.Shader, output: str) -> Found | None:
        file = _value(shader, ("file",), None)
        place = getattr(file, "resolvedPath", "") or getattr(file, "path", "")
        if not place:
            return None
        at, uv = np.eye(3), "st"
        node = _source(shader, ("st", "texcoord"))
        if node is not None and (node.GetIdAttr().Get() or "") == "UsdTransform2d":
            at = _transform(node)
            node = _source(node, ("in",))
        if node is not None:
            uv = str(_value(node, ("varname", "geomprop"), "st"))
        wrap = WRAPS.get(str(_value(shader, ("wrapS", "uaddressmode"), "repeat")), "repeat")
        raw = str(_value(shader, ("sourceColorSpace",), "auto")) == "raw"
        gain = np.asarray(_value(shader, ("scale",), (1.0, 1.0, 1.0, 1.0)), np.float64).ravel()
        gain = gain if gain.shape == (4,) and np.isfinite(gain).all() else np.ones(4)
        return Found(self._read(place), CHANNELS.get(output, 0), gain, at, wrap, uv, raw)

    def _read(self, place: str) -> U8:
        """(h, w, 4) of a picture that came with the file."""
        if place in self._pictures:
            return self._pictures[place]
        path = Path(place)
        if not path.resolve().is_relative_to(self._folder):
            raise FormatError("model.beside", f"{self._name} names files outside itself.")
        broken = FormatError("model.unreadable", f"{self._name}: the texture {path.name} could not be read.")
        self._pictures[place] = out = read_texture(path, broken)
        return out


def _value(shader: UsdShade.Shader, names: Sequence[str], otherwise: Any) -> Any:
    for name in names:
        asked = shader.GetInput(name)
        if asked:
            for source in asked.GetValueProducingAttributes():
                found = source.Get()
                if found is not None:
                    return found
    return otherwise


def _source(shader: UsdShade.Shader, names: Sequence[str]) -> UsdShade.Shader | None:
    """The node that an input hangs on."""
    from pxr import UsdShade

    for name in names:
        asked = shader.GetInput(name)
        if asked and asked.HasConnectedSource():
            found = UsdShade.Shader(asked.GetConnectedSources()[0][0].source.GetPrim())
            if found:
                return found
    return None


def _transform(node: UsdShade.Shader) -> F64:
    """(3, 3) of a `UsdTransform2d`: scaled, turned, shifted, in that order."""
    angle = float(np.radians(float(_value(node, ("rotation",), 0.0))))
    scale = np.asarray(_value(node, ("scale",), (1.0, 1.0)), np.float64).ravel()
    shift = np.asarray(_value(node, ("translation",), (0.0, 0.0)), np.float64).ravel()
    c, s = np.cos(angle), np.sin(angle)
    out = np.array([[c, -s, shift[0]], [s, c, shift[1]], [0, 0, 1.0]]) @ np.diag([scale[0], scale[1], 1.0])
    return out if np.isfinite(out).all() else np.eye(3)


def _number(told: Any, otherwise: float) -> float:
    if told is None or isinstance(told, Found):
        return otherwise
    value = float(np.asarray(told, np.float64).ravel()[0])
    return float(np.clip(value, 0, 1)) if np.isfinite(value) else otherwise


def _surface(rough: Any, metal: Any) -> Texture | None:
    """How rough and metallic it is as one picture, where a picture tells either."""
    told = [one for one in (rough, metal) if isinstance(one, Found)]
    if not told:
        return None
    height, width = max((one.pixels.shape[:2] for one in told), key=lambda shape: shape[0] * shape[1])

    def plane(one: Any, otherwise: float) -> U8:
        if not isinstance(one, Found):
            return np.full((height, width), round(255 * _number(one, otherwise)), np.uint8)
        return np.asarray(cv2.resize(one.one(), (width, height), interpolation=cv2.INTER_AREA), np.uint8)

    return told[0].texture(np.dstack([plane(rough, 0.5), plane(metal, 0.0)]))


def _cover(told: Any, threshold: float) -> tuple[float, Texture | None]:
    """How much it covers, and the picture that tells it; cut at a threshold above nought."""
    if not isinstance(told, Found):
        opacity = _number(told, 1.0)
        return (1.0 if opacity >= threshold else 0.0) if threshold > 0 else opacity, None
    cover = told.one()
    if threshold > 0:
        cover = np.where(cover >= 255 * threshold, 255, 0).astype(np.uint8)
    return 1.0, None if cover.min() == 255 else told.texture(cover[..., None])
