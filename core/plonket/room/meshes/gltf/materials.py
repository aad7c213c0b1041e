"""Materials of glTF 2.0: metallic-roughness, normals, light of their own, cut-outs, mixtures and clear glass.

Occlusion maps are left out: the renderer finds out for itself where light does not reach.
"""

from __future__ import annotations

import io
from typing import Any

import numpy as np

from plonket.base.conventions import U8
from plonket.room.meshes.gltf.container import Container, table
from plonket.room.meshes.mesh import Material, Texture
from plonket.room.meshes.textures import read_texture

WRAPS = {33071: "clamp", 33648: "mirror", 10497: "repeat"}


class Materials:
    """The materials of a file, each read when it is asked for."""

    def __init__(self, file: Container) -> None:
        self._file = file
        self._made: dict[int, Material] = {}
        self._pictures: dict[int, U8] = {}

    def of(self, index: Any) -> Material:
        if index is None:
            # The format's own default is rough white metal, which nobody means.
            return Material()
        about = self._file.one("materials", index)
        if index not in self._made:
            self._made[index] = self._material(about)
        return self._made[index]

    def _material(self, about: dict[str, Any]) -> Material:
        file = self._file
        extra = table(about, "extensions")
        pbr = table(about, "pbrMetallicRoughness")
        factor = np.clip(file.numbers(pbr.get("baseColorFactor"), 4, (1, 1, 1, 1)), 0, 1)
        base = self._texture(pbr.get("baseColorTexture"))
        mode = about.get("alphaMode", "OPAQUE")
        opacity, cover = float(factor[3]), self._cover(base, mode, about, float(factor[3]))
        if mode == "OPAQUE":
            opacity, cover = 1.0, None
        if mode == "MASK":
            opacity = 1.0 if cover is not None or factor[3] >= file.number(about, "alphaCutoff", 0.5) else 0.0
        surface = self._texture(pbr.get("metallicRoughnessTexture"))
        bumps = self._texture(about.get("normalTexture"))
        strength = file.number(table(extra, "KHR_materials_emissive_strength"), "emissiveStrength", 1.0)
        glow = np.maximum(file.numbers(about.get("emissiveFactor"), 3, (0, 0, 0)), 0) * max(strength, 0)
        colour = factor[:3].astype(np.float32)
        metal, rough = (float(np.clip(file.number(pbr, key, 1.0), 0, 1)) for key in ("metallicFactor", "roughnessFactor"))
        if "KHR_materials_unlit" in extra:
            # Its colour is light, whatever falls on it.
            return Material(
                name=_name(about), colour=np.zeros(3, np.float32), metal=0.0, rough=1.0, opacity=opacity, cover=cover,
                glow=(float(colour[0]), float(colour[1]), float(colour[2])), glow_picture=_channels(base, (0, 1, 2)),
            )  # fmt: skip
        clear = file.number(table(extra, "KHR_materials_transmission"), "transmissionFactor", 0.0)
        return Material(
            name=_name(about), colour=colour, picture=_channels(base, (0, 1, 2)), opacity=opacity, cover=cover, metal=metal,
            rough=rough, surface=_channels(surface, (1, 2)), bumps=_channels(bumps, (0, 1, 2)),
            bump=file.number(table(about, "normalTexture"), "scale", 1.0),
            glow=(float(glow[0]), float(glow[1]), float(glow[2])),
            glow_picture=_channels(self._texture(about.get("emissiveTexture")), (0, 1, 2)), clear=float(np.clip(clear, 0, 1)),
        )  # fmt: skip

    def _cover(self, base: Texture | None, mode: str, about: dict[str, Any], factor: float) -> Texture | None:
        if base is None or base.pixels.shape[2] < 4 or base.pixels[..., 3].min() == 255:
            return None
        alpha = base.pixels[..., 3:]
        if mode == "MASK":
            cut = self._file.number(about, "alphaCutoff", 0.5)
            alpha = np.where(alpha * (factor / 255) >= cut, 255, 0).astype(np.uint8)
        return Texture(pixels=np.ascontiguousarray(alpha), at=base.at, wrap=base.wrap)

    def _texture(self, about: Any) -> Texture | None:
        """The texture that a material names; one that lies on other places than the first uv is left out."""
        file = self._file
        if not isinstance(about, dict) or "index" not in about:
            return None
        moved = table(table(about, "extensions"), "KHR_texture_transform")
        if moved.get("texCoord", about.get("texCoord", 0)) != 0:
            return None
        texture = file.one("textures", about["index"])
        webp = table(table(texture, "extensions"), "EXT_texture_webp")
        source = webp.get("source", texture.get("source"))
        if source is None:
            return None
        sampler = file.one("samplers", texture["sampler"]) if "sampler" in texture else {}
        wrap = WRAPS.get(sampler.get("wrapS", 10497), "repeat")
        return Texture(pixels=self._picture(source), at=self._moved(moved), wrap=wrap)

    def _moved(self, about: dict[str, Any]) -> np.ndarray:
        """(3, 3) what KHR_texture_transform does to a uv whose v goes up; in the file it goes down."""
        offset = self._file.numbers(about.get("offset"), 2, (0, 0))
        scale = self._file.numbers(about.get("scale"), 2, (1, 1))
        turn = self._file.number(about, "rotation", 0.0)
        c, s = np.cos(turn), np.sin(turn)
        down = np.array([[1, 0, offset[0]], [0, 1, offset[1]], [0, 0, 1]]) @ [[c, s, 0], [-s, c, 0], [0, 0, 1]]
        down = down @ np.diag([scale[0], scale[1], 1.0])
        flip = np.array([[1, 0, 0], [0, -1, 1], [0, 0, 1.0]])
        return np.asarray(flip @ down @ flip)

    def _picture(self, index: Any) -> U8:
        """(h, w, 4) of a picture, its size looked at before anything is decoded."""
        about = self._file.one("images", index)
        if index in self._pictures:
            return self._pictures[index]
        data = bytes(self._file.view(about["bufferView"])[0]) if "bufferView" in about else self._file.inline(about.get("uri"))
        self._pictures[index] = out = read_texture(io.BytesIO(data), self._file.broken("a texture could not be read"))
        return out


def transform_of(at: np.ndarray) -> dict[str, Any]:
    """What a file says of a texture that is moved by `at`; see `Texture`."""
    flip = np.array([[1, 0, 0], [0, -1, 1], [0, 0, 1.0]])
    down = flip @ at @ flip
    scale = np.hypot(down[0, :2], down[1, :2])
    turn = float(np.arctan2(-down[1, 0], down[0, 0]))
    return {"offset": [float(v) for v in down[:2, 2]], "scale": [float(v) for v in scale], "rotation": turn}


def _channels(texture: Texture | None, which: tuple[int, ...]) -> Texture | None:
    if texture is None:
        return None
    return Texture(pixels=np.ascontiguousarray(texture.pixels[..., which]), at=texture.at, wrap=texture.wrap)


def _name(about: dict[str, Any]) -> str:
    return str(about.get("name", ""))[:80]
