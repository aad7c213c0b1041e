"""The shelf's ready-made 3D models, built by code."""

from __future__ import annotations

from typing import Any

import numpy as np
from PIL import Image

from plonket.base.colour import encode_8bit
from plonket.base.conventions import F32, F64
from synth.elements.gltf_file import GltfFile
from synth.phone import texture as tx
from synth.phone.solid import Solid, ball, box, lathe, shift, turn

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


def little_cabin() -> bytes:
    """A harbour keeper's cabin of dark boards with a roof of laths, a door and lit windows, as GLB. Metres; 24 cm wide.

    Its walls fill the box of a crate of 24 by 19 by 19 cm, so that it covers one.
    """
    boards = tx.wood((512, 512), seed=71, light="#6b5a48", dark="#33281e")
    trim, roof = np.array([0.42, 0.40, 0.34], np.float32), np.array([0.085, 0.10, 0.115], np.float32)
    glow = np.array([1.0, 0.72, 0.34], np.float32)
    w, h, d = 0.246, 0.19, 0.196
    parts: list[tuple[Solid, F32, dict[str, Any]]] = [
        (box("walls", (w, 0.134, d), boards, bevel=0.002).moved(shift(0, 0.067, 0)), boards, {"rough": 0.85})
    ]
    # Two slopes of a roof with a ridge along x, and the gables under them.
    rise, reach = h + 0.012 - 0.134, d / 2 + 0.016
    slope = float(np.degrees(np.arctan2(rise, reach)))
    length = float(np.hypot(rise, reach)) + 0.006
    for side in (-1.0, 1.0):
        plate = box("roof", (w + 0.03, 0.006, length), np.zeros(3, np.float32), bevel=0.001)
        at = shift(0, 0.134 + rise / 2, side * reach / 2) @ turn("x", side * slope)
        parts.append((plate.moved(at), roof, {"rough": 0.7}))
        for row in range(5):
            lath = box("row", (w + 0.03, 0.003, 0.004), np.zeros(3, np.float32), bevel=0.0005)
            along = (row + 0.5) / 5 - 0.5
            parts.append((lath.moved(at @ shift(0, 0.0045, along * length)), 0.7 * roof, {"rough": 0.7}))
    for k in range(9):
        up = (k + 0.5) / 9
        gable = box("gable", (w - 0.004, rise / 9 + 0.001, max(d * (1 - up), 0.004)), boards, bevel=0.0005)
        parts.append((gable.moved(shift(0, 0.134 + rise * up, 0)), boards, {"rough": 0.85}))
    lit: dict[str, Any] = {"rough": 0.4, "glow": (1.0, 0.62, 0.24)}
    for face in (0.0, 90.0, 180.0, 270.0):
        half = d / 2 if face in (0.0, 180.0) else w / 2
        for x in (-0.058, 0.058) if face in (0.0, 180.0) else (0.0,):
            place = turn("y", face) @ shift(x, 0.078, half)
            parts.append((box("pane", (0.036, 0.04, 0.003), np.zeros(3, np.float32), bevel=0.0005).moved(place), glow, lit))
            for size, dx, dy in (((0.044, 0.005), 0, 0.022), ((0.044, 0.005), 0, -0.022), ((0.005, 0.049), 0.021, 0),
                                 ((0.005, 0.049), -0.021, 0), ((0.003, 0.04), 0, 0), ((0.036, 0.003), 0, 0)):  # fmt: skip
                bar = box("bar", (*size, 0.005), np.zeros(3, np.float32), bevel=0.0005)
                parts.append((bar.moved(place @ shift(dx, dy, 0.001)), trim, {"rough": 0.6}))
    door = box("door", (0.04, 0.082, 0.006), np.zeros(3, np.float32), bevel=0.001).moved(shift(0, 0.042, d / 2))
    parts.append((door, np.array([0.16, 0.055, 0.04], np.float32), {"rough": 0.5}))
    parts.append((ball("knob", 0.0025, np.zeros(3, np.float32)).moved(shift(0.014, 0.04, d / 2 + 0.004)), BRASS,
                  {"metal": 1.0, "rough": 0.25}))  # fmt: skip
    chimney = box("chimney", (0.024, 0.06, 0.024), np.zeros(3, np.float32), bevel=0.001).moved(shift(-0.07, 0.195, -0.035))
    parts.append((chimney, np.array([0.2, 0.09, 0.07], np.float32), {"rough": 0.9}))
    return _glb(parts)


