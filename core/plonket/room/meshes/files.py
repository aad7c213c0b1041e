"""Models from files: GLB, glTF in one file, USD, OBJ, PLY, STL."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from plonket.base.colour import linear_from_codes
from plonket.base.conventions import F32, U8
from plonket.base.errors import FormatError
from plonket.room.meshes.boxed import usd_as_glb
from plonket.room.meshes.creased import creased
from plonket.room.meshes.gltf.scene import MOST_FACES, read_gltf
from plonket.room.meshes.mesh import PLAIN, Material, Mesh, Part, Texture
from plonket.room.meshes.textures import check_texture, reduced
from plonket.room.meshes.usd.opening import USD

MODELS = (".glb", ".gltf", *USD, ".obj", ".ply", ".stl")


def read_model(path: Path) -> Mesh:
    """Read a model, its pivot moved to the middle of its bottom. Raises `FormatError` in plain words."""
    if path.suffix.lower() in (".glb", ".gltf"):
        return read_gltf(path.read_bytes(), path.name)
    if path.suffix.lower() in USD:
        return read_gltf(usd_as_glb(path), path.name)
    import trimesh

    try:
        # From an open file and not by its path: then whatever the file names beside itself is not looked for.
        with path.open("rb") as file:
            scene = trimesh.load_scene(file, file_type=path.suffix[1:].lower())
        for mesh in scene.geometry.values():
            _check_textures(getattr(getattr(mesh, "visual", None), "material", None))
        meshes = [m for m in scene.dump() if isinstance(m, trimesh.Trimesh) and len(m.faces)]
    except (FormatError, MemoryError):
        raise
    except Exception as error:  # trimesh raises whatever its parsers do
        raise FormatError("model.unreadable", f"{path.name} could not be read as a 3D model.") from error
    if not meshes:
        raise FormatError("model.empty", f"{path.name} has no surfaces to show.")
    if sum(len(m.faces) for m in meshes) > MOST_FACES:
        raise FormatError("model.large", f"{path.name} has more than two million faces. Reduce it first.")
    low = np.min([m.bounds[0] for m in meshes], axis=0)
    high = np.max([m.bounds[1] for m in meshes], axis=0)
    if not np.isfinite([low, high]).all() or not (high - low).max() > 0:
        raise FormatError("model.extent", f"{path.name} has no extent that can be shown.")
    foot = np.array([(low[0] + high[0]) / 2, low[1], (low[2] + high[2]) / 2])
    return Mesh(parts=tuple(_part(m, foot) for m in meshes), size=high - low)


def about_model(path: Path) -> dict[str, Any]:
    """What is to be known of a model without reading it again: `extent`, width, height and depth in its own unit; `clips`, how
    it can move; `materials`, `lights`, their names. Raises as `read_model` does."""
    mesh = read_model(path)
    return {
        "extent": [float(v) for v in mesh.size],
        "clips": [{"name": clip.name, "seconds": round(clip.seconds, 4)} for clip in mesh.clips],
        "materials": list(material_names(mesh)),
        "lights": [light.name for light in mesh.lights],
    }


def material_names(mesh: Mesh) -> tuple[str, ...]:
    """The names of its materials, each once, in their order; what has none is called by its number."""
    return tuple(dict.fromkeys(name_of(mesh, k) for k in range(len(mesh.parts))))


def name_of(mesh: Mesh, part: int) -> str:
    """What the material of a part is called."""
    own = mesh.parts[part].material
    if own.name:
        return own.name
    others = list(dict.fromkeys(id(p.material) for p in mesh.parts if not p.material.name))
    return f"Material {others.index(id(own)) + 1}"


def _part(mesh: Any, foot: Any) -> Part:
    n = len(mesh.vertices)
    visual = mesh.visual
    found: Any = getattr(mesh.visual, "material", None)
    uv = getattr(visual, "uv", None)
    own = uv is not None and len(uv) == n
    colour, texture, tints = PLAIN, None, None
    if type(found).__name__ == "SimpleMaterial":
        texture = _pixels(found.image) if own else None
        colour = _linear(found.diffuse) if texture is None else np.ones(3, np.float32)
    elif getattr(visual, "kind", None) == "vertex":
        colour, tints = np.ones(3, np.float32), linear_from_codes(np.ascontiguousarray(visual.vertex_colors[None, :, :3]))[0]
    elif getattr(visual, "kind", None) == "face":
        colour = _linear(np.asarray(visual.main_color))
    corners = np.asarray(mesh.faces, np.int64).ravel()
    vertices = np.asarray(mesh.vertices, np.float64)
    name = str(getattr(found, "name", "") or "")[:80]
    return Part(
        vertices=vertices[corners] - foot, faces=np.arange(len(corners)).reshape(-1, 3),
        uv=np.asarray(uv, np.float64)[corners] if own else np.zeros((len(corners), 2)),
        normals=creased(vertices, np.asarray(mesh.faces, np.int64)), tints=None if tints is None else tints[corners],
        material=Material(name=name, colour=colour, picture=None if texture is None else Texture(pixels=texture)),
    )  # fmt: skip


def _linear(colour: Any) -> F32:
    """sRGB 0..255, or 0..1 as files have it, to linear RGB (3,)."""
    values = np.asarray(colour, np.float64)[:3]
    if values.max(initial=0) <= 1.0 and np.asarray(colour).dtype.kind == "f":
        values = values * 255
    return linear_from_codes(np.clip(np.round(values), 0, 255).astype(np.uint8)[None, None])[0, 0]


def _check_textures(material: Any) -> None:
    """Their sizes, before anything is decoded. Raises `FormatError`."""
    image = getattr(material, "image", None)
    width, height = (0, 0) if image is None else image.size
    check_texture(width, height)


def _pixels(image: Any) -> U8 | None:
    return None if image is None else reduced(np.array(image.convert("RGB"), np.uint8))
