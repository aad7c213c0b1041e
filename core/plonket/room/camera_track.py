"""The measured result of a camera motion."""

from __future__ import annotations

import io
import json
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64
from plonket.base.errors import FormatError
from plonket.base.resampled import between_rows
from plonket.base.states import GIVEN, TRACKED
from plonket.room.lens import Lens


@dataclass(frozen=True, slots=True, kw_only=True)
class CameraTrack:
    """A camera's path, its lens and the details it was solved from.

    Attributes
    ----------
    size : (width, height) pixels. kind : "full" or "rotation-only". locked : nothing moved.
    position : (n, 3), rotation : (n, 3, 3) local-to-world, in the world of `plonket.base.conventions`; its scale is one
        until a distance is set. focal : (n,) pixels. distortion : (k1, k2, p1, p2, k3).
    readout : read-out time as a share of the time between frames.
    state, reason : (n,) uint8. confidence, error_px : (n,) float32; seen : (n,) int32 details that count in a frame.
    ids : (m,) int64 details. points : (m, 3) world. point_error : (m,) float32 RMS pixels. angle : (m,) float32 degrees
        between the widest two views. kept : (m,) bool that belong to the room. strong : (m,) bool given by hand.
    xy : (m, n, 2) float32 where they were seen, nan elsewhere.
    noise : pixels. focal_doubt : share of the focal length. followed : hash of what the details were followed by.
    """

    KIND: ClassVar[str] = "camera"

    size: tuple[int, int]
    kind: str
    locked: bool
    position: F64
    rotation: F64
    focal: F64
    distortion: tuple[float, float, float, float, float]
    readout: float
    state: NDArray[np.uint8]
    reason: NDArray[np.uint8]
    confidence: F32
    error_px: F32
    seen: NDArray[np.int32]
    ids: NDArray[np.int64]
    points: F64
    point_error: F32
    angle: F32
    kept: NDArray[np.bool_]
    strong: NDArray[np.bool_]
    xy: F32
    noise: float
    focal_doubt: float
    followed: str
    warnings: tuple[str, ...]

    @property
    def frames(self) -> int:
        return len(self.state)

    @property
    def mean_error_px(self) -> float:
        """Mean distance in pixels from where details were seen to where the solve puts them."""
        known = self.known()
        return float(np.average(self.error_px[known], weights=np.maximum(self.seen[known], 1))) if known.any() else 0.0

    def known(self) -> NDArray[np.bool_]:
        """Frames with a pose to trust: (n,) bool."""
        return (self.state == TRACKED) | (self.state == GIVEN)

    def at_moments(self, moments: F64) -> CameraTrack:
        """The same path at other moments (k,) in frames, between them too; its details keep the frames they were seen on."""
        near = np.clip(np.round(moments).astype(int), 0, self.frames - 1)
        turns = np.stack([between_rows(self.rotation, at) for at in moments])
        u, _, vt = np.linalg.svd(turns)
        return replace(
            self, position=np.stack([between_rows(self.position, at) for at in moments]), rotation=u @ vt,
            focal=np.array([float(between_rows(self.focal, at)) for at in moments]), state=self.state[near],
            reason=self.reason[near], confidence=self.confidence[near], error_px=self.error_px[near], seen=self.seen[near],
        )  # fmt: skip

    def lens(self, frame: int) -> Lens:
        k1, k2, p1, p2, k3 = self.distortion
        return Lens(focal=float(self.focal[frame]), principal=(self.size[0] / 2, self.size[1] / 2),
                    k1=k1, k2=k2, p1=p1, p2=p2, k3=k3)  # fmt: skip

    def to_bytes(self) -> bytes:
        """Serialised arrays; equal tracks give equal bytes."""
        out = io.BytesIO()
        facts = {name: getattr(self, name) for name in _FACTS}
        arrays = {name: np.asarray(getattr(self, name)) for name in _ARRAYS}
        np.savez_compressed(out, kind=np.array(self.KIND), facts=np.array(json.dumps(facts)), **arrays)  # type: ignore[arg-type]
        return out.getvalue()

    @staticmethod
    def from_bytes(data: bytes) -> CameraTrack:
        """What `to_bytes` wrote. Raises `FormatError`."""
        try:
            with np.load(io.BytesIO(data), allow_pickle=False) as z:
                facts = json.loads(str(z["facts"]))
                facts["kind"] = facts.pop("solved")
                arrays = {name: z[name] for name in _ARRAYS}
        except (OSError, ValueError, KeyError) as error:
            raise FormatError("tracks.unreadable", "A stored measurement is damaged. Measure again.") from error
        for name in ("size", "distortion", "warnings"):
            facts[name] = tuple(facts[name])
        return CameraTrack(**facts, **arrays)

    @property
    def solved(self) -> str:
        return self.kind


_FACTS = ("size", "solved", "locked", "distortion", "readout", "noise", "focal_doubt", "followed", "warnings")
_ARRAYS = ("position", "rotation", "focal", "state", "reason", "confidence", "error_px", "seen", "ids", "points",
           "point_error", "angle", "kept", "strong", "xy")  # fmt: skip
