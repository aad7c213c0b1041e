"""What a decoder gives as arrays: its planes as they are, or display codes by what the stream declares."""

from __future__ import annotations

from typing import Any

import av.video.frame
import numpy as np

from plonket.base.colour import bytes_of
from plonket.base.conventions import U8, Codes
from plonket.media.hdr import Transfer, display_codes
from plonket.media.yuv import Matrix, Plane, PlaneCoding, codes_of, shallower

TRANSFERS: dict[int, Transfer] = {16: "pq", 18: "hlg"}
WIDE = 9
"""BT.2020 among primaries (ITU-T H.273, table 2). The primaries of BT.601 are taken for those of BT.709: clips of that size
are hardly ever converted, whatever they declare."""
_MATRICES: dict[int, Matrix] = {1: "709", 4: "601", 5: "601", 6: "601", 7: "709", 9: "2020", 10: "2020"}
_FULL = 2
_PACKED = {"nv12": "yuv420p", "nv21": "yuv420p", "nv16": "yuv422p", "nv24": "yuv444p", "p010le": "yuv420p10le",
           "p210le": "yuv422p10le", "yuyv422": "yuv422p", "uyvy422": "yuv422p", "yuvj440p": "yuv444p", "yuv440p": "yuv444p",
           "yuv411p": "yuv444p", "yuv410p": "yuv444p"}  # fmt: skip
"""Layouts that hold the same samples in another order, or colour so coarse that it is brought to full size first."""
_AS_COLOURS = ("rgb", "gbr", "bgr", "argb", "abgr", "gray", "pal", "0rgb", "0bgr", "mono", "x2", "ya")


class DecodedPicture:
    """A decoded frame.

    Parameters
    ----------
    frame : of a decoder. transfer : of its stream, where the frame does not say it.
    """

    def __init__(self, frame: av.video.frame.VideoFrame, transfer: Transfer = "sdr") -> None:
        self._frame = frame
        self.transfer: Transfer = TRANSFERS.get(int(frame.color_trc), transfer)
        self._coloured = frame.format.name.startswith(_AS_COLOURS)
        self._depth = max(c.bits for c in frame.format.components)
        # Wider than the display: brought to its colours, which takes more than 8 bits.
        self.is_wide = not self._coloured and (int(frame.color_primaries) == WIDE or self.transfer != "sdr")

    @property
    def is_deep(self) -> bool:
        """Whether its codes have more than 8 bits."""
        return self._depth > 8 or self.is_wide

    @property
    def has_planes(self) -> bool:
        """Whether it is stored as brightness and colour apart."""
        return not self._coloured

    def planes(self) -> tuple[tuple[Plane, Plane, Plane], PlaneCoding]:
        """Its planes as they are stored, and how they are to be read."""
        planar = self._planar()
        name = planar.format.name
        coding = PlaneCoding(
            matrix=self._matrix(), full=int(self._frame.color_range) == _FULL or name.startswith("yuvj"), bits=self._depth,
            half_x="444" not in name, half_y="420" in name,
            # Moving JPEG alone puts colour in the middle between columns.
            beside=not self._frame.format.name.startswith("yuvj420"),
        )  # fmt: skip
        y, u, v = (_plane(planar, k, self._depth) for k in range(3))
        return (y, u, v), coding

    def codes(self) -> Codes:
        """Display codes (h, w, 3): 8-bit, or 16-bit where it is deep."""
        if self._coloured:
            return _array(self._frame, "rgb48le" if self._depth > 8 else "rgb24")
        planes, coding = self.planes()
        found = codes_of(*planes, coding, deep=self.is_deep)
        return display_codes(np.asarray(found, np.uint16), self.transfer) if self.is_wide else found

    def coverage(self) -> Codes:
        """Alpha (h, w) of a frame that has it, with the bits of its codes."""
        if self._coloured:
            return np.ascontiguousarray(_array(self._frame, "rgba64le" if self._depth > 8 else "rgba")[..., 3])
        plane = _plane(self._frame, 3, self._depth)
        if self._depth == 8:
            return np.ascontiguousarray(plane) if not self.is_deep else np.asarray(plane, np.uint16) * np.uint16(257)
        most = (1 << self._depth) - 1
        return np.asarray((plane.astype(np.uint32) * 65535 + most // 2) // most, np.uint16)

    def luma(self) -> U8:
        """8-bit brightness (h, w) as it is stored."""
        if self._coloured:
            return np.asarray(_array(self._frame, "gray"), np.uint8)
        plane = _plane(self._planar(), 0, self._depth)
        return np.array(plane, np.uint8) if self._depth == 8 else np.asarray(shallower(plane, self._depth, 8), np.uint8)

    def _planar(self) -> av.video.frame.VideoFrame:
        other = _PACKED.get(self._frame.format.name)
        return self._frame if other is None else self._frame.reformat(format=other)

    def _matrix(self) -> Matrix:
        frame = self._frame
        declared = _MATRICES.get(int(frame.colorspace))
        if declared is not None:
            return declared
        if self.is_wide:
            return "2020"
        # Undeclared, the size tells which standard was meant.
        return "709" if frame.height >= 720 or frame.width >= 1280 else "601"


def joined(codes: Codes, coverage: Codes) -> U8:
    """Straight alpha, 8-bit (h, w, 4)."""
    return np.dstack([bytes_of(codes), bytes_of(coverage)])


def _plane(frame: av.video.frame.VideoFrame, k: int, depth: int) -> Plane:
    """A plane without its padding, where the decoder keeps it."""
    plane: Any = frame.planes[k]
    kind = np.dtype(np.uint8 if depth == 8 else np.uint16)
    rows: Plane = np.frombuffer(plane, kind).reshape(-1, plane.line_size // kind.itemsize)
    return rows[: plane.height, : plane.width]


def _array(frame: av.video.frame.VideoFrame, layout: str) -> Codes:
    found: Codes = frame.to_ndarray(format=layout)
    return found
