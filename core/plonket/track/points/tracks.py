"""The measured result of a point motion."""

from __future__ import annotations

import io
from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64
from plonket.base.errors import FormatError
from plonket.base.states import GIVEN, TRACKED


@dataclass(frozen=True, slots=True, kw_only=True)
class PointTracks:
    """Positions of points in every frame of a clip.

    Attributes
    ----------
    ids, names : one per point.
    xy : (points, frames, 2) float64 pixels. confidence : (points, frames) float32 in [0, 1].
    state : (points, frames) uint8, one of NONE, TRACKED, LOST, GIVEN.
    reason : (points, frames) uint8, index into REASONS, for lost frames.
    """

    KIND: ClassVar[str] = "points"

    ids: tuple[str, ...]
    names: tuple[str, ...]
    xy: F64
    confidence: F32
    state: NDArray[np.uint8]
    reason: NDArray[np.uint8]

    @property
    def frames(self) -> int:
        return int(self.xy.shape[1])

    def known(self, k: int) -> NDArray[np.bool_]:
        """Frames on which point `k` has a position to trust: (frames,) bool."""
        return (self.state[k] == TRACKED) | (self.state[k] == GIVEN)

    def only(self, ids: tuple[str, ...]) -> PointTracks:
        """The tracks of those points alone, in that order. Ids that are not here match by position
        when none is known (tracks read from a file), else they are left out."""
        rows = [self.ids.index(i) for i in ids if i in self.ids]
        if not rows:
            rows = list(range(len(self.ids)))
        return PointTracks(
            ids=tuple(self.ids[r] for r in rows), names=tuple(self.names[r] for r in rows), xy=self.xy[rows],
            confidence=self.confidence[rows], state=self.state[rows], reason=self.reason[rows],
        )  # fmt: skip

    @staticmethod
    def empty(ids: tuple[str, ...], names: tuple[str, ...], frames: int) -> PointTracks:
        n = len(ids)
        return PointTracks(
            ids=ids, names=names, xy=np.zeros((n, frames, 2)), confidence=np.zeros((n, frames), np.float32),
            state=np.zeros((n, frames), np.uint8), reason=np.zeros((n, frames), np.uint8),
        )  # fmt: skip

    def to_bytes(self) -> bytes:
        """Serialised arrays; equal tracks give equal bytes."""
        out = io.BytesIO()
        np.savez(
            out, ids=np.array(self.ids), names=np.array(self.names), xy=self.xy, confidence=self.confidence,
            state=self.state, reason=self.reason,
        )  # fmt: skip
        return out.getvalue()

    @staticmethod
    def from_bytes(data: bytes) -> PointTracks:
        """What `to_bytes` wrote. Raises `FormatError`."""
        try:
            with np.load(io.BytesIO(data), allow_pickle=False) as z:
                return PointTracks(
                    ids=tuple(str(s) for s in z["ids"]), names=tuple(str(s) for s in z["names"]), xy=z["xy"],
                    confidence=z["confidence"], state=z["state"], reason=z["reason"],
                )  # fmt: skip
        except (OSError, ValueError, KeyError) as error:
            raise FormatError("tracks.unreadable", "A stored measurement is damaged. Measure again.") from error
