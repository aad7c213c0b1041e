"""A solved camera with what stands in its room as USD text."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

import numpy as np

from plonket.base.conventions import F64
from plonket.formats.camera_gltf import Placed
from plonket.formats.registry import FORMATS, FormatEntry
from plonket.room.alignment import Room
from plonket.room.camera_track import CameraTrack
from plonket.room.meshes.mesh import mean_colour


def write_camera_usda(
    track: CameraTrack, room: Room, fps: Fraction, name: str = "camera", placed: Sequence[Placed] = ()
) -> str:
    """The camera's path, the points and the models that stand in the room as a USD text layer.

    Apertures are in tenths of a scene unit, as USD states them.

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
{"".join(_usd_model(thing, k, known) for k, thing in enumerate(placed))}}}
"""


def _usd_model(thing: Placed, number: int, known: np.ndarray) -> str:
    """A model as meshes with plain colours, moved as it moves."""
    matrices = ",\n".join(f"                {int(i)}: {_rows(thing.stands[i])}" for i in known)
    meshes = []
    for k, part in enumerate(thing.model.parts):
        colour = mean_colour(part.material)
        corners = part.faces.ravel()
        points = ", ".join(f"({x:.6g}, {y:.6g}, {z:.6g})" for x, y, z in part.vertices[corners])
        normals = ", ".join(f"({x:.4g}, {y:.4g}, {z:.4g})" for x, y, z in part.normals[corners])
        meshes.append(f"""        def Mesh "part{k}"
        {{
            uniform token subdivisionScheme = "none"
            int[] faceVertexCounts = [{", ".join(["3"] * len(part.faces))}]
            int[] faceVertexIndices = [{", ".join(map(str, range(len(corners))))}]
            point3f[] points = [{points}]
            normal3f[] normals = [{normals}] (
                interpolation = "vertex"
            )
            color3f[] primvars:displayColor = [({", ".join(f"{float(v):.5g}" for v in colour)})]
        }}
""")
    return f"""
    def Xform "{_identifier(thing.name)}_{number}"
    {{
        matrix4d xformOp:transform.timeSamples = {{
{matrices}
        }}
        uniform token[] xformOpOrder = ["xformOp:transform"]

{"".join(meshes)}    }}
"""


def _rows(m: F64) -> str:
    # USD multiplies row vectors.
    rows = ("(" + ", ".join(f"{v:.9f}" for v in row) + ")" for row in m.T)
    return "( " + ", ".join(rows) + " )"


def _matrix(room: Room, track: CameraTrack, frame: int) -> str:
    m: F64 = np.eye(4)
    m[:3, :3], m[:3, 3] = room.turns(track.rotation[frame]), room.points(track.position[frame])
    return _rows(m)


def _identifier(name: str) -> str:
    out = "".join(c if c.isascii() and c.isalnum() else "_" for c in name)
    return out if out and not out[0].isdigit() else f"_{out}"


FORMATS.add(FormatEntry(
    kind="camera.usda", order=3, label="USD", mime="text/plain; charset=utf-8", track="camera",
    write=lambda g: write_camera_usda(g.measured, g.motion.room, g.footage.fps, g.motion.name, g.placed()),
))  # fmt: skip
