"""Whatever can be named as a thing of a set: a model's file, one that was made for the shot, or a simple form."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from plonket.room.meshes.baked import SUFFIX, read_baked
from plonket.room.meshes.files import read_model
from plonket.room.meshes.forms import PREFIX, unit_form
from plonket.room.meshes.mesh import Material, Mesh, Part


def read_thing(model: str) -> Mesh:
    """A model's file, one made for the shot, or a simple form of unit size."""
    if model.endswith(SUFFIX):
        return read_baked(Path(model))
    if not model.startswith(PREFIX):
        return read_model(Path(model))
    form = unit_form(model.removeprefix(PREFIX))
    corners = form.corners()
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    count = 3 * len(form.faces)
    part = Part(vertices=corners.reshape(-1, 3), faces=np.arange(count).reshape(-1, 3), uv=np.zeros((count, 2)),
                normals=np.repeat(normal, 3, axis=0), material=Material(rough=0.9))  # fmt: skip
    return Mesh(parts=(part,), size=np.maximum(np.ptp(form.vertices, axis=0), 1e-3))
