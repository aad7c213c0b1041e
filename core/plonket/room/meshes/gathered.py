"""Parts of a model that are made of the same, as one: a renderer asks every mesh in turn, and files have hundreds."""

from __future__ import annotations

from collections.abc import Hashable
from dataclasses import fields, replace
from functools import lru_cache

import numpy as np

from plonket.room.meshes.mesh import Material, Mesh, Part


@lru_cache(maxsize=16)
def gathered(mesh: Mesh) -> Mesh:
    """A model with one part for each material, in the order in which they come first; one that moves by itself as it is."""
    if mesh.posed is not None:
        return mesh
    groups: dict[Hashable, list[Part]] = {}
    for part in mesh.parts:
        groups.setdefault((_made_of(part.material), part.tints is None), []).append(part)
    if len(groups) == len(mesh.parts):
        return mesh
    return replace(mesh, parts=tuple(_joined(parts) for parts in groups.values()))


def _made_of(material: Material) -> Hashable:
    """The same for materials that are called and look the same; what is called nothing is told by which one it is."""
    if not material.name:
        return id(material)
    values = (getattr(material, field.name) for field in fields(material))
    return tuple(value.tobytes() if isinstance(value, np.ndarray) else value for value in values)


def _joined(parts: list[Part]) -> Part:
    first = parts[0]
    starts = np.cumsum([0, *(len(part.vertices) for part in parts[:-1])])
    return Part(
        vertices=np.concatenate([part.vertices for part in parts]), uv=np.concatenate([part.uv for part in parts]),
        faces=np.concatenate([part.faces + start for part, start in zip(parts, starts, strict=True)]),
        normals=np.concatenate([part.normals for part in parts]), material=first.material,
        tints=None if first.tints is None else np.concatenate([part.tints for part in parts if part.tints is not None]),
    )  # fmt: skip
