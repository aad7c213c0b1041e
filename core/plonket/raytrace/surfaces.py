"""From a material, and what is to take its place, to a surface of the path tracer."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from plonket.base.colour import linear_from_codes
from plonket.base.conventions import F32, F64
from plonket.raytrace.request import Coat
from plonket.room.meshes.mesh import Material, Texture, mean_colour

FLIP = np.array([[1, 0, 0], [0, -1, 1], [0, 0, 1.0]])
"""The tracer's pictures have their v downwards."""
LEAST_ROUGH = 0.05
"""A smoother surface would show the sun as a handful of single bright pixels."""
TINTS = "vertex_color"
GLASS = 0.5
"""Share of the light that goes through from which on a smooth surface is glass."""
CLEAR_ROUGH = 0.25
"""A rougher one is frosted: light goes through it, and nothing is mirrored clearly."""


def coated(material: Material, coat: Coat) -> Material:
    """A material with other looks laid over its own."""
    if coat.colour is not None:
        material = replace(material, colour=np.asarray(coat.colour, np.float32), picture=None)
    if coat.metal is not None or coat.rough is not None:
        metal = material.metal if coat.metal is None else coat.metal
        rough = material.rough if coat.rough is None else coat.rough
        material = replace(material, metal=metal, rough=rough, surface=None)
    if coat.clear is not None:
        material = replace(material, clear=coat.clear)
    if coat.paper is not None:
        material = replace(material, paper=coat.paper)
    if coat.glow is not None:
        red, green, blue = (float(v) * coat.glow for v in material.colour)
        material = replace(material, colour=np.zeros(3, np.float32), picture=None, metal=0.0, rough=1.0, surface=None,
                           glow=(red, green, blue), glow_picture=material.picture)  # fmt: skip
    return material


def surface_of(mi: Any, material: Material, tinted: bool) -> dict[str, Any]:
    """A material as the tracer wants it; `tinted` by the colours of its mesh's corners."""
    rough = float(np.clip(material.rough, LEAST_ROUGH, 1))
    clear = material.clear if material.rough < CLEAR_ROUGH else 0.0
    if clear >= GLASS:
        # Thin: what lies behind is seen where it is, and the plate is not in the set to be bent.
        tint = {"type": "rgb", "value": mean_colour(material).tolist()}
        return _cut(mi, material, {"type": "thindielectric", "int_ior": 1.5, "specular_transmittance": tint})
    base: dict[str, Any] = {"type": "rgb", "value": material.colour.tolist()}
    if material.picture is not None:
        base = _bitmap(mi, material.picture, linear_from_codes(material.picture.pixels) * material.colour)
    elif tinted:
        base = {"type": "mesh_attribute", "name": TINTS}
    look: dict[str, Any] = {"type": "principled", "base_color": base, "metallic": float(np.clip(material.metal, 0, 1)),
                            "roughness": rough, "specular": 0.5}  # fmt: skip
    if material.surface is not None:
        plain = material.surface.pixels.astype(np.float32) / 255
        look["roughness"] = _bitmap(mi, material.surface, np.maximum(plain[..., :1] * np.float32(material.rough), LEAST_ROUGH))
        look["metallic"] = _bitmap(mi, material.surface, plain[..., 1:] * np.float32(material.metal))
    if material.bumps is not None and material.bump:
        ways = material.bumps.pixels.astype(np.float32) / 127.5 - 1
        ways[..., :2] *= np.float32(material.bump)
        ways /= np.maximum(np.linalg.norm(ways, axis=2, keepdims=True), 1e-6)
        look = {"type": "normalmap", "normalmap": _bitmap(mi, material.bumps, ways / 2 + np.float32(0.5)), "bsdf": look}
    if material.paper > 0:
        thin = {"type": "principledthin", "base_color": base, "roughness": rough, "diff_trans": material.paper}
        return _cut(mi, material, thin)
    return _cut(mi, material, {"type": "twosided", "material": look})


def glow_of(mi: Any, material: Material) -> dict[str, Any] | None:
    """The light that a surface gives off by itself; None: it gives off none."""
    if max(material.glow) <= 0:
        return None
    if material.glow_picture is None:
        return {"type": "area", "radiance": {"type": "rgb", "value": list(material.glow)}}
    light = linear_from_codes(material.glow_picture.pixels) * np.asarray(material.glow, np.float32)
    return {"type": "area", "radiance": _bitmap(mi, material.glow_picture, light)} if light.max(initial=0) > 0 else None


def lets_through(material: Material) -> bool:
    """Whether what lies behind is seen through it."""
    return material.opacity < 1 or material.cover is not None or material.clear > 0


def _cut(mi: Any, material: Material, surface: dict[str, Any]) -> dict[str, Any]:
    """The surface where it covers, and nothing elsewhere."""
    clear = 0.0 if surface["type"] == "thindielectric" else material.clear
    opacity = material.opacity * (1 - clear)
    if material.cover is not None:
        plain = material.cover.pixels.astype(np.float32) * np.float32(opacity / 255)
        return {"type": "mask", "opacity": _bitmap(mi, material.cover, plain), "material": surface}
    return surface if opacity >= 1 else {"type": "mask", "opacity": float(opacity), "material": surface}


def _bitmap(mi: Any, texture: Texture, values: F32 | F64) -> dict[str, Any]:
    at = FLIP @ texture.at @ FLIP
    return {"type": "bitmap", "bitmap": mi.Bitmap(np.ascontiguousarray(values, np.float32)), "raw": True,
            "wrap_mode": texture.wrap, "to_uv": mi.ScalarTransform3f(at.tolist())}  # fmt: skip
