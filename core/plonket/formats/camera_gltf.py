"""A solved camera, its points and what stands in its room as glTF 2.0 (GLB); cameras read from glTF."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

import cv2
import numpy as np

from plonket.base.conventions import F64, matrix_to_quaternion
from plonket.base.errors import FormatError
from plonket.base.states import GIVEN
from plonket.formats.camera_json import camera_of
from plonket.formats.registry import FORMATS, Coming, FormatEntry
from plonket.room.alignment import Room
from plonket.room.camera_track import CameraTrack
from plonket.room.meshes.boxed import glb
from plonket.room.meshes.gltf.container import Container, table
from plonket.room.meshes.gltf.materials import transform_of
from plonket.room.meshes.gltf.movement import read_movements
from plonket.room.meshes.gltf.scene import local_at
from plonket.room.meshes.mesh import Material, Mesh, Part, Texture
from plonket.track.camera.settings import CameraMotion

FLOAT = 5126
"""glTF's number for 32-bit floats."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Placed:
    """A model as it stands in the room: its meshes, and (4, 4) room from model for every frame of the clip."""

    name: str
    model: Mesh
    stands: F64


def write_camera_glb(
    track: CameraTrack, room: Room, fps: Fraction, name: str = "camera", placed: Sequence[Placed] = ()
) -> bytes:
    """The camera's path, the points of the room and the models that stand in it as one binary file.

    The lens is written as a field of view without distortion. Source: Khronos Group, glTF 2.0, sections 3.6, 3.10, 3.11.
    """
    known = np.flatnonzero(track.known())
    times = (known / float(fps)).astype(np.float32)
    places = room.points(track.position[known]).astype(np.float32)
    turns = np.stack([matrix_to_quaternion(room.turns(track.rotation[i])) for i in known])
    # Neighbouring quaternions on the same side, or a program that blends them would spin.
    for k in range(1, len(turns)):
        if turns[k] @ turns[k - 1] < 0:
            turns[k] = -turns[k]
    focal = float(np.median(track.focal[known]))
    width, height = track.size
    parts = _Parts()
    time = parts.add(times, "SCALAR", bounds=True)
    samplers = [{"input": time, "output": parts.add(places, "VEC3"), "interpolation": "LINEAR"},
                {"input": time, "output": parts.add(turns.astype(np.float32), "VEC4"), "interpolation": "LINEAR"}]  # fmt: skip
    nodes: list[dict[str, Any]] = [
        {"name": name, "camera": 0, "translation": places[0].tolist(), "rotation": turns[0].tolist()}
    ]
    out: dict[str, Any] = {
        "asset": {"version": "2.0", "generator": "Plonket"},
        "scene": 0, "scenes": [{"nodes": [0]}], "nodes": nodes,
        "cameras": [{"type": "perspective", "name": name, "perspective": {
            "yfov": float(2 * np.arctan(height / 2 / focal)), "aspectRatio": width / height, "znear": 0.01}}],
        "animations": [{"name": name, "samplers": samplers, "channels": [
            {"sampler": 0, "target": {"node": 0, "path": "translation"}},
            {"sampler": 1, "target": {"node": 0, "path": "rotation"}}]}],
    }  # fmt: skip
    points = room.points(track.points[track.kept]).astype(np.float32)
    if len(points):
        out["meshes"] = [{"name": "details", "primitives": [
            {"attributes": {"POSITION": parts.add(points, "VEC3", bounds=True)}, "mode": 0}]}]  # fmt: skip
        nodes.append({"name": "details", "mesh": 0})
        out["scenes"][0]["nodes"].append(1)
    _add_placed(out, parts, placed, known, time)
    out |= {"accessors": parts.accessors, "bufferViews": parts.views, "buffers": [{"byteLength": len(parts.data)}]}
    return glb(out, bytes(parts.data))


def _add_placed(
    out: dict[str, Any], parts: _Parts, placed: Sequence[Placed], known: np.ndarray, time: int
) -> None:
    """Models with their materials as nodes; those that move get their movement."""
    meshes: dict[int, int] = {}
    for thing in placed:
        if id(thing.model) not in meshes:
            primitives = [_primitive(out, parts, part) for part in thing.model.parts]
            meshes[id(thing.model)] = len(out.setdefault("meshes", []))
            out["meshes"].append({"name": thing.name, "primitives": primitives})
        node = len(out["nodes"])
        m = thing.stands[known]
        size = np.linalg.norm(m[:, :3, :3], axis=1)
        turns = np.stack([matrix_to_quaternion(k[:3, :3] / s) for k, s in zip(m, size, strict=True)])
        for k in range(1, len(turns)):
            if turns[k] @ turns[k - 1] < 0:
                turns[k] = -turns[k]
        tracks = {"translation": m[:, :3, 3], "rotation": turns, "scale": size}
        first = {path: [float(v) for v in values[0]] for path, values in tracks.items()}
        out["nodes"].append({"name": thing.name, "mesh": meshes[id(thing.model)], **first})
        out["scenes"][0]["nodes"].append(node)
        animation = out["animations"][0]
        for path, values in tracks.items():
            if np.allclose(values, values[0], atol=1e-7):
                continue
            output = parts.add(values.astype(np.float32), "VEC4" if path == "rotation" else "VEC3")
            animation["channels"].append({"sampler": len(animation["samplers"]), "target": {"node": node, "path": path}})
            animation["samplers"].append({"input": time, "output": output, "interpolation": "LINEAR"})


