"""What a measurement may ask about the rest of the shot: mattes, models, and motions measured before."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64, U8
from plonket.document.bases import MotionBase
from plonket.media.clip import Clip
from plonket.media.gyroscope import Gyroscope
from plonket.room.camera_track import CameraTrack


class MeasureContext(Protocol):
    """Access to what a motion refers to."""

    def matte(self, asset: str) -> Clip:
        """A matte clip by its asset."""
        ...

    def picked(self, motion: str, moment: float) -> U8 | None:
        """What a matte among the motions covers in a frame, 8-bit (h, w); None: it is not known there."""
        ...

    def measurement(self, motion: str) -> str | None:
        """What names that which is measured of a motion: another name, another measurement; None while it is not."""
        ...

    def movement(self, motion: str, reference: int) -> F64 | None:
        """(n, 3, 3) from the reference frame to every frame, or None while it is not measured."""
        ...

    def solved(self, motion: str) -> CameraTrack | None:
        """A camera as it was measured, in its own units; None while it is not."""
        ...

    def control_points(self, motion: MotionBase) -> Mapping[str, tuple[F64, NDArray[np.bool_]]]:
        """The points that a motion counts on: name -> (n, 2) pixels and (n,) whether they are known."""
        ...

    def model(self, asset: str) -> str:
        """The path of a 3D model by its asset."""
        ...

    def gyroscope(self) -> Gyroscope | None:
        """How the footage's camera turned by its own record, where its file has one."""
        ...


@dataclass(frozen=True, slots=True, kw_only=True)
class LoneContext:
    """A motion by itself, with no more of a shot round it than is given here."""

    clip: Clip | None = None
    """The one matte there is."""
    points: Mapping[str, tuple[F64, NDArray[np.bool_]]] = field(default_factory=dict)
    path: str = ""
    """Of the one model there is."""
    camera: CameraTrack | None = None
    """The one there is."""
    record: Gyroscope | None = None

    def matte(self, asset: str) -> Clip:
        if self.clip is None:
            raise KeyError(asset)
        return self.clip

    def picked(self, motion: str, moment: float) -> U8 | None:
        return None

    def measurement(self, motion: str) -> str | None:
        return None

    def movement(self, motion: str, reference: int) -> F64 | None:
        return None

    def solved(self, motion: str) -> CameraTrack | None:
        return self.camera

    def control_points(self, motion: MotionBase) -> Mapping[str, tuple[F64, NDArray[np.bool_]]]:
        return self.points

    def model(self, asset: str) -> str:
        if not self.path:
            raise KeyError(asset)
        return self.path

    def gyroscope(self) -> Gyroscope | None:
        return self.record
