"""What goes along with a shot's layers to another program: its cameras with what stands in their rooms, how their lenses bend,
what was picked out, and how the picture was steadied."""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Iterator
from dataclasses import replace

import cv2
import numpy as np

from plonket.base.conventions import U8, matrix_to_index
from plonket.document.bases import MotionBase
from plonket.formats.camera_gltf import write_camera_glb
from plonket.formats.camera_json import write_camera
from plonket.formats.camera_st_maps import write_st_maps
from plonket.formats.camera_usd import write_camera_usd
from plonket.formats.moves import write_moves_json
from plonket.formats.scene import Scene
from plonket.render.frame import lies, scaled_size
from plonket.render.room_contents import scene_of
from plonket.render.sources import ShotSources
from plonket.track.matte.settings import MatteMotion
from plonket.track.room_motion import RoomMotion

BENDS = 1e-4
"""A lens whose numbers are all smaller is straight."""


def beside_layers(
    sources: ShotSources, *, start: int, stop: int, scale: float, cameras: bool = True, mattes: bool = True
) -> Iterator[tuple[str, bytes]]:
    """Places in a folder and what lies there, for frames start..stop-1 of a shot at `scale`; they count from 0.

    ``cameras/NAME.json``, ``.glb`` and ``.usdz``, and where the lens bends ``cameras/NAME-lens/``; ``mattes/NAME/000000.png``
    and on, 8-bit grey as they lie in the picture; ``steady.json``, a plane's file from the picture to what was filmed, where
    the picture was moved.
    """
    shot, footage = sources.shot, sources.shot.footage
    assert footage is not None
    size = scaled_size((footage.width, footage.height), scale)
    names: set[str] = set()
    for motion in shot.motions:
        if cameras and isinstance(motion, RoomMotion) and sources.camera(motion.id) is not None:
            scene = sized(scene_of(sources, motion).cut(start, stop), size)
            if len(scene.frames()):
                yield from _camera(_plain(motion, names), scene)
    for motion in shot.motions:
        if mattes and isinstance(motion, MatteMotion) and motion.measurement is not None:
            name = _plain(motion, names)
            for k, frame in enumerate(range(start, stop)):
                done, png = cv2.imencode(".png", _matte(sources, motion.id, frame, size))
                assert done
                yield f"mattes/{name}/{k:06d}.png", png.tobytes()
    if cameras and sources.view is not None:
        matrices = np.stack([lies(shot, sources, frame, size, None)[1] for frame in range(start, stop)])
        yield "steady.json", write_moves_json(matrices).encode()


def sized(scene: Scene, size: tuple[int, int]) -> Scene:
    """The same room seen in pictures of another size."""
    track = scene.track
    zoom = size[0] / track.size[0]
    return replace(scene, track=replace(track, size=size, focal=track.focal * zoom))


def _camera(name: str, scene: Scene) -> Iterator[tuple[str, bytes]]:
    yield f"cameras/{name}.json", write_camera(scene.track, scene.fps, scene.room).encode()
    yield f"cameras/{name}.glb", write_camera_glb(scene)
    yield f"cameras/{name}.usdz", write_camera_usd(scene, ".usdz")
    if max(map(abs, scene.track.distortion)) > BENDS:
        with zipfile.ZipFile(io.BytesIO(write_st_maps(scene.track))) as box:
            for one in box.namelist():
                yield f"cameras/{name}-lens/{one}", box.read(one)


def _matte(sources: ShotSources, motion: str, frame: int, size: tuple[int, int]) -> U8:
    """(h, w) what was picked out as it lies in the picture."""
    found = sources.picked(motion, sources.moment(frame))
    if found is None:
        return np.zeros((size[1], size[0]), np.uint8)
    matrix = matrix_to_index(lies(sources.shot, sources, frame, size, None)[1])
    if size == (found.shape[1], found.shape[0]) and np.allclose(matrix, np.eye(3)):
        return found
    if sources.view is None:
        return np.asarray(cv2.resize(found, size, interpolation=cv2.INTER_AREA), np.uint8)
    return np.asarray(cv2.warpPerspective(found, matrix, size, flags=cv2.INTER_LINEAR), np.uint8)


def _plain(motion: MotionBase, names: set[str]) -> str:
    """A name for files, which nothing else has."""
    base = re.sub(r"[^a-z0-9]+", "-", motion.name.lower()).strip("-")[:40] or motion.id
    name = base if base not in names else f"{base}_{motion.id}"
    names.add(name)
    return name
