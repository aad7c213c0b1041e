"""What stands in a solved room, gathered for files."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from plonket.base.conventions import F64
from plonket.base.fields import value_at
from plonket.formats.scene import Placed, Scene, SetLight
from plonket.layers.filmed import FilmedLayer
from plonket.layers.form import FormLayer, form_matrix
from plonket.layers.light import LampLayer, lamp_of
from plonket.layers.model import MeshLayer, copies
from plonket.layers.model_order import lights_of
from plonket.render.sources import ShotSources
from plonket.room.meshes.files import read_model
from plonket.room.meshes.forms import PREFIX
from plonket.room.meshes.instances import read_thing
from plonket.room.meshes.mesh import Mesh
from plonket.track.room_motion import RoomMotion


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


def scene_of(sources: ShotSources, motion: RoomMotion) -> Scene:
    """The room of a motion that is measured, with what stands in it and lights it, on the frames of the shot."""
    camera, footage = sources.camera(motion.id), sources.shot.footage
    assert camera is not None and footage is not None
    return Scene(track=camera.track, room=motion.room, fps=footage.fps, name=motion.name,
                 placed=placed_in(sources, motion.id), lights=lights_in(sources, motion.id))  # fmt: skip


def lights_in(sources: ShotSources, motion: str) -> list[SetLight]:
    """The lamps of a room, and the sun and sky of the models in it, on every frame; not what a light map shines."""
    out: list[SetLight] = []
    lit: FilmedLayer | None = None
    for layer in sources.neighbours(motion):
        if isinstance(layer, FilmedLayer) and lit is None and sources.seat(layer.follow.target) is not None:
            lit = layer
        if isinstance(layer, LampLayer) and (lamp := _lamp(layer, sources)) is not None:
            out.append(lamp)
    return out if lit is None else [*_daylight(lit, sources), *out]


def _lamp(layer: LampLayer, sources: ShotSources) -> SetLight | None:
    seat = sources.seat(layer.follow.target)
    if seat is None:
        return None
    frames = range(seat[0].track.frames)
    lamps = [lamp_of(layer, *seat, f) for f in frames]
    lit = [k for k, one in enumerate(lamps) if one is not None]
    if not lit:
        return None
    # While it is out, it stays where it was.
    near = [lamps[min(lit, key=lambda k, f=f: abs(k - f))] for f in frames]  # type: ignore[misc]
    stands = np.stack([_rigid(one.place) for one in near if one is not None])
    light = np.array([(0.0, 0.0, 0.0) if one is None else one.light for one in lamps])
    first = lamps[lit[0]]
    assert first is not None
    return SetLight(name=layer.name, shape=first.shape, light=light, stands=stands, wide=value_at(layer.wide, lit[0]),
                    tall=value_at(layer.tall, lit[0]), cone=first.cone, edge=first.edge)  # fmt: skip


def _daylight(layer: FilmedLayer, sources: ShotSources) -> list[SetLight]:
    seat = sources.seat(layer.follow.target)
    assert seat is not None
    every = [lights_of(layer, sources, f) for f in range(seat[0].track.frames)]
    # A white card that faces it shines with an irradiance over pi.
    sun = np.pi * np.array([one.sun_light for one in every])
    sky = np.array([one.sky_light if one.dome is None else (0.0, 0.0, 0.0) for one in every])
    out = [SetLight(name="Sun", shape="sun", light=sun, stands=np.stack([_facing(-np.array(one.sun)) for one in every]),
                    soft=every[0].soft)]  # fmt: skip
    if sky.max() > 0:
        out.append(SetLight(name="Sky", shape="sky", light=sky, stands=np.tile(np.eye(4), (len(every), 1, 1))))
    return out


def _rigid(stands: F64) -> F64:
    """The same (4, 4) without its size."""
    out = stands.copy()
    out[:3, :3] /= np.linalg.norm(out[:3, :3], axis=0)
    return out


def _facing(way: F64) -> F64:
    """(4, 4) a turn whose +z looks along a unit way (3,)."""
    up = np.array([0.0, 0.0, 1.0]) if abs(way[1]) > 0.99 else np.array([0.0, 1.0, 0.0])
    right = np.cross(up, way)
    right /= np.linalg.norm(right)
    out = np.eye(4)
    out[:3, :3] = np.stack([right, np.cross(way, right), way], axis=1)
    return out
