"""Colour that a clip stores at half its size, brought back to the edges that brightness shows.

Joint bilateral upsampling (J. Kopf, M. Cohen, D. Lischinski and M. Uyttendaele, 2007, doi:10.1145/1276377.1276497) of the
halved colour planes with the full brightness as guide.
"""

from __future__ import annotations

import cv2
import numba
import numpy as np

from plonket.base.conventions import F32, FAST, U8

REACH = 1
SPREAD_PX = 1.6
ALIKE = 5.0
"""SD in codes of brightness by which two pixels are taken for the same thing."""
ALIKE_COLOUR = 22.0
"""The same in codes of colour, which tells where brightness does not."""


def restored(rgb: U8) -> U8:
    """A picture (h, w, 3) of a clip with 4:2:0 colour: its brightness as it is, its colour as sharp as that."""
    h, w = rgb.shape[:2]
    if h < 8 or w < 8:
        return rgb
    planes = cv2.cvtColor(rgb, cv2.COLOR_RGB2YCrCb)
    half = cv2.resize(planes, (w // 2, h // 2), interpolation=cv2.INTER_AREA).astype(np.float32)
    steps = np.arange(512)
    alike = np.stack([np.exp(-((steps / sd) ** 2) / 2) for sd in (ALIKE, ALIKE_COLOUR)]).astype(np.float32) + np.float32(1e-6)
    # How near a halved pixel is, for each of the four places of a pixel in its pair.
    at = (np.arange(-REACH, REACH + 1) * 2)[None] - np.array([0.0, 1.0])[:, None] + 0.5
    near = np.exp(-(at**2) / (2 * SPREAD_PX**2)).astype(np.float32)
    out = planes.copy()
    _restore(planes, half, alike, near, out)
    return np.asarray(cv2.cvtColor(out, cv2.COLOR_YCrCb2RGB), np.uint8)


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _restore(planes: U8, half: F32, alike: F32, near: F32, out: U8) -> None:
    h, w = planes.shape[:2]
    sh, sw = half.shape[:2]
    for y in numba.prange(h):
        for x in range(w):
            own = np.float32(planes[y, x, 0])
            red, blue = np.float32(planes[y, x, 1]), np.float32(planes[y, x, 2])
            total = first = second = np.float32(0.0)
            for j in range(2 * REACH + 1):
                cy = min(max(y // 2 + j - REACH, 0), sh - 1)
                for i in range(2 * REACH + 1):
                    cx = min(max(x // 2 + i - REACH, 0), sw - 1)
                    off = int(abs(half[cy, cx, 0] - own) + np.float32(0.5))
                    away = abs(half[cy, cx, 1] - red) + abs(half[cy, cx, 2] - blue)
                    weight = near[y % 2, j] * near[x % 2, i] * alike[0, off] * alike[1, min(int(away), 511)]
                    total += weight
                    first += weight * half[cy, cx, 1]
                    second += weight * half[cy, cx, 2]
            out[y, x, 1] = np.uint8(min(max(first / total + np.float32(0.5), np.float32(0.0)), np.float32(255.0)))
            out[y, x, 2] = np.uint8(min(max(second / total + np.float32(0.5), np.float32(0.0)), np.float32(255.0)))
