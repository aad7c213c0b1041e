"""The measured result of a plane motion."""

from __future__ import annotations

import io
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64
from plonket.base.errors import FormatError
from plonket.base.states import GIVEN, TRACKED


@dataclass(frozen=True, slots=True, kw_only=True)
class PlaneTrack:
    """The movement of a surface through a clip.

    Attributes
    ----------
    reference_frame : frame in which the homography is the identity.
    homography : (n, 3, 3) float64, reference-frame pixels to frame i's pixels.
    confidence : (n,) float32 in [0, 1]. state, reason : (n,) uint8, see `plonket.base.states`.
    error_px : (n,) float32, expected error of the region's corners in pixels, from the spread of the
        residual and from how well two halves of the region agree.
    coverage : (n,) float32, share of the region's detail that was seen and agreed.
    freedom : (n,) uint8, index into FREEDOMS: fewer than asked where detail ran out.
    """

    KIND: ClassVar[str] = "plane"

    reference_frame: int
    homography: F64
    confidence: F32
    state: NDArray[np.uint8]
    reason: NDArray[np.uint8]
    error_px: F32
    coverage: F32
    freedom: NDArray[np.uint8]

    @property
    def frames(self) -> int:
        return len(self.state)

    def known(self) -> NDArray[np.bool_]:
        """Frames with a homography to trust: (n,) bool."""
        return (self.state == TRACKED) | (self.state == GIVEN)

    def take(self, frame: int, other: PlaneTrack) -> None:
        """What another track knows of a frame, in place of what stands here."""
        for name in _FIELDS:
            if name != "reference_frame":
                getattr(self, name)[frame] = getattr(other, name)[frame]

    @staticmethod
    def empty(frames: int, reference_frame: int) -> PlaneTrack:
        return PlaneTrack(
            reference_frame=reference_frame, homography=np.tile(np.eye(3), (frames, 1, 1)),
            confidence=np.zeros(frames, np.float32), state=np.zeros(frames, np.uint8),
            reason=np.zeros(frames, np.uint8), error_px=np.zeros(frames, np.float32),
            coverage=np.zeros(frames, np.float32), freedom=np.zeros(frames, np.uint8),
        )  # fmt: skip

    def to_bytes(self) -> bytes:
        """Serialised arrays; equal tracks give equal bytes."""
        out = io.BytesIO()
        arrays: dict[str, Any] = {name: np.asarray(getattr(self, name)) for name in _FIELDS}
        np.savez(out, kind=np.array(self.KIND), **arrays)
        return out.getvalue()

    @staticmethod
    def from_bytes(data: bytes) -> PlaneTrack:
        """What `to_bytes` wrote. Raises `FormatError`."""
        try:
            with np.load(io.BytesIO(data), allow_pickle=False) as z:
                values = {name: z[name] for name in _FIELDS}
        except (OSError, ValueError, KeyError) as error:
            raise FormatError("tracks.unreadable", "A stored measurement is damaged. Measure again.") from error
        return PlaneTrack(**{**values, "reference_frame": int(values["reference_frame"])})


_FIELDS = ("reference_frame", "homography", "confidence", "state", "reason", "error_px", "coverage", "freedom")
