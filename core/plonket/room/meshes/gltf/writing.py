"""Writing glTF 2.0 as one binary file: nodes, meshes with their materials, movements."""

from __future__ import annotations

import json
import struct
from collections.abc import Sequence
from typing import Any

import cv2
import numpy as np

from plonket.base.conventions import F64, matrix_to_quaternion
from plonket.room.meshes.gltf.materials import transform_of
from plonket.room.meshes.mesh import Material, Part, Texture

FLOAT = 5126
"""glTF's number for 32-bit floats."""
MAGIC, JSON_CHUNK, BINARY_CHUNK = 0x46546C67, 0x4E4F534A, 0x004E4942
WRAPS = {"clamp": 33071, "mirror": 33648}
SHAPES = {"translation": "VEC3", "rotation": "VEC4", "scale": "VEC3", "weights": "SCALAR"}


class GlbWriter:
    """Gathers a file. Source: Khronos Group, glTF 2.0, sections 3.5 to 3.11.

    Attributes
    ----------
    json : what the file will say; entries that have no method of their own are put there directly.
    """

    def __init__(self) -> None:
        self.json: dict[str, Any] = {
            "asset": {"version": "2.0", "generator": "Plonket"}, "scene": 0, "scenes": [{"nodes": []}], "nodes": [],
        }  # fmt: skip
        self._data = bytearray()
        self._views: list[dict[str, Any]] = []
        self._accessors: list[dict[str, Any]] = []
        self._materials: dict[int, int] = {}
        self._kept: list[Material] = []

    def put(self, key: str, entry: dict[str, Any]) -> int:
        """An entry of a list of the file; its number."""
        listed: list[dict[str, Any]] = self.json.setdefault(key, [])
        listed.append(entry)
        return len(listed) - 1

    def uses(self, extension: str) -> None:
        used = self.json.setdefault("extensionsUsed", [])
        if extension not in used:
            used.append(extension)

    def node(self, name: str, *, parent: int | None = None, **about: Any) -> int:
        """A node below another, or at the root."""
        number = self.put("nodes", {"name": name, **about})
        above = self.json["scenes"][0].setdefault("nodes", []) if parent is None else self.json["nodes"][parent].setdefault(
            "children", [])  # fmt: skip
        above.append(number)
        return number

    def raw(self, data: bytes) -> int:
        """A view of bytes, on a multiple of four."""
        self._data += b"\0" * (-len(self._data) % 4)
        self._views.append({"buffer": 0, "byteOffset": len(self._data), "byteLength": len(data)})
        self._data += data
        return len(self._views) - 1

    def numbers(self, values: np.ndarray, kind: str, *, bounds: bool = False) -> int:
        """An accessor of 32-bit floats, `kind` as the format calls it."""
        accessor: dict[str, Any] = {
            "bufferView": self.raw(np.ascontiguousarray(values, "<f4").tobytes()), "componentType": FLOAT,
            "count": len(values), "type": kind,
        }  # fmt: skip
        if bounds:
            flat = np.asarray(values, np.float32).reshape(len(values), -1)
            accessor |= {"min": flat.min(axis=0).tolist(), "max": flat.max(axis=0).tolist()}
        self._accessors.append(accessor)
        return len(self._accessors) - 1

    def mesh(self, name: str, parts: Sequence[Part], shapes: Sequence[Sequence[tuple[F64, F64]]] = ()) -> int:
        """A mesh. Faces do not share vertices, so no indices are needed.

        `shapes` : of each part, what each shape adds to its places and normals, both (n, 3).
        """
        primitives = []
        for k, part in enumerate(parts):
            primitives.append(primitive := self._primitive(part))
            if shapes and shapes[k]:
                corners = part.faces.ravel()
                primitive["targets"] = [
                    {"POSITION": self.numbers(places[corners], "VEC3", bounds=True),
                     "NORMAL": self.numbers(ways[corners], "VEC3")}
                    for places, ways in shapes[k]
                ]
        about: dict[str, Any] = {"name": name, "primitives": primitives}
        if shapes and shapes[0]:
            about["weights"] = [0.0] * len(shapes[0])
        return self.put("meshes", about)

    def cloud(self, name: str, points: F64) -> int:
        """A mesh of nothing but points (n > 0, 3)."""
        attributes = {"POSITION": self.numbers(points, "VEC3", bounds=True)}
        return self.put("meshes", {"name": name, "primitives": [{"attributes": attributes, "mode": 0}]})

    def animate(self, animation: dict[str, Any], node: int, path: str, times: int, values: F64) -> None:
        """A straight movement of a node's `path` in an animation (an entry with `samplers` and `channels`)."""
        output = self.numbers(values, SHAPES[path])
        animation["channels"].append({"sampler": len(animation["samplers"]), "target": {"node": node, "path": path}})
        animation["samplers"].append({"input": times, "output": output, "interpolation": "LINEAR"})

    def finish(self) -> bytes:
        """The file."""
        self.json |= {"accessors": self._accessors, "bufferViews": self._views}
        if self._data:
            self.json["buffers"] = [{"byteLength": len(self._data)}]
        return glb({key: value for key, value in self.json.items() if value != []}, bytes(self._data))

    def _primitive(self, part: Part) -> dict[str, Any]:
        corners = part.faces.ravel()
        uv = part.uv[corners] * [1, -1] + [0, 1]
        attributes = {
            "POSITION": self.numbers(part.vertices[corners], "VEC3", bounds=True),
            "NORMAL": self.numbers(part.normals[corners], "VEC3"),
            "TEXCOORD_0": self.numbers(uv, "VEC2"),
        }
        if part.tints is not None:
            attributes["COLOR_0"] = self.numbers(part.tints[corners], "VEC3")
        if id(part.material) not in self._materials:
            self._materials[id(part.material)] = self.put("materials", self._material(part.material))
            self._kept.append(part.material)
        return {"attributes": attributes, "material": self._materials[id(part.material)]}

    def _material(self, of: Material) -> dict[str, Any]:
        def three(found: Texture) -> list[np.ndarray]:
            return [found.pixels[..., k] for k in range(3)]

        look: dict[str, Any] = {"metallicFactor": of.metal, "roughnessFactor": of.rough,
                                "baseColorFactor": [*(float(v) for v in of.colour), of.opacity]}  # fmt: skip
        material: dict[str, Any] = {"pbrMetallicRoughness": look, "doubleSided": True}
        if of.name:
            material["name"] = of.name
        if of.cover is not None:
            cover = of.cover.pixels[..., 0]
            fits = of.picture is not None and of.picture.pixels.shape[:2] == cover.shape
            colours = three(of.picture) if fits and of.picture is not None else [np.full_like(cover, 255)] * 3
            look["baseColorTexture"] = self._texture(of.cover, [*colours, cover])
        elif of.picture is not None:
            look["baseColorTexture"] = self._texture(of.picture, three(of.picture))
        if of.cover is not None or of.opacity < 1:
            material["alphaMode"] = "BLEND"
        if of.surface is not None:
            rough, metal = (of.surface.pixels[..., k] for k in range(2))
            look["metallicRoughnessTexture"] = self._texture(of.surface, [np.full_like(rough, 255), rough, metal])
        if of.bumps is not None:
            material["normalTexture"] = self._texture(of.bumps, three(of.bumps)) | {"scale": of.bump}
        if (most := max(of.glow)) > 0:
            material["emissiveFactor"] = [float(v / max(most, 1.0)) for v in of.glow]
            if most > 1:
                self._extended(material, "KHR_materials_emissive_strength", {"emissiveStrength": float(most)})
            if of.glow_picture is not None:
                material["emissiveTexture"] = self._texture(of.glow_picture, three(of.glow_picture))
        if of.clear > 0:
            self._extended(material, "KHR_materials_transmission", {"transmissionFactor": of.clear})
        return material

    def _extended(self, entry: dict[str, Any], extension: str, about: dict[str, Any]) -> None:
        entry.setdefault("extensions", {})[extension] = about
        self.uses(extension)

    def _texture(self, found: Texture, channels: Sequence[np.ndarray]) -> dict[str, Any]:
        """A picture of (h, w) 8-bit channels red, green, blue and perhaps cover."""
        order = [2, 1, 0, 3][: len(channels)]
        done, png = cv2.imencode(".png", np.dstack([channels[k] for k in order]))
        assert done
        image = self.put("images", {"bufferView": self.raw(png.tobytes()), "mimeType": "image/png"})
        about: dict[str, Any] = {"source": image}
        if found.wrap in WRAPS:
            about["sampler"] = self.put("samplers", {"wrapS": WRAPS[found.wrap], "wrapT": WRAPS[found.wrap]})
        named: dict[str, Any] = {"index": self.put("textures", about)}
        if not np.allclose(found.at, np.eye(3)):
            self._extended(named, "KHR_texture_transform", transform_of(found.at))
        return named


