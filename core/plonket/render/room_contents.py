"""What stands in a solved room, gathered for files."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from plonket.formats.camera_gltf import Placed
from plonket.layers.form import FormLayer, form_matrix
from plonket.layers.model import MeshLayer, copies
from plonket.render.sources import ShotSources
from plonket.room.meshes.files import read_model
from plonket.room.meshes.forms import PREFIX
from plonket.room.meshes.instances import read_thing
from plonket.room.meshes.mesh import Mesh


def placed_in(sources: ShotSources, motion: str) -> list[Placed]:
    """The models and forms that are shown in the room of a motion, as they stand in every frame."""
    known: dict[str, Mesh] = {}
    out: list[Placed] = []
    for layer in sources.neighbours(motion):
        if not isinstance(layer, MeshLayer | FormLayer):
            continue
        seat = sources.seat(layer.follow.target)
        if seat is None:
            continue
        frames = range(seat[0].track.frames)
        if isinstance(layer, FormLayer):
            name = PREFIX + layer.shape
            model = known.setdefault(name, read_thing(name))
            out.append(Placed(name=layer.name, model=model, stands=np.stack([form_matrix(layer, *seat, f) for f in frames])))
            continue
        path = sources.model(layer.asset)
        if path not in known:
            known[path] = read_model(Path(path))
        every = [copies(layer, *seat, f, sources.fallen(layer.id)) for f in frames]
        for k in range(len(every[0])):
            out.append(Placed(name=layer.name, model=known[path], stands=np.stack([one[k] for one in every])))
    return out