def _primitive(out: dict[str, Any], parts: _Parts, part: Part) -> dict[str, Any]:
    """A mesh with its material. Faces do not share vertices, so no indices are needed."""
    corners = part.faces.ravel()
    uv = part.uv[corners] * [1, -1] + [0, 1]
    out.setdefault("materials", []).append(_material(out, parts, part.material))
    attributes = {
        "POSITION": parts.add(part.vertices[corners].astype(np.float32), "VEC3", bounds=True),
        "NORMAL": parts.add(part.normals[corners].astype(np.float32), "VEC3"),
        "TEXCOORD_0": parts.add(uv.astype(np.float32), "VEC2"),
    }
    if part.tints is not None:
        attributes["COLOR_0"] = parts.add(part.tints[corners].astype(np.float32), "VEC3")
    return {"attributes": attributes, "material": len(out["materials"]) - 1}


def _material(out: dict[str, Any], parts: _Parts, of: Material) -> dict[str, Any]:
    def texture(found: Texture, channels: Sequence[np.ndarray]) -> dict[str, Any]:
        """A picture of (h, w) 8-bit channels red, green, blue and perhaps cover."""
        order = [2, 1, 0, 3][: len(channels)]
        done, png = cv2.imencode(".png", np.dstack([channels[k] for k in order]))
        assert done
        out.setdefault("images", []).append({"bufferView": parts.raw(png.tobytes()), "mimeType": "image/png"})
        out.setdefault("textures", []).append({"source": len(out["images"]) - 1})
        if np.allclose(found.at, np.eye(3)):
            return {"index": len(out["textures"]) - 1}
        _uses(out, "KHR_texture_transform")
        return {"index": len(out["textures"]) - 1, "extensions": {"KHR_texture_transform": transform_of(found.at)}}

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
        look["baseColorTexture"] = texture(of.cover, [*colours, cover])
    elif of.picture is not None:
        look["baseColorTexture"] = texture(of.picture, three(of.picture))
    if of.cover is not None or of.opacity < 1:
        material["alphaMode"] = "BLEND"
    if of.surface is not None:
        rough, metal = (of.surface.pixels[..., k] for k in range(2))
        look["metallicRoughnessTexture"] = texture(of.surface, [np.full_like(rough, 255), rough, metal])
    if of.bumps is not None:
        material["normalTexture"] = texture(of.bumps, three(of.bumps)) | {"scale": of.bump}
    if (most := max(of.glow)) > 0:
        material["emissiveFactor"] = [float(v / max(most, 1.0)) for v in of.glow]
        if most > 1:
            material.setdefault("extensions", {})["KHR_materials_emissive_strength"] = {"emissiveStrength": float(most)}
            _uses(out, "KHR_materials_emissive_strength")
        if of.glow_picture is not None:
            material["emissiveTexture"] = texture(of.glow_picture, three(of.glow_picture))
    if of.clear > 0:
        material.setdefault("extensions", {})["KHR_materials_transmission"] = {"transmissionFactor": of.clear}
        _uses(out, "KHR_materials_transmission")
    return material


def _uses(out: dict[str, Any], extension: str) -> None:
    used = out.setdefault("extensionsUsed", [])
    if extension not in used:
        used.append(extension)


class _Parts:
    def __init__(self) -> None:
        self.data = bytearray()
        self.views: list[dict[str, Any]] = []
        self.accessors: list[dict[str, Any]] = []

    def raw(self, data: bytes) -> int:
        """A view of bytes, on a multiple of four."""
        self.data += b"\0" * (-len(self.data) % 4)
        self.views.append({"buffer": 0, "byteOffset": len(self.data), "byteLength": len(data)})
        self.data += data
        return len(self.views) - 1

    def add(self, values: np.ndarray, kind: str, *, bounds: bool = False) -> int:
        """An accessor of 32-bit floats."""
        accessor: dict[str, Any] = {
            "bufferView": self.raw(np.ascontiguousarray(values, "<f4").tobytes()), "componentType": FLOAT,
            "count": len(values), "type": kind,
        }  # fmt: skip
        if bounds:
            flat = values.reshape(len(values), -1)
            accessor |= {"min": flat.min(axis=0).tolist(), "max": flat.max(axis=0).tolist()}
        self.accessors.append(accessor)
        return len(self.accessors) - 1


