"""Between the planes that video is coded in and display codes: by declared matrix, range, depth and chroma place, rounded once.

Colour that is stored at half the size is brought to full size by Catmull-Rom and taken down by half-band filters, at the
places where it was sampled (ITU-T H.273, 8.7): in the middle between rows, and on every second column or in the middle between
two. Matrices: ITU-R BT.601-7, BT.709-6, BT.2020-2.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, FAST, Codes

Matrix = Literal["601", "709", "2020"]
Plane = NDArray[np.unsignedinteger]
_WEIGHTS = {"601": (0.299, 0.114), "709": (0.2126, 0.0722), "2020": (0.2627, 0.0593)}
_ROWS = 16
"""Rows that one thread works on at a time."""
_PAD = 3
"""Ends of a row, said again on both sides of it: as far as filters reach."""


@dataclass(frozen=True, slots=True, kw_only=True)
class PlaneCoding:
    """How the planes of a picture are to be read.

    Attributes
    ----------
    matrix : that leads from red, green and blue to them. full : whether brightness goes from 0 to the largest value,
        not from 16 to 235 (of 8 bits). bits : of every sample. half_x, half_y : whether colour is stored at half the width,
        at half the height.
    beside : whether halved columns lie on every second one; else in the middle between two.
    """

    matrix: Matrix = "709"
    full: bool = False
    bits: int = 8
    half_x: bool = True
    half_y: bool = True
    beside: bool = True

    @property
    def layout(self) -> str:
        """FFmpeg's name of it."""
        share = {(True, True): "420", (True, False): "422", (False, False): "444"}[self.half_x, self.half_y]
        return f"yuv{share}p" if self.bits == 8 else f"yuv{share}p{self.bits}le"

    def chroma_size(self, width: int, height: int) -> tuple[int, int]:
        """(width, height) of the colour planes."""
        return (width + 1) // 2 if self.half_x else width, (height + 1) // 2 if self.half_y else height

    def _scales(self) -> tuple[float, float, float, float]:
        """Of brightness its nought and its span, of colour its middle and its span."""
        step = 1 << (self.bits - 8)
        if self.full:
            return 0.0, 256.0 * step - 1, 128.0 * step, 256.0 * step - 1
        return 16.0 * step, 219.0 * step, 128.0 * step, 224.0 * step

    def to_codes(self, most: int) -> F32:
        """Factors of `_decode` for codes from 0 to `most`."""
        kr, kb = _WEIGHTS[self.matrix]
        kg = 1 - kr - kb
        black, span, middle, spread = self._scales()
        r, b = 2 * (1 - kr), 2 * (1 - kb)
        return np.array(
            [black, most / span, middle, r * most / spread, -b * kb / kg * most / spread, -r * kr / kg * most / spread,
             b * most / spread], np.float32,
        )  # fmt: skip

    def from_codes(self, most: int) -> F32:
        """Factors of `_to_planes` for codes from 0 to `most`."""
        kr, kb = _WEIGHTS[self.matrix]
        black, span, middle, spread = self._scales()
        return np.array(
            [black, kr * span / most, (1 - kr - kb) * span / most, kb * span / most, middle, spread / (2 * (1 - kb) * most),
             spread / (2 * (1 - kr) * most), kr, 1 - kr - kb, kb], np.float32,
        )  # fmt: skip


def codes_of(y: Plane, u: Plane, v: Plane, coding: PlaneCoding, *, deep: bool = False) -> Codes:
    """Display codes (h, w, 3) of planes; 16-bit if `deep`. What is blacker than black or whiter than white is held there."""
    h, w = y.shape
    out: Codes = np.empty((h, w, 3), np.uint16 if deep else np.uint8)
    factors = coding.to_codes(65535 if deep else 255)
    _decode(y, u, v, coding.half_x, coding.half_y, coding.beside, factors, np.float32(65535 if deep else 255), out)
    return out


def planes_of(codes: Codes, coding: PlaneCoding) -> tuple[Plane, Plane, Plane]:
    """Planes of display codes (h, w, 3), 8- or 16-bit."""
    h, w = codes.shape[:2]
    cw, ch = coding.chroma_size(w, h)
    kind = np.uint8 if coding.bits == 8 else np.uint16
    y, u, v = np.empty((h, w), kind), np.empty((ch, cw), kind), np.empty((ch, cw), kind)
    across = np.empty((2, h, cw), np.float32)
    factors = coding.from_codes(255 if codes.dtype == np.uint8 else 65535)
    top = np.float32((1 << coding.bits) - 1)
    _to_planes(np.ascontiguousarray(codes), coding.half_x, coding.beside, factors, top, y, across)
    _down(across, coding.half_y, factors, top, u, v)
    return y, u, v


def shallower(plane: Plane, bits: int, wanted: int) -> Plane:
    """A plane with fewer bits, rounded; 8 of them as bytes."""
    if wanted < bits:
        off = bits - wanted
        plane = np.minimum((plane.astype(np.uint32) + (1 << (off - 1))) >> off, (1 << wanted) - 1)
    return plane.astype(np.uint8 if wanted == 8 else np.uint16)


