"""Colour that a clip stores at half its size, brought back to the edges that brightness shows.

Joint bilateral upsampling (J. Kopf, M. Cohen, D. Lischinski and M. Uyttendaele, 2007, doi:10.1145/1276377.1276497) of the
halved colour planes with the full brightness as guide.
"""

from __future__ import annotations

from functools import cache

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, FAST, U8

REACH = 1
SPREAD_PX = 1.6
ALIKE = 5.0
"""SD in codes of brightness by which two pixels are taken for the same thing."""
ALIKE_COLOUR = 22.0
"""The same in codes of colour, which tells where brightness does not."""
EVEN = 7
"""Codes by which colour may change from one halved pixel to the next without an edge."""


def restored(rgb: U8) -> U8:
    """A picture (h, w, 3) of a clip with 4:2:0 colour: its brightness as it is, its colour as sharp as that."""
    h, w = rgb.shape[:2]
    if h < 8 or w < 8:
        return rgb
    planes = np.asarray(cv2.cvtColor(rgb, cv2.COLOR_RGB2YCrCb), np.uint8)
    small = _halved(planes)
    # Where colour hardly changes there is no edge to bring it back to: most of a picture is done with at once.
    around = np.ones((3, 3), np.uint8)
    change = cv2.subtract(cv2.dilate(small, around), cv2.erode(small, around))
    changing = np.maximum(change[..., 1], change[..., 2]) > EVEN
    soft = cv2.GaussianBlur(small, (3, 3), SPREAD_PX / 2)
    where = np.array([[0.5, 0, 0], [0, 0.5, -0.25]])
    how = cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP
    even = cv2.warpAffine(soft, where, (w, h), flags=how, borderMode=cv2.BORDER_REPLICATE)
    out = np.empty_like(planes)
    _restore(planes, small, np.asarray(even, np.uint8), changing, *_weights(), out)
    return np.asarray(cv2.cvtColor(out, cv2.COLOR_YCrCb2RGB), np.uint8)


def _halved(planes: U8) -> U8:
    """At half the size: on every second column, in the middle between rows, as video stores its colour."""
    h, w = planes.shape[0] // 2 * 2, planes.shape[1] // 2 * 2
    across = cv2.GaussianBlur(planes[:h, :w], (3, 1), 0.75)[:, ::2]
    return np.asarray(cv2.resize(np.ascontiguousarray(across), (w // 2, h // 2), interpolation=cv2.INTER_AREA), np.uint8)


@cache
def _weights() -> tuple[F32, F32, F32]:
    """How alike two pixels are, by what sets their brightness and their colour apart: (2, 512); and how near a halved pixel is,
    for both places of a pixel in its pair, across and down: (2, 3) each."""
    steps = np.arange(512)
    alike = np.stack([np.exp(-((steps / sd) ** 2) / 2) for sd in (ALIKE, ALIKE_COLOUR)]).astype(np.float32) + np.float32(1e-6)
    at = (np.arange(-REACH, REACH + 1) * 2)[None] - np.array([0.0, 1.0])[:, None]
    across, down = (np.exp(-(off**2) / (2 * SPREAD_PX**2)).astype(np.float32) for off in (at, at + 0.5))
    return alike, across, down


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _restore(planes: U8, half: U8, even: U8, changing: NDArray[np.bool_], alike: F32, across: F32, down: F32, out: U8) -> None:
    h, w = planes.shape[:2]
    sh, sw = half.shape[:2]
    for y in numba.prange(h):
        for x in range(w):
            out[y, x, 0] = planes[y, x, 0]
            if not changing[min(y // 2, sh - 1), min(x // 2, sw - 1)]:
                out[y, x, 1], out[y, x, 2] = even[y, x, 1], even[y, x, 2]
                continue
            own, red, blue = np.int32(planes[y, x, 0]), np.int32(planes[y, x, 1]), np.int32(planes[y, x, 2])
            total = first = second = np.float32(0.0)
            for j in range(2 * REACH + 1):
                cy = min(max(y // 2 + j - REACH, 0), sh - 1)
                for i in range(2 * REACH + 1):
                    cx = min(max(x // 2 + i - REACH, 0), sw - 1)
                    other, cr, cb = np.int32(half[cy, cx, 0]), np.int32(half[cy, cx, 1]), np.int32(half[cy, cx, 2])
                    away = min(abs(cr - red) + abs(cb - blue), np.int32(511))
                    weight = down[y % 2, j] * across[x % 2, i] * alike[0, abs(other - own)] * alike[1, away]
                    total += weight
                    first += weight * cr
                    second += weight * cb
            out[y, x, 1] = np.uint8(min(max(first / total + np.float32(0.5), np.float32(0.0)), np.float32(255.0)))
            out[y, x, 2] = np.uint8(min(max(second / total + np.float32(0.5), np.float32(0.0)), np.float32(255.0)))