def read_camera_gltf(data: bytes, frames: int, size: tuple[int, int], fps: Fraction) -> CameraTrack:
    """The first camera of a GLB or glTF file with its buffers inside, at every frame of a clip.

    Raises `FormatError` that says what is wrong. Source: as `write_camera_glb`.
    """
    try:
        file = Container(data, "The file")
        nodes = file.all("nodes")
        node = next((k for k, one in enumerate(nodes) if "camera" in one), None)
        if node is None:
            raise FormatError("camera_gltf.none", "There is no camera in this file.")
        lens = file.one("cameras", nodes[node]["camera"])
        yfov = file.number(table(lens, "perspective"), "yfov", 0.0)
        chain = _chain(file, node)
        movements = read_movements(file, len(nodes))
        # Each node goes by the first animation that moves it.
        moving = {k: next((m for m in movements if k in m.channels), None) for k in chain}
        poses = np.tile(np.eye(4), (frames, 1, 1))
        for i in range(frames):
            for k in chain:
                movement = moving[k]
                poses[i] = poses[i] @ local_at(file, k, {} if movement is None else movement.at(k, i / float(fps)))
    except FormatError as error:
        if error.code.startswith("camera_gltf"):
            raise
        raise FormatError("camera_gltf.shape", "This is not a glTF file whose camera can be read.") from error
    if not np.allclose(np.linalg.norm(poses[:, :3, :3], axis=1), 1, atol=1e-4):
        raise FormatError("camera_gltf.scale", "The camera in this file is scaled. Write it without scale.")
    turn, place = poses[:, :3, :3], poses[:, :3, 3]
    focal = size[1] / 2 / float(np.tan(yfov / 2)) if 0 < yfov < np.pi else np.nan
    ends = [float(channel.when[-1]) for k, m in moving.items() if m is not None for channel in m.channels[k]]
    last = max(ends, default=0.0)
    numbers = np.concatenate([place.ravel(), turn.ravel(), [focal]])
    if not np.isfinite(numbers).all() or not 0 < focal < 1e6:
        raise FormatError("camera_gltf.numbers", "The camera file has numbers that no camera can have.")
    state = np.where(np.arange(frames) <= round(last * float(fps)), GIVEN, 0).astype(np.uint8) if last else np.full(
        frames, GIVEN, np.uint8)  # fmt: skip
    none = np.zeros(0)
    return CameraTrack(
        size=size, kind="full", locked=False, position=place, rotation=turn, focal=np.full(frames, focal),
        distortion=(0.0, 0.0, 0.0, 0.0, 0.0), readout=0.0, state=state, reason=np.zeros(frames, np.uint8),
        confidence=(state == GIVEN).astype(np.float32), error_px=np.zeros(frames, np.float32), seen=np.zeros(frames, np.int32),
        ids=none.astype(np.int64), points=np.zeros((0, 3)), point_error=none.astype(np.float32), angle=none.astype(np.float32),
        kept=none.astype(bool), strong=none.astype(bool), xy=np.zeros((0, frames, 2), np.float32), noise=0.0, focal_doubt=0.0,
        followed="", warnings=(),
    )  # fmt: skip


def _chain(file: Container, node: int) -> list[int]:
    """A node and what it hangs on, from the root down."""
    parents = {child: k for k, one in enumerate(file.all("nodes")) for child in file.listed(one, "children")
               if isinstance(child, int)}  # fmt: skip
    out = [node]
    while out[-1] in parents and parents[out[-1]] not in out:
        out.append(parents[out[-1]])
    return out[::-1]


def _read(coming: Coming) -> tuple[CameraMotion, CameraTrack]:
    size = (coming.footage.width, coming.footage.height)
    track = read_camera_gltf(coming.data, coming.footage.frames, size, coming.footage.fps)
    return camera_of(track, coming), track


FORMATS.add(FormatEntry(
    kind="camera.glb", order=1, label="GLB", mime="model/gltf-binary", track="camera", read=_read,
    write=lambda g: write_camera_glb(g.measured, g.motion.room, g.footage.fps, g.motion.name, g.placed()),
    recognises=lambda coming: not coming.text or '"asset"' in coming.text and '"nodes"' in coming.text,
))  # fmt: skip