@numba.njit(cache=True, fastmath=FAST, inline="always")  # type: ignore[misc]
def _held(value: np.float32, top: np.float32) -> np.float32:
    return min(max(value + np.float32(0.5), np.float32(0.0)), top)


@numba.njit(cache=True, fastmath=FAST)  # type: ignore[misc]
def _row_of(plane: Plane, y: int, half_y: bool, middle: np.float32, out: F32) -> None:
    """A row of colour at full height, about nought, with `_PAD` more of its ends on both sides."""
    last, w = plane.shape[0] - 1, plane.shape[1]
    if half_y:
        # A quarter beyond one row, towards the next: Catmull-Rom.
        j, way = y // 2, 1 if y % 2 else -1
        a, b = plane[min(max(j - way, 0), last)], plane[j]
        c, d = plane[min(max(j + way, 0), last)], plane[min(max(j + 2 * way, 0), last)]
        for x in range(w):
            out[x + _PAD] = (
                np.float32(-0.0703125) * np.float32(a[x]) + np.float32(0.8671875) * np.float32(b[x])
                + np.float32(0.2265625) * np.float32(c[x]) - np.float32(0.0234375) * np.float32(d[x])
            ) - middle  # fmt: skip
    else:
        only = plane[y]
        for x in range(w):
            out[x + _PAD] = np.float32(only[x]) - middle
    _end(out, w)


@numba.njit(cache=True)  # type: ignore[misc]
def _end(line: F32, width: int) -> None:
    """Say the ends of a row again on both sides of it."""
    for x in range(_PAD):
        line[x] = line[_PAD]
    for x in range(width + _PAD, line.shape[0]):
        line[x] = line[width + _PAD - 1]


@numba.njit(cache=True, fastmath=FAST)  # type: ignore[misc]
def _widened(line: F32, beside: bool, first: F32, second: F32) -> None:
    """A halved row of colour at full width: its even columns and its odd ones."""
    n = first.shape[0]
    o, p, q, r, s = line[1 : n + 1], line[2 : n + 2], line[3 : n + 3], line[4 : n + 4], line[5 : n + 5]
    if beside:
        sixteenth, nine = np.float32(1 / 16), np.float32(9 / 16)
        for i in range(n):
            first[i] = q[i]
            second[i] = nine * (q[i] + r[i]) - sixteenth * (p[i] + s[i])
    else:
        far, near, over, past = np.float32(-0.0703125), np.float32(0.8671875), np.float32(0.2265625), np.float32(-0.0234375)
        for i in range(n):
            first[i] = far * r[i] + near * q[i] + over * p[i] + past * o[i]
            second[i] = far * p[i] + near * q[i] + over * r[i] + past * s[i]


@numba.njit(cache=True, fastmath=FAST)  # type: ignore[misc]
def _coloured(bright: F32, blue: F32, red: F32, k: F32, most: np.float32, r: F32, g: F32, b: F32) -> None:
    """Red, green and blue of some pixels."""
    k0, k1, k3, k4, k5, k6 = k[0], k[1], k[3], k[4], k[5], k[6]
    for x in range(bright.shape[0]):
        level = (bright[x] - k0) * k1
        r[x] = _held(level + k3 * red[x], most)
        g[x] = _held(level + k4 * blue[x] + k5 * red[x], most)
        b[x] = _held(level + k6 * blue[x], most)