def glb(document: dict[str, Any], body: bytes) -> bytes:
    """A GLB of its JSON and its binary chunk."""
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    body += bytes(-len(body) % 4)
    chunks = struct.pack("<II", len(text), JSON_CHUNK) + text
    if body:
        chunks += struct.pack("<II", len(body), BINARY_CHUNK) + body
    return struct.pack("<III", MAGIC, 2, 12 + len(chunks)) + chunks


def moved_parts(matrices: F64) -> dict[str, F64]:
    """`translation` (n, 3), `rotation` (n, 4) and `scale` (n, 3) of poses (n, 4, 4); quaternions that follow each other lie on
    one side, or a program that blends them would spin."""
    size = np.linalg.norm(matrices[:, :3, :3], axis=1)
    # What is mirrored is so along x.
    size[:, 0] *= np.where(np.linalg.det(matrices[:, :3, :3]) < 0, -1, 1)
    safe = np.where(np.abs(size) > 1e-12, size, 1)
    turns = np.stack([matrix_to_quaternion(m[:3, :3] / s) for m, s in zip(matrices, safe, strict=True)])
    for k in range(1, len(turns)):
        if turns[k] @ turns[k - 1] < 0:
            turns[k] = -turns[k]
    return {"translation": matrices[:, :3, 3], "rotation": turns, "scale": size}