def little_windmill() -> bytes:
    """A paper windmill on a jar of clear glass: its four sails turn once in four seconds, and light comes through their paper.
    Metres; 24 cm tall."""
    file = GltfFile()
    brass = {"metallicFactor": 1.0, "roughnessFactor": 0.25, "baseColorFactor": [*(float(v) for v in BRASS), 1.0]}
    wood = tx.wood((256, 256), seed=71, light="#8a6440", dark="#4a321e")
    grain = np.hypot(*np.gradient(wood.mean(axis=2)))
    rough = np.zeros((*wood.shape[:2], 3), np.uint8)
    rough[..., 1] = np.clip(120 + 1500 * grain, 0, 255)
    of = {
        "Wood": file.material("Wood", pbrMetallicRoughness={
            "baseColorTexture": file.picture(encode_8bit(np.ascontiguousarray(wood))),
            "metallicRoughnessTexture": file.picture(rough)}),
        "Brass": file.material("Brass", pbrMetallicRoughness=brass),
        "Glass": file.material("Glass", pbrMetallicRoughness={"metallicFactor": 0.0, "roughnessFactor": 0.02},
                               extensions={"KHR_materials_transmission": {"transmissionFactor": 1.0}}),
        "Sails": file.material("Sails", alphaMode="MASK", pbrMetallicRoughness={
            "metallicFactor": 0.0, "roughnessFactor": 0.95, "baseColorTexture": file.picture(_sail_cloth())}),
    }  # fmt: skip
    file.json["extensionsUsed"] = ["KHR_materials_transmission"]

    def piece(solid: Solid, material: str) -> dict[str, Any]:
        return file.primitive(solid.vertices, solid.faces, of[material], TEXCOORD_0=file.numbers(solid.uv * [1, -1] + [0, 1]))

    none = np.zeros(3, np.float32)
    jar = lathe("jar", [(0.034, 0.008), (0.035, 0.06), (0.03, 0.075), (0.018, 0.084)], none, around=48)
    foot = box("foot", (0.1, 0.008, 0.1), none, bevel=0.002).moved(shift(0, 0.004, 0))
    lid = lathe("lid", [(0.02, 0.082), (0.02, 0.09), (0.002, 0.094)], none, around=40)
    mast = lathe("mast", [(0.004, 0.09), (0.0035, 0.17), (0.001, 0.176)], none)
    stone = ball("stone", 0.012, none).moved(shift(0.004, 0.02, 0.003))
    file.node(name="Jar", mesh=file.mesh(piece(jar, "Glass"), piece(foot, "Wood"), piece(lid, "Brass"), piece(mast, "Wood"),
                                         piece(stone, "Brass")))  # fmt: skip
    sails = []
    for k in range(4):
        card = box("sail", (0.034, 0.075, 0.0012), none, bevel=0.0004).moved(turn("y", -18) @ shift(0.018, 0.042, 0))
        sails.append(piece(card.moved(turn("z", 90 * k)), "Sails"))
    hub = ball("hub", 0.006, none)
    wheel = file.node(name="Wheel", translation=[0, 0.165, 0.008], mesh=file.mesh(*sails, piece(hub, "Brass")))
    angles = np.radians(np.arange(0, 361, 45)) / 2
    file.movement("Turn", (wheel, "rotation", np.linspace(0, 4, 9),
                           np.stack([0 * angles, 0 * angles, np.sin(angles), np.cos(angles)], axis=1)))  # fmt: skip
    return file.glb()


def _sail_cloth() -> np.ndarray:
    """8-bit (256, 128, 4): striped paper with a row of round holes."""
    h, w = 256, 128
    y, x = np.mgrid[0:h, 0:w] + 0.5
    out = np.full((h, w, 4), 255, np.uint8)
    fibre = np.random.default_rng(5).normal(0, 4, (h, w))[..., None]
    stripe = ((x // 16).astype(int) % 2 == 0)[..., None]
    out[..., :3] = np.clip(np.where(stripe, [206, 74, 58], [240, 232, 214]) + fibre, 0, 255)
    for row in range(5):
        out[np.hypot(x - w / 2, y - (26 + 50 * row)) < 9, 3] = 0
    return out


def _glb(parts: list[tuple[Solid, F32, dict[str, Any]]]) -> bytes:
    import trimesh

    scene = trimesh.Scene()
    for k, (solid, colour, look) in enumerate(parts):
        material: Any = trimesh.visual.material.PBRMaterial(  # type: ignore[no-untyped-call]
            metallicFactor=look.get("metal", 0.0), roughnessFactor=look.get("rough", 0.6), name=solid.name
        )
        if colour.ndim == 3:
            material.baseColorTexture = Image.fromarray(encode_8bit(np.ascontiguousarray(colour)))
        else:
            material.baseColorFactor = [*(round(float(v) * 255) for v in np.clip(colour, 0, 1)), 255]
        if "glow" in look:
            material.emissiveFactor = list(look["glow"])
        mesh = trimesh.Trimesh(solid.vertices, solid.faces, process=False)
        mesh.visual = trimesh.visual.TextureVisuals(  # type: ignore[no-untyped-call]
            uv=solid.uv, material=material
        )
        # Of two nodes with one name only one would be left.
        scene.add_geometry(mesh, node_name=f"{solid.name}-{k}")
    return bytes(scene.export(file_type="glb"))  # type: ignore[no-untyped-call]
