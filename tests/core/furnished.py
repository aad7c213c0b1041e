"""A room with things in it, for tests: where they stand is known exactly."""

from __future__ import annotations

import tempfile
import unittest
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from plonket.base.conventions import F32, U8
from plonket.document.bases import LayerBase
from plonket.document.spot import Spot
from plonket.layers import form as forms
from plonket.layers.falling import FallenLayer, fall_in
from plonket.layers.form import FormLayer
from plonket.layers.model import MeshLayer, draw
from plonket.physics.engine import simulate
from plonket.raytrace.client import Renderer
from plonket.raytrace.request import RenderRequest
from plonket.render.no_media import NoMedia
from plonket.room.camera import RoomCamera
from tests.core.test_scene import SIZE, camera

RENDERER = Renderer()

BAKED = tempfile.TemporaryDirectory()
"""What was made for single shots; gone with the process."""


class Furnished(NoMedia):
    """A room with things on spots of their own, by the id of what they follow."""

    def __init__(self, seen: RoomCamera, spots: dict[str, Spot], files: dict[str, Path], layers: Sequence[LayerBase]) -> None:
        super().__init__(SIZE)
        self.seen, self.spots, self.files, self.layers = seen, spots, files, layers
        self.plates: dict[int, U8] = {}
        self.footage = "f" * 64
        self.asked: list[RenderRequest] = []
        self._falls: dict[str, FallenLayer] | None = None
        self._baked: dict[tuple[str, str], str] = {}

    def seat(self, target: str | None) -> tuple[RoomCamera, Spot] | None:
        return (self.seen, self.spots[target]) if target in self.spots else None

    def on_spot(self, target: str | None) -> bool:
        return target in self.spots

    def neighbours(self, target: str | None, *, hidden: bool = False) -> Sequence[LayerBase]:
        return [one for one in self.layers if one.shown or hidden]

    def model(self, asset: str) -> str:
        return str(self.files[asset])

    def fallen(self, layer: str) -> FallenLayer | None:
        if self._falls is None:
            told = fall_in(self, next((t for t in self.spots if t != "camera"), None))
            fell = simulate(told[0]) if told else None
            self._falls = {} if told is None or fell is None else {
                one: FallenLayer(fallen=fell, first_body=first, sizes=tuple(bodies.sizes), lets_go=self.by_id(one).falls_from)
                for one, (first, bodies) in told[1].items() if bodies.loose}  # fmt: skip
        return self._falls.get(layer)

    def by_id(self, layer: str) -> Any:
        return next(one for one in self.layers if one.id == layer)

    def baked(self, layer: str, what: str, make: Callable[[], tuple[str, bytes]]) -> str:
        if (layer, what) not in self._baked:
            name, data = make()
            path = Path(BAKED.name) / name
            path.write_bytes(data)
            self._baked[layer, what] = str(path)
        return self._baked[layer, what]

    def plate(self, asset: str, moment: float) -> U8:
        return self.plates[round(moment)]

    def film(self, order: RenderRequest) -> F32:
        self.asked.append(order)
        return RENDERER.film(order)


class Rooms(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.files: dict[str, Path] = {}
        self.spots: dict[str, Spot] = {"camera": Spot()}

    def box(
        self, name: str, size: tuple[float, float, float], colour: tuple[int, int, int] | None = None, **more: object
    ) -> MeshLayer:
        """A model layer of a box on a spot of its own name."""
        mesh = trimesh.creation.box(size)
        if colour is not None:
            material = trimesh.visual.material.PBRMaterial(
                baseColorFactor=[*colour, 255], metallicFactor=0.0, roughnessFactor=0.9
            )
            mesh.visual = trimesh.visual.TextureVisuals(uv=np.zeros((len(mesh.vertices), 2)), material=material)
        path = self.folder / f"{name}.glb"
        mesh.export(path)
        asset = f"{ord(name[0]):x}" * 32
        self.files[asset] = path
        place = {k: more.pop(k) for k in ("x", "z", "y") if k in more}
        self.spots[name] = Spot.model_validate(place)
        return MeshLayer.model_validate({"id": name, "name": name, "asset": asset, "extent": size, "tall": size[1],
                                          "follow": {"target": name}, **more})  # fmt: skip

    def whole(self, layer: LayerBase, layers: Sequence[LayerBase], frame: int = 1, seen: RoomCamera | None = None) -> F32:
        """The layer's picture in the whole frame (h, w, 4)."""
        sources = Furnished(seen or camera(), self.spots, self.files, layers)
        return self.drawn(layer, sources, frame)

    def drawn(self, layer: LayerBase, sources: Furnished, frame: int = 1) -> F32:
        run = forms.draw if isinstance(layer, FormLayer) else draw
        picture = run(layer, sources, frame, SIZE, np.eye(3))  # type: ignore[arg-type]
        out = np.zeros((SIZE[1], SIZE[0], 4), np.float32)
        if picture.rgba.size:
            h, w = picture.rgba.shape[:2]
            out[picture.y : picture.y + h, picture.x : picture.x + w] = picture.rgba
        return out
