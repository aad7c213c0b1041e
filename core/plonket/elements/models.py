"""The shelf's ready-made 3D models, built by code."""

from __future__ import annotations

from typing import Any

import numpy as np
from PIL import Image

from plonket.colour import encode_8bit
from plonket.conventions import F32, F64
from plonket.phone import texture as tx
from plonket.phone.solid import Solid, ball, box, lathe, shift, turn

BRASS = np.array([0.78, 0.50, 0.16], np.float32)
PLAIN_UV = np.zeros((0, 2))


def brass_whale() -> bytes:
    """A paperweight: a whale of polished brass on a dark wooden foot, as GLB. Metres; 14 cm long."""
    body = _body()
    brass: dict[str, Any] = {"metal": 1.0, "rough": 0.22}
    parts = [
        (body, BRASS, brass),
        *((_fluke(side), BRASS, brass) for side in (-1.0, 1.0)),
        *((_fin(side), BRASS, brass) for side in (-1.0, 1.0)),
        *((ball("eye", 0.0022, np.zeros(3, np.float32)).moved(shift(0.036, 0.053, side * 0.0225)),
           np.array([0.02, 0.02, 0.02], np.float32), {"rough": 0.2}) for side in (-1.0, 1.0)),
        (lathe("stem", [(0.0045, 0.008), (0.004, 0.02), (0.006, 0.03)], np.zeros(3, np.float32)), BRASS, brass),
        (box("foot", (0.07, 0.01, 0.04), np.zeros(3, np.float32), bevel=0.002).moved(shift(0, 0.005, 0)),
         tx.wood((256, 256), seed=61, light="#5a3a22", dark="#2e1c10"), {"rough": 0.35}),
    ]  # fmt: skip
    return _glb(parts)


def _body() -> Solid:
    """A drop with a heavy head, its tail bent up."""
    u = np.linspace(0, 1, 49)
    profile = [(max(1e-4, 0.026 * float(np.sin(np.pi * k**0.62) ** 0.85) * float(1 - 0.55 * k)), float(k)) for k in u]
    solid = lathe("body", profile, np.zeros(3, np.float32), around=40)
    v = solid.vertices.copy()
    along = v[:, 1]
    lift = 0.03 * np.clip((along - 0.45) / 0.55, 0, 1) ** 2
    # Along y as turned; laid along -x, flattened below, the tail lifted.
    x, side, up = 0.06 - 0.12 * along, v[:, 0], v[:, 2]
    up = np.where(up < 0, up * 0.8, up)
    placed = np.stack([x, 0.05 + up + lift, side], axis=1)
    return _reshaped(solid, placed)


def _fluke(side: float) -> Solid:
    solid = ball("fluke", 1.0, np.zeros(3, np.float32))
    v = solid.vertices
    back = -0.0605 - 0.011 * v[:, 0] - 0.006 * np.abs(v[:, 2])
    up = 0.0815 + 0.0028 * v[:, 1] + 0.004 * np.abs(v[:, 2])
    placed = np.stack([back, up, side * 0.0135 + 0.017 * v[:, 2]], axis=1)
    return _reshaped(solid, placed)


def _fin(side: float) -> Solid:
    solid = ball("fin", 1.0, np.zeros(3, np.float32))
    v = solid.vertices
    placed = np.stack([0.016 - 0.012 * v[:, 0] - 0.006 * v[:, 2] * side, 0.036 + 0.0022 * v[:, 1] - 0.006 * v[:, 2] * side,
                       side * 0.024 + 0.014 * v[:, 2]], axis=1)  # fmt: skip
    return _reshaped(solid, placed)


def _reshaped(solid: Solid, vertices: F64) -> Solid:
    """The same faces through other places, turned outwards."""
    a, b, c = (vertices[solid.faces[:, k]] for k in range(3))
    volume = float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum())
    faces = solid.faces if volume > 0 else solid.faces[:, ::-1]
    return Solid(name=solid.name, vertices=vertices, faces=faces, uv=solid.uv, texture=solid.texture, smooth=True)


def cargo_crate() -> bytes:
    """A wooden crate with a stencilled label, as GLB. Metres; 20 cm wide."""
    face = tx.crate_face((512, 512), seed=44, label="HARBOUR 7")
    crate = box("crate", (0.2, 0.16, 0.16), face, bevel=0.003).moved(shift(0, 0.08, 0) @ turn("y", 0))
    return _glb([(crate, face, {"rough": 0.8})])


def _glb(parts: list[tuple[Solid, F32, dict[str, Any]]]) -> bytes:
    import trimesh

    scene = trimesh.Scene()
    for k, (solid, colour, look) in enumerate(parts):
        material: Any = trimesh.visual.material.PBRMaterial(  # type: ignore[no-untyped-call]
            metallicFactor=look.get("metal", 0.0), roughnessFactor=look.get("rough", 0.6), name=f"{solid.name}-{k}"
        )
        if colour.ndim == 3:
            material.baseColorTexture = Image.fromarray(encode_8bit(np.ascontiguousarray(colour)))
        else:
            material.baseColorFactor = [*(int(v) for v in encode_8bit(colour[None, None])[0, 0]), 255]
        mesh = trimesh.Trimesh(solid.vertices, solid.faces, process=False)
        mesh.visual = trimesh.visual.TextureVisuals(  # type: ignore[no-untyped-call]
            uv=solid.uv, material=material
        )
        scene.add_geometry(mesh, node_name=f"{solid.name}-{k}")
    return bytes(scene.export(file_type="glb"))  # type: ignore[no-untyped-call]
