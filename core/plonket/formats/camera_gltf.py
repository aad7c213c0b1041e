"""A solved camera and its points as glTF 2.0 (GLB): an animated camera node and a cloud of points."""

from __future__ import annotations

import json
import struct
from fractions import Fraction
from typing import Any

import numpy as np

from plonket.conventions import F64, matrix_to_quaternion
from plonket.motion.camera.room import Room
from plonket.motion.camera.track import CameraTrack

FLOAT = 5126
"""glTF's number for 32-bit floats."""


def write_camera_glb(track: CameraTrack, room: Room, fps: Fraction, name: str = "camera") -> bytes:
    """The camera's path and the points of the room as one binary file.

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
    out |= {"accessors": parts.accessors, "bufferViews": parts.views, "buffers": [{"byteLength": len(parts.data)}]}
    return _glb(out, bytes(parts.data))


class _Parts:
    def __init__(self) -> None:
        self.data = bytearray()
        self.views: list[dict[str, Any]] = []
        self.accessors: list[dict[str, Any]] = []

    def add(self, values: np.ndarray, kind: str, *, bounds: bool = False) -> int:
        raw = np.ascontiguousarray(values, "<f4").tobytes()
        self.views.append({"buffer": 0, "byteOffset": len(self.data), "byteLength": len(raw)})
        self.data += raw
        accessor: dict[str, Any] = {
            "bufferView": len(self.views) - 1, "componentType": FLOAT, "count": len(values), "type": kind,
        }  # fmt: skip
        if bounds:
            flat = values.reshape(len(values), -1)
            accessor |= {"min": flat.min(axis=0).tolist(), "max": flat.max(axis=0).tolist()}
        self.accessors.append(accessor)
        return len(self.accessors) - 1


def _glb(document: dict[str, Any], data: bytes) -> bytes:
    text = json.dumps(document, separators=(",", ":")).encode()
    text += b" " * (-len(text) % 4)
    data += b"\0" * (-len(data) % 4)
    body = struct.pack("<I4s", len(text), b"JSON") + text + struct.pack("<I4s", len(data), b"BIN\0") + data
    return struct.pack("<4sII", b"glTF", 2, 12 + len(body)) + body


def write_camera_usda(track: CameraTrack, room: Room, fps: Fraction, name: str = "camera") -> str:
    """The camera's path and the points as a USD text layer; apertures in tenths of a scene unit, as USD states them.

    Source: the OpenUSD documentation of UsdGeomCamera.
    """
    known = np.flatnonzero(track.known())
    width, height = track.size
    aperture = 20.955
    matrices = ",\n".join(f"                {int(i)}: {_matrix(room, track, int(i))}" for i in known)
    focals = ",\n".join(f"                {int(i)}: {float(track.focal[i]) / width * aperture:.6f}" for i in known)
    points = room.points(track.points[track.kept])
    cloud = ", ".join(f"({p[0]:.6f}, {p[1]:.6f}, {p[2]:.6f})" for p in points)
    return f"""#usda 1.0
(
    defaultPrim = "shot"
    endTimeCode = {int(known[-1])}
    framesPerSecond = {float(fps):.6f}
    metersPerUnit = 1
    startTimeCode = {int(known[0])}
    timeCodesPerSecond = {float(fps):.6f}
    upAxis = "Y"
)

def Xform "shot"
{{
    def Camera "{_identifier(name)}"
    {{
        float horizontalAperture = {aperture}
        float verticalAperture = {aperture * height / width:.6f}
        float2 clippingRange = (0.01, 10000)
        float focalLength.timeSamples = {{
{focals}
        }}
        matrix4d xformOp:transform.timeSamples = {{
{matrices}
        }}
        uniform token[] xformOpOrder = ["xformOp:transform"]
    }}

    def Points "details"
    {{
        point3f[] points = [{cloud}]
        float[] widths = [{", ".join(["0.005"] * len(points))}]
    }}
}}
"""


def _matrix(room: Room, track: CameraTrack, frame: int) -> str:
    m: F64 = np.eye(4)
    m[:3, :3], m[:3, 3] = room.turns(track.rotation[frame]), room.points(track.position[frame])
    # USD multiplies row vectors.
    rows = ("(" + ", ".join(f"{v:.9f}" for v in row) + ")" for row in m.T)
    return "( " + ", ".join(rows) + " )"


def _identifier(name: str) -> str:
    out = "".join(c if c.isascii() and c.isalnum() else "_" for c in name)
    return out if out and not out[0].isdigit() else f"_{out}"
