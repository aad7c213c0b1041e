"""Writes models in glTF 2.0 with all that ours have: materials with textures, nodes, skins, shapes and movements."""

from __future__ import annotations

import io
from typing import Any

import numpy as np
from PIL import Image

from plonket.room.meshes.gltf.writing import glb

FLOAT, U16, U32 = 5126, 5123, 5125
TYPES = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4", 16: "MAT4"}


class GltfFile:
    """A model that is put together piece by piece; what is asked for comes back as its number in the file."""

    def __init__(self) -> None:
        self.json: dict[str, Any] = {"asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": []}], "accessors": [],
                                     "bufferViews": [], "buffers": [], "meshes": [], "nodes": [], "materials": []}  # fmt: skip
        self.data = bytearray()

    def put(self, key: str, value: dict[str, Any]) -> int:
        self.json.setdefault(key, []).append(value)
        return len(self.json[key]) - 1

    def raw(self, data: bytes) -> int:
        """A buffer view."""
        self.data += bytes(-len(self.data) % 4)
        view = self.put("bufferViews", {"buffer": 0, "byteOffset": len(self.data), "byteLength": len(data)})
        self.data += data
        return view

    def numbers(self, values: Any, kind: int = FLOAT) -> int:
        """An accessor of (n,), (n, c) or (n, 4, 4) matrices."""
        array = np.asarray(values, {FLOAT: np.float32, U16: np.uint16, U32: np.uint32}[kind])
        if array.ndim == 3:
            array = array.transpose(0, 2, 1).reshape(len(array), 16)
        flat = array.reshape(len(array), -1)
        about: dict[str, Any] = {"bufferView": self.raw(flat.tobytes()), "componentType": kind, "count": len(flat),
                                 "type": TYPES[flat.shape[1]]}  # fmt: skip
        if len(flat):
            about |= {"min": flat.min(axis=0).tolist(), "max": flat.max(axis=0).tolist()}
        return self.put("accessors", about)

    def picture(self, pixels: np.ndarray, **texture: Any) -> dict[str, Any]:
        """What a material says of a texture: 8-bit (h, w, 3 or 4)."""
        out = io.BytesIO()
        Image.fromarray(pixels).save(out, "PNG")
        image = self.put("images", {"bufferView": self.raw(out.getvalue()), "mimeType": "image/png"})
        return {"index": self.put("textures", {"source": image}), **texture}

    def material(self, name: str, **about: Any) -> int:
        return self.put("materials", {"name": name, **about})

    def primitive(self, places: Any, faces: Any, material: int | None = None, **attributes: int) -> dict[str, Any]:
        """Triangles (m, 3) over places (n, 3); further attributes by their accessors."""
        out: dict[str, Any] = {"attributes": {"POSITION": self.numbers(places), **attributes},
                               "indices": self.numbers(np.asarray(faces).ravel(), U32)}  # fmt: skip
        return out if material is None else out | {"material": material}

    def mesh(self, *primitives: dict[str, Any], **about: Any) -> int:
        return self.put("meshes", {"primitives": list(primitives), **about})

    def node(self, *, root: bool = True, **about: Any) -> int:
        made = self.put("nodes", about)
        if root:
            self.json["scenes"][0]["nodes"].append(made)
        return made

    def movement(self, name: str, *channels: tuple[int, str, Any, Any], interpolation: str = "LINEAR") -> None:
        """An animation of (node, path, seconds (n,), values)."""
        samplers = [{"input": self.numbers(when), "output": self.numbers(values), "interpolation": interpolation}
                    for _, _, when, values in channels]  # fmt: skip
        targets = [{"sampler": k, "target": {"node": node, "path": path}} for k, (node, path, _, _) in enumerate(channels)]
        self.put("animations", {"name": name, "samplers": samplers, "channels": targets})

    def glb(self) -> bytes:
        document = {key: value for key, value in self.json.items() if value != []}
        if self.data:
            document["buffers"] = [{"byteLength": len(self.data)}]
        return glb(document, bytes(self.data))
