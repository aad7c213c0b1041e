"""Lamps of glTF 2.0: points and spots of KHR_lights_punctual. The sun of a set is its own: directions are left out."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from plonket.base.conventions import F64
from plonket.room.meshes.gltf.container import Container, table
from plonket.room.meshes.mesh import FileLight

EXTENSION = "KHR_lights_punctual"
MOST = 64


def lights_of(file: Container, nodes: Iterable[int], world: F64, foot: F64) -> tuple[FileLight, ...]:
    """The lamps at a file's nodes, which stand at `world` (n, 4, 4) at rest, from the model's `foot` (3,).

    Raises `FormatError` where they are damaged.
    """
    given = file.listed(table(table(file.json, "extensions"), EXTENSION), "lights")
    out: list[FileLight] = []
    for node in nodes:
        about = file.one("nodes", node)
        which = table(table(about, "extensions"), EXTENSION).get("light")
        if not isinstance(which, int) or not 0 <= which < len(given) or not isinstance(given[which], dict):
            continue
        light = given[which]
        kind, strength = light.get("type"), file.number(light, "intensity", 1.0)
        colour = np.maximum(file.numbers(light.get("color"), 3, (1, 1, 1)), 0)
        if kind not in ("point", "spot") or strength <= 0 or colour.max() <= 0 or len(out) == MOST:
            continue
        way = -world[node][:3, 2]
        length = float(np.linalg.norm(way))
        spot = table(light, "spot")
        cone = float(np.clip(file.number(spot, "outerConeAngle", np.pi / 4), 0.01, np.pi / 2)) if kind == "spot" else None
        out.append(FileLight(
            name=str(light.get("name") or about.get("name") or f"Light {len(out) + 1}")[:80], colour=colour / colour.max(),
            strength=strength * float(colour.max()), place=world[node][:3, 3] - foot,
            way=way / length if length > 0 else np.array([0.0, -1.0, 0.0]), cone=cone,
            edge=float(np.clip(file.number(spot, "innerConeAngle", 0.0), 0, cone or 0)),
        ))  # fmt: skip
    return tuple(out)
