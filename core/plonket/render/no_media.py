"""Sources of a document that refers to nothing."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from typing import TypeVar

import numpy as np

from plonket.base.conventions import F32, F64, U8, Codes
from plonket.depth.frame_depth import FrameDepth
from plonket.document.bases import KeyBase, LayerBase
from plonket.document.spot import Spot
from plonket.image.grain_in_time import MeasuredGrain
from plonket.image.picture import StillSource
from plonket.layers.falling import FallenLayer
from plonket.plate.view_path import ViewPath
from plonket.raytrace.request import RenderRequest
from plonket.render.stack import lay_stack
from plonket.room.camera import RoomCamera
from plonket.track.spaces import Spaces

T = TypeVar("T")


class NoMedia:
    """`Sources` of a document that refers to nothing: for elements that are generated."""

    view: ViewPath | None = None
    covered = False
    footage: str | None = None
    room: str | None = None

    def __init__(self, size: tuple[int, int]) -> None:
        self.size = size
        self.spaces = Spaces([], lambda motion, reference: None, size)

    def moment(self, frame: float) -> float:
        return frame

    def plate(self, asset: str, moment: float) -> Codes:
        return np.zeros((self.size[1], self.size[0], 3), np.uint8)

    def keyed_plate(self, moment: float, key: KeyBase | None, level: int = 0) -> StillSource:
        return StillSource(np.zeros((2, 2, 4), np.uint8))

    def plate_picture(self, frame: int, size: tuple[int, int], view: F64, key: KeyBase | None) -> F32:
        return np.zeros((size[1], size[0], 4), np.float32)

    def donor(self, asset: str, frame: int) -> StillSource:
        return StillSource(self.plate(asset, frame))

    def picked(self, motion: str, moment: float, *, shadow: bool = False) -> U8 | None:
        return None

    def depth(self, target: str | None, frame: int, *, hides: bool = False) -> FrameDepth | None:
        return None

    def grain(self, asset: str) -> MeasuredGrain | None:
        return None

    def length(self, asset: str) -> int:
        return 1

    @property
    def fps(self) -> float:
        return 25.0

    def pace(self, asset: str) -> float:
        return 1.0

    def element(self, asset: str, frame: int, key: KeyBase | None = None, level: int = 0) -> StillSource:
        return StillSource(np.zeros((2, 2, 4), np.uint8))

    def quad(self, plane: str) -> F64 | None:
        return None

    def on_plane(self, plane: str, frame: float) -> F64:
        return np.eye(3)

    def anchor(self, target: str, point: str | None, at: F64, frame: float) -> F64 | None:
        return None

    def layer(self, layer_id: str) -> LayerBase | None:
        return None

    def parcel(self, parcel_id: str) -> Sequence[LayerBase]:
        return ()

    def lay(self, canvas: F32, layers: Sequence[LayerBase], frame: int, view: F64, scale: float) -> F32:
        return lay_stack(canvas, layers, self, frame, view, scale)

    def canvas(self, frame: int, size: tuple[int, int], make: Callable[[], F32]) -> F32:
        return make()

    def table(self, asset: str) -> F32:
        return np.stack([np.linspace(0, 1, 2, dtype=np.float32)] * 3, axis=1)

    def seat(self, target: str | None) -> tuple[RoomCamera, Spot] | None:
        return None

    def on_spot(self, target: str | None) -> bool:
        return False

    def neighbours(self, target: str | None, *, hidden: bool = False) -> Sequence[LayerBase]:
        return ()

    def model(self, asset: str) -> str:
        return ""

    def copies(self, layer: LayerBase) -> Sequence[LayerBase]:
        return [layer]

    def kept(self, key: Hashable, make: Callable[[], T]) -> T:
        return make()

    def fallen(self, layer: str) -> FallenLayer | None:
        return None

    def baked(self, layer: str, what: str, make: Callable[[], tuple[str, bytes]]) -> str:
        return ""

    def film(self, order: RenderRequest) -> F32:
        return np.zeros((order.window[3], order.window[2], 7), np.float32)
