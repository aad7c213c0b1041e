"""The measured depth of a clip: how far away each pixel is in every frame, and how sure that is."""

from __future__ import annotations

import io
from dataclasses import dataclass, replace
from typing import ClassVar

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32
from plonket.base.errors import FormatError
from plonket.base.states import GIVEN, NONE, TRACKED

STEP = 5e-4
"""Of a logarithm of a depth, from one stored value to the next: twentieths of a per cent."""
LOWEST = -16.0
"""The logarithm that is stored as one; nought is unknown."""
SURE_STEPS = 16


@dataclass(frozen=True, slots=True, kw_only=True)
class DepthTrack:
    """Depth of every frame of a clip, in the units of the camera that it was measured by.

    Attributes
    ----------
    size : (width, height) of the clip. pictures : one per frame, 16-bit PNG of logarithms; empty where nothing is known.
    sureness : one per frame, 8-bit PNG. made_by : one per frame, what it was made from: while that stays the same, the frame
        need not be made again. confidence : (n,) share of the frame that is known. state, reason : (n,), as of all that is
        measured.
    """

    KIND: ClassVar[str] = "depth"

    size: tuple[int, int]
    pictures: tuple[bytes, ...]
    sureness: tuple[bytes, ...]
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
        return sum(len(one) for one in (*self.pictures, *self.sureness))

    def known(self) -> NDArray[np.bool_]:
        """(n,) frames whose depth is known."""
        return (self.state == TRACKED) | (self.state == GIVEN)

    def depth(self, frame: int) -> F32 | None:
        """(h, w) z-depth, 0 where unknown; None: nothing is known of the frame."""
        codes = self._read(self.pictures, frame, cv2.IMREAD_UNCHANGED, np.uint16)
        if codes is None:
            return None
        told = np.exp((codes.astype(np.float32) - 1) * np.float32(STEP) + np.float32(LOWEST))
        return np.asarray(np.where(codes > 0, told, 0), np.float32)

    def sure(self, frame: int) -> F32 | None:
        """(h, w) how sure that is, 0 to 1."""
        codes = self._read(self.sureness, frame, cv2.IMREAD_GRAYSCALE, np.uint8)
        return None if codes is None else np.asarray(codes, np.float32) / np.float32(SURE_STEPS)

    def _read(self, of: tuple[bytes, ...], frame: int, how: int, kind: type) -> NDArray[np.integer] | None:
        data = of[frame] if 0 <= frame < self.frames else b""
        if not data:
            return None
        found = cv2.imdecode(np.frombuffer(data, np.uint8), how)
        if found is None or found.dtype != kind or found.ndim != 2 or (found.shape[1], found.shape[0]) != self.size:
            raise FormatError("tracks.unreadable", "A stored measurement is damaged. Measure again.")
        return found

    def with_frame(
        self, frame: int, depth: F32 | None, sure: F32 | None, made_by: str, state: int, reason: int = 0
    ) -> DepthTrack:
        """The same with another depth (h, w) in one frame."""
        pictures, sureness, made = list(self.pictures), list(self.sureness), list(self.made_by)
        share, states, reasons = self.confidence.copy(), self.state.copy(), self.reason.copy()
        made[frame], states[frame], reasons[frame] = made_by, state, reason
        pictures[frame], sureness[frame], share[frame] = b"", b"", 0
        if depth is not None and sure is not None:
            steps = (np.log(np.maximum(depth, np.float32(1e-30))) - np.float32(LOWEST)) / np.float32(STEP)
            codes = np.where(depth > 0, np.clip(np.round(steps) + 1, 1, 65535), 0).astype(np.uint16)
            pictures[frame] = _packed(codes)
            sureness[frame] = _packed(np.round(np.clip(sure, 0, 1) * SURE_STEPS).astype(np.uint8))
            share[frame] = float((depth > 0).mean())
        return replace(self, pictures=tuple(pictures), sureness=tuple(sureness), made_by=tuple(made), confidence=share,
                       state=states, reason=reasons)  # fmt: skip

    @staticmethod
    def empty(size: tuple[int, int], frames: int) -> DepthTrack:
        return DepthTrack(
            size=size, pictures=(b"",) * frames, sureness=(b"",) * frames, made_by=("",) * frames,
            confidence=np.zeros(frames, np.float32), state=np.full(frames, NONE, np.uint8),
            reason=np.zeros(frames, np.uint8),
        )  # fmt: skip

    def to_bytes(self) -> bytes:
        """Serialised arrays; equal depths give equal bytes."""
        out = io.BytesIO()
        every = (*self.pictures, *self.sureness)
        np.savez(
            out, kind=np.array(self.KIND), size=np.array(self.size), pictures=np.frombuffer(b"".join(every), np.uint8),
            ends=np.cumsum([len(one) for one in every]), made_by=np.array(self.made_by, dtype=np.str_),
            confidence=self.confidence, state=self.state, reason=self.reason,
        )  # fmt: skip
        return out.getvalue()

    @staticmethod
    def from_bytes(data: bytes) -> DepthTrack:
        """What `to_bytes` wrote. Raises `FormatError`."""
        try:
            with np.load(io.BytesIO(data), allow_pickle=False) as z:
                packed, ends = z["pictures"].tobytes(), [0, *z["ends"].tolist()]
                every = tuple(packed[a:b] for a, b in zip(ends, ends[1:], strict=False))
                n = len(every) // 2
                return DepthTrack(
                    size=(int(z["size"][0]), int(z["size"][1])), pictures=every[:n], sureness=every[n:],
                    made_by=tuple(str(one) for one in z["made_by"]), confidence=z["confidence"], state=z["state"],
                    reason=z["reason"],
                )  # fmt: skip
        except (OSError, ValueError, KeyError) as error:
            raise FormatError("tracks.unreadable", "A stored measurement is damaged. Measure again.") from error


def _packed(codes: NDArray[np.integer]) -> bytes:
    """As it is stored."""
    done, data = cv2.imencode(".png", codes, [cv2.IMWRITE_PNG_COMPRESSION, 2])
    if not done:
        raise FormatError("depth.size", "This depth cannot be stored.")
    return data.tobytes()
