"""The measured result of a matte: what it covers in every frame, and how sure that is."""

from __future__ import annotations

import io
from dataclasses import dataclass, replace
from typing import ClassVar

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import FormatError
from plonket.base.states import GIVEN, NONE, TRACKED


@dataclass(frozen=True, slots=True, kw_only=True)
class MatteTrack:
    """A matte of every frame of a clip.

    Attributes
    ----------
    size : (width, height) of the clip. pictures : one per frame, 8-bit grey PNG; empty where nothing is known.
    made_by : one per frame, what it was made from: while that stays the same, the frame need not be made again.
    confidence : (n,) in [0, 1]. state, reason : (n,), as of all that is measured; lost: nothing of it is seen.
    """

    KIND: ClassVar[str] = "matte"

    size: tuple[int, int]
    pictures: tuple[bytes, ...]
    made_by: tuple[str, ...]
    confidence: F32
    state: NDArray[np.uint8]
    reason: NDArray[np.uint8]

    @property
    def frames(self) -> int:
        return len(self.pictures)

    @property
    def nbytes(self) -> int:
        """The memory that it takes."""
        return sum(len(one) for one in self.pictures)

    def known(self) -> NDArray[np.bool_]:
        """(n,) frames on which something of it is seen."""
        return (self.state == TRACKED) | (self.state == GIVEN)

    def alpha(self, frame: int) -> U8 | None:
        """8-bit (h, w), white where the thing is; None: it is not known there."""
        data = self.pictures[frame] if 0 <= frame < self.frames else b""
        if not data:
            return None
        found = cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_GRAYSCALE)
        if found is None or (found.shape[1], found.shape[0]) != self.size:
            raise FormatError("tracks.unreadable", "A stored measurement is damaged. Measure again.")
        return np.asarray(found, np.uint8)

    def with_frame(
        self, frame: int, alpha: U8 | None, made_by: str, confidence: float, state: int, reason: int = 0
    ) -> MatteTrack:
        """The same with another matte (h, w) in one frame."""
        pictures, made = list(self.pictures), list(self.made_by)
        pictures[frame], made[frame] = b"" if alpha is None else packed(alpha), made_by
        sure, states, reasons = self.confidence.copy(), self.state.copy(), self.reason.copy()
        sure[frame], states[frame], reasons[frame] = confidence, state, reason
        return replace(self, pictures=tuple(pictures), made_by=tuple(made), confidence=sure, state=states, reason=reasons)

    def middles(self) -> F64 | None:
        """(n, 2) the middle of what it covers, in pixels of the clip; where it is not seen, on the way between where it is.
        None: it is seen nowhere."""
        found = np.full((self.frames, 2), np.nan)
        for frame in np.flatnonzero(self.known()):
            alpha = self.alpha(int(frame))
            total = 0.0 if alpha is None else float(alpha.sum(dtype=np.float64))
            if alpha is not None and total > 0:
                across, down = alpha.sum(axis=0, dtype=np.float64), alpha.sum(axis=1, dtype=np.float64)
                found[frame] = [(across @ np.arange(len(across))) / total + 0.5, (down @ np.arange(len(down))) / total + 0.5]
        seen = np.flatnonzero(np.isfinite(found[:, 0]))
        if not len(seen):
            return None
        return np.stack([np.interp(np.arange(self.frames), seen, found[seen, k]) for k in (0, 1)], axis=1)

    @staticmethod
    def empty(size: tuple[int, int], frames: int) -> MatteTrack:
        return MatteTrack(
            size=size, pictures=(b"",) * frames, made_by=("",) * frames, confidence=np.zeros(frames, np.float32),
            state=np.full(frames, NONE, np.uint8), reason=np.zeros(frames, np.uint8),
        )  # fmt: skip

    def to_bytes(self) -> bytes:
        """Serialised arrays; equal mattes give equal bytes."""
        out = io.BytesIO()
        ends = np.cumsum([len(one) for one in self.pictures])
        np.savez(
            out, kind=np.array(self.KIND), size=np.array(self.size), pictures=np.frombuffer(b"".join(self.pictures), np.uint8),
            ends=ends, made_by=np.array(self.made_by, dtype=np.str_), confidence=self.confidence, state=self.state,
            reason=self.reason,
        )  # fmt: skip
        return out.getvalue()

    @staticmethod
    def from_bytes(data: bytes) -> MatteTrack:
        """What `to_bytes` wrote. Raises `FormatError`."""
        try:
            with np.load(io.BytesIO(data), allow_pickle=False) as z:
                packed_pictures, ends = z["pictures"].tobytes(), [0, *z["ends"].tolist()]
                return MatteTrack(
                    size=(int(z["size"][0]), int(z["size"][1])),
                    pictures=tuple(packed_pictures[a:b] for a, b in zip(ends, ends[1:], strict=False)),
                    made_by=tuple(str(one) for one in z["made_by"]), confidence=z["confidence"], state=z["state"],
                    reason=z["reason"],
                )  # fmt: skip
        except (OSError, ValueError, KeyError) as error:
            raise FormatError("tracks.unreadable", "A stored measurement is damaged. Measure again.") from error


def packed(alpha: U8) -> bytes:
    """A matte (h, w) as it is stored."""
    done, data = cv2.imencode(".png", alpha, [cv2.IMWRITE_PNG_COMPRESSION, 3])
    if not done:
        raise FormatError("matte.size", "This matte cannot be stored.")
    return data.tobytes()
