"""A solved camera, its points and what stands in its room as glTF 2.0 (GLB); cameras read from glTF."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from typing import Any

import numpy as np

from plonket.base.conventions import F64
from plonket.base.errors import FormatError
from plonket.formats.camera_path import CameraPath, add_camera_format
from plonket.formats.scene import Scene, SetLight, turned_about
from plonket.room.meshes.gltf.container import Container, table
from plonket.room.meshes.gltf.movement import Movement, read_movements
from plonket.room.meshes.gltf.scene import local_at
from plonket.room.meshes.gltf.writing import GlbWriter, moved_parts

MOST_FRAMES = 200_000


def write_camera_glb(scene: Scene) -> bytes:
    """The camera's path, the points of the room, the models that stand in it and its lights as one binary file.

    The lens is written as a field of view without distortion, lights as they are on the first frame: the format moves
    neither. A soft rectangle goes out as a spot, the sky not at all. Source: Khronos Group, glTF 2.0, sections 3.6, 3.10, 3.11;
    KHR_lights_punctual.
    """
    track, known = scene.track, scene.frames()
    width, height = track.size
    writer = GlbWriter()
    animation: dict[str, Any] = {"name": scene.name, "samplers": [], "channels": []}
    time = writer.numbers((known / float(scene.fps)).astype(np.float32), "SCALAR", bounds=True)

    def moved(node: int, stands: F64, paths: Sequence[str], *, always: bool = False) -> None:
        for path, values in moved_parts(stands).items():
            if path not in paths:
                continue
            writer.json["nodes"][node][path] = [float(v) for v in values[0]]
            if always or not np.allclose(values, values[0], atol=1e-7):
                writer.animate(animation, node, path, time, values)

    focal = float(np.median(track.focal[known]))
    lens = writer.put("cameras", {"type": "perspective", "name": scene.name, "perspective": {
        "yfov": float(2 * np.arctan(height / 2 / focal)), "aspectRatio": width / height, "znear": 0.01}})  # fmt: skip
    moved(writer.node(scene.name, camera=lens), scene.poses(), ("translation", "rotation"), always=True)
    points = scene.points()
    if len(points):
        writer.node("details", mesh=writer.cloud("details", points))
    meshes: dict[int, int] = {}
    for thing in scene.placed:
        if id(thing.model) not in meshes:
            meshes[id(thing.model)] = writer.mesh(thing.name, thing.model.parts)
        moved(writer.node(thing.name, mesh=meshes[id(thing.model)]), thing.stands[known], ("translation", "rotation", "scale"))
    for light in scene.lights:
        if (about := _light(light, int(known[0]))) is not None:
            lights = writer.json.setdefault("extensions", {}).setdefault("KHR_lights_punctual", {"lights": []})["lights"]
            lights.append(about)
            writer.uses("KHR_lights_punctual")
            node = writer.node(light.name, extensions={"KHR_lights_punctual": {"light": len(lights) - 1}})
            moved(node, turned_about(light.stands[known]), ("translation", "rotation"))
    writer.put("animations", animation)
    return writer.finish()


def _light(of: SetLight, frame: int) -> dict[str, Any] | None:
    """A light as the extension tells it, as it is on a frame; None for one that it has no word for, or that is out."""
    light = of.light[frame] * (of.wide * of.tall if of.shape == "soft" else 1.0)
    if of.shape == "sky" or light.max() <= 0:
        return None
    about: dict[str, Any] = {
        "name": of.name, "type": {"sun": "directional", "point": "point"}.get(of.shape, "spot"),
        "color": [float(v) for v in light / light.max()], "intensity": float(light.max()),
    }  # fmt: skip
    if about["type"] == "spot":
        cone, edge = (of.cone, of.edge) if of.shape == "spot" else (np.pi / 2 - 0.01, 0.0)
        about["spot"] = {"innerConeAngle": float(min(edge, cone - 1e-4)), "outerConeAngle": float(cone)}
    return about


def camera_path_of_gltf(data: bytes, size: tuple[int, int], fps: Fraction) -> CameraPath:
    """The first camera of a GLB or glTF file with its buffers inside, at so many frames a second, its lens for a picture of
    that size, and the points of the file. Raises `FormatError` that says what is wrong. Source: as `write_camera_glb`.
    """
    try:
        file = Container(data, "The file")
        nodes = file.all("nodes")
        node = next((k for k, one in enumerate(nodes) if "camera" in one), None)
        if node is None:
            raise FormatError("camera_gltf.none", "There is no camera in this file.")
        lens = file.one("cameras", nodes[node]["camera"])
        yfov = file.number(table(lens, "perspective"), "yfov", 0.0)
        movements = read_movements(file, len(nodes))
        ends = [float(channel.when[-1]) for k in _chain(file, node) for m in movements for channel in m.channels.get(k, ())]
        last = round(max(ends, default=0.0) * float(fps))
        if last > MOST_FRAMES:
            raise FormatError("camera_gltf.long", "The camera in this file moves for longer than any clip.")
        times = np.arange(last + 1) / float(fps)
        poses = np.stack([_world(file, node, movements, float(t)) for t in times])
        points = _points(file, nodes)
    except FormatError as error:
        if error.code.startswith("camera_gltf"):
            raise
        raise FormatError("camera_gltf.shape", "This is not a glTF file whose camera can be read.") from error
    if not np.allclose(np.linalg.norm(poses[:, :3, :3], axis=1), 1, atol=1e-4):
        raise FormatError("camera_gltf.scale", "The camera in this file is scaled. Write it without scale.")
    focal = size[1] / 2 / float(np.tan(yfov / 2)) if 0 < yfov < np.pi else np.nan
    return CameraPath(
        frames=np.arange(len(times), dtype=np.float64), position=poses[:, :3, 3], rotation=poses[:, :3, :3],
        focal=np.full(len(times), focal), points=points,
    )  # fmt: skip


def _world(file: Container, node: int, movements: Sequence[Movement], seconds: float) -> F64:
    """(4, 4) where a node is; each of those that it hangs on goes by the first animation that moves it."""
    out: F64 = np.eye(4)
    for k in _chain(file, node):
        movement = next((m for m in movements if k in m.channels), None)
        out = out @ local_at(file, k, {} if movement is None else movement.at(k, seconds))
    return out


def _points(file: Container, nodes: Sequence[dict[str, Any]]) -> F64:
    """(m, 3) all that the file draws as points."""
    found: list[F64] = []
    for k, one in enumerate(nodes):
        mesh = file.one("meshes", one["mesh"]) if "mesh" in one else {}
        for primitive in file.listed(mesh, "primitives"):
            if primitive.get("mode") == 0 and "POSITION" in table(primitive, "attributes"):
                stands = _world(file, k, (), 0.0)
                places = file.accessor(table(primitive, "attributes")["POSITION"])[:, :3]
                found.append(places @ stands[:3, :3].T + stands[:3, 3])
    return np.concatenate(found) if found else np.zeros((0, 3))


def _chain(file: Container, node: int) -> list[int]:
    """A node and what it hangs on, from the root down."""
    parents = {child: k for k, one in enumerate(file.all("nodes")) for child in file.listed(one, "children")
               if isinstance(child, int)}  # fmt: skip
    out = [node]
    while out[-1] in parents and parents[out[-1]] not in out:
        out.append(parents[out[-1]])
    return out[::-1]


add_camera_format(
    "camera.glb", order=1, label="GLB", mime="model/gltf-binary", write=lambda going: write_camera_glb(going.scene()),
    path=lambda c: camera_path_of_gltf(c.data, (c.footage.width, c.footage.height), c.footage.fps),
    recognises=lambda coming: coming.data[:4] == b"glTF" or '"asset"' in coming.text and '"nodes"' in coming.text,
)