@numba.njit(parallel=True, cache=True, fastmath=FAST)  # type: ignore[misc]
def _decode(
    y: Plane, u: Plane, v: Plane, half_x: bool, half_y: bool, beside: bool, k: F32, most: np.float32, out: Codes
) -> None:
    h, w = y.shape
    cw = u.shape[1]
    for part in numba.prange((h + _ROWS - 1) // _ROWS):
        cu, cv = np.empty(cw + 2 * _PAD, np.float32), np.empty(cw + 2 * _PAD, np.float32)
        # Even columns, then odd ones; all of them where colour is not halved.
        blue, red = np.empty((2, cw), np.float32), np.empty((2, cw), np.float32)
        bright = np.zeros((2, cw), np.float32)
        r, g, b = np.empty((2, cw), np.float32), np.empty((2, cw), np.float32), np.empty((2, cw), np.float32)
        for row in range(part * _ROWS, min(h, (part + 1) * _ROWS)):
            _row_of(u, row, half_y, k[2], cu)
            _row_of(v, row, half_y, k[2], cv)
            line, shown = y[row], out[row]
            if half_x:
                _widened(cu, beside, blue[0], blue[1])
                _widened(cv, beside, red[0], red[1])
                for i in range(w // 2):
                    bright[0, i] = np.float32(line[2 * i])
                    bright[1, i] = np.float32(line[2 * i + 1])
                if w % 2:
                    bright[0, cw - 1] = np.float32(line[w - 1])
                _coloured(bright[0], blue[0], red[0], k, most, r[0], g[0], b[0])
                _coloured(bright[1], blue[1], red[1], k, most, r[1], g[1], b[1])
                for i in range(w // 2):
                    shown[2 * i, 0], shown[2 * i, 1], shown[2 * i, 2] = r[0, i], g[0, i], b[0, i]
                    shown[2 * i + 1, 0], shown[2 * i + 1, 1], shown[2 * i + 1, 2] = r[1, i], g[1, i], b[1, i]
                if w % 2:
                    shown[w - 1, 0], shown[w - 1, 1], shown[w - 1, 2] = r[0, cw - 1], g[0, cw - 1], b[0, cw - 1]
            else:
                for x in range(w):
                    bright[0, x] = np.float32(line[x])
                    blue[0, x], red[0, x] = cu[x + _PAD], cv[x + _PAD]
                _coloured(bright[0], blue[0], red[0], k, most, r[0], g[0], b[0])
                for x in range(w):
                    shown[x, 0], shown[x, 1], shown[x, 2] = r[0, x], g[0, x], b[0, x]


@numba.njit(parallel=True, cache=True, fastmath=FAST)  # type: ignore[misc]
def _to_planes(codes: Codes, half_x: bool, beside: bool, k: F32, top: np.float32, y: Plane, across: F32) -> None:
    """Brightness, and colour in codes about nought, halved in width where it is to be."""
    h, w = y.shape
    for part in numba.prange((h + _ROWS - 1) // _ROWS):
        r, g, b = np.empty(w, np.float32), np.empty(w, np.float32), np.empty(w, np.float32)
        blue, red = np.empty(w + 2 * _PAD + 1, np.float32), np.empty(w + 2 * _PAD + 1, np.float32)
        for row in range(part * _ROWS, min(h, (part + 1) * _ROWS)):
            pixels, line = codes[row], y[row]
            for x in range(w):
                r[x], g[x], b[x] = np.float32(pixels[x, 0]), np.float32(pixels[x, 1]), np.float32(pixels[x, 2])
            _parted(r, g, b, k, top, line, blue[_PAD:], red[_PAD:])
            _end(blue, w)
            _end(red, w)
            _narrowed(blue, half_x, beside, across[0, row])
            _narrowed(red, half_x, beside, across[1, row])


@numba.njit(cache=True, fastmath=FAST)  # type: ignore[misc]
def _parted(r: F32, g: F32, b: F32, k: F32, top: np.float32, bright: Plane, blue: F32, red: F32) -> None:
    """Brightness as it is stored, and what blue and red have more than grey, of a row."""
    k0, k1, k2, k3, k7, k8, k9 = k[0], k[1], k[2], k[3], k[7], k[8], k[9]
    for x in range(r.shape[0]):
        bright[x] = _held(k0 + k1 * r[x] + k2 * g[x] + k3 * b[x], top)
        grey = k7 * r[x] + k8 * g[x] + k9 * b[x]
        blue[x], red[x] = b[x] - grey, r[x] - grey


@numba.njit(cache=True, fastmath=FAST)  # type: ignore[misc]
def _narrowed(line: F32, half_x: bool, beside: bool, out: F32) -> None:
    """Two columns as one, on the first of them or in their middle; or all, where colour is not halved."""
    for i in range(out.shape[0]):
        if not half_x:
            out[i] = line[i + _PAD]
        elif beside:
            x = 2 * i + _PAD
            out[i] = np.float32(0.5) * line[x] + np.float32(9 / 32) * (line[x - 1] + line[x + 1]) - np.float32(1 / 32) * (
                line[x - 3] + line[x + 3]
            )
        else:
            x = 2 * i + _PAD
            out[i] = np.float32(9 / 16) * (line[x] + line[x + 1]) - np.float32(1 / 16) * (line[x - 1] + line[x + 2])


@numba.njit(parallel=True, cache=True, fastmath=FAST)  # type: ignore[misc]
def _down(across: F32, half_y: bool, k: F32, top: np.float32, u: Plane, v: Plane) -> None:
    ch, cw = u.shape
    last = across.shape[1] - 1
    for row in numba.prange(ch):
        if half_y:
            a, b = max(2 * row - 1, 0), 2 * row
            c, d = min(2 * row + 1, last), min(2 * row + 2, last)
            for x in range(cw):
                blue = np.float32(9 / 16) * (across[0, b, x] + across[0, c, x]) - np.float32(1 / 16) * (
                    across[0, a, x] + across[0, d, x]
                )
                red = np.float32(9 / 16) * (across[1, b, x] + across[1, c, x]) - np.float32(1 / 16) * (
                    across[1, a, x] + across[1, d, x]
                )
                u[row, x], v[row, x] = _held(k[4] + k[5] * blue, top), _held(k[4] + k[6] * red, top)
        else:
            for x in range(cw):
                u[row, x] = _held(k[4] + k[5] * across[0, row, x], top)
                v[row, x] = _held(k[4] + k[6] * across[1, row, x], top)
