"""The movement of every pixel between two pictures, both ways."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import cv2
import numba
import numpy as np

from plonket.base.conventions import F32, FAST, U8

WORKED_AT = 640
"""Pixels of the longest side of the pictures on which movement is estimated."""
ALIKE = 0.12
"""Share of two pictures that must agree, or there is a cut between them."""
APART = 1.2
"""Pixels by which the way there and back may miss where it began."""
DIFFERS = 10.0
"""8-bit codes, of softened pictures, by which the same thing may differ from one to the other."""
REACH = 48
"""Pixels within which something that moves alike is looked for."""


@dataclass(frozen=True, slots=True, kw_only=True)
class PairFlow:
    """The movement between two pictures, at a reduced size.

    Attributes
    ----------
    there : (h, w, 2) how far each pixel of the first has gone in the second. back : the same the other way.
    sure, sure_back : (h, w) 1 where the two agree; elsewhere the other picture does not show the pixel.
    first, second : (h, w) grey, 8-bit codes.
    """

    there: F32
    back: F32
    sure: U8
    sure_back: U8
    first: F32
    second: F32

    @property
    def is_cut(self) -> bool:
        """Whether the two show different things: nothing of the one is found in the other."""
        return float(self.sure.mean() + self.sure_back.mean()) / 2 < ALIKE

    @property
    def nbytes(self) -> int:
        """Memory that it takes."""
        return 2 * (self.there.nbytes + self.sure.nbytes + self.first.nbytes)


def pair_flow(first: U8, second: U8) -> PairFlow:
    """The movement between two 8-bit pictures (h, w, 3), both ways.

    Source: T. Kroeger et al., Fast Optical Flow using Dense Inverse Search, 2016, arXiv:1603.03590 (OpenCV's).
    """
    h, w = first.shape[:2]
    scale = min(1.0, WORKED_AT / max(h, w))
    size = (max(16, round(w * scale)), max(16, round(h * scale)))
    small = [cv2.resize(rgb, size, interpolation=cv2.INTER_AREA) for rgb in (first, second)]
    grey = [cv2.cvtColor(rgb, cv2.COLOR_RGB2GRAY) for rgb in small]

    def one_way(pair: tuple[U8, U8]) -> F32:
        flow = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_FAST)
        return np.asarray(flow.calc(pair[0], pair[1], None), np.float32)  # type: ignore[call-overload]

    with ThreadPoolExecutor(2) as pool:
        there, back = pool.map(one_way, [(grey[0], grey[1]), (grey[1], grey[0])])  # type: ignore[list-item]
    soft = [cv2.GaussianBlur(rgb, (0, 0), 1.5).astype(np.float32) for rgb in small]
    # Brighter or darker as a whole is no contradiction.
    soft[1] += (np.array(cv2.mean(soft[0])) - cv2.mean(soft[1]))[:3].astype(np.float32)
    (there, sure), (back, sure_back) = _corrected(there, back, *soft), _corrected(back, there, *soft[::-1])
    first_grey, second_grey = (one.astype(np.float32) for one in grey)
    return PairFlow(there=there, back=back, sure=sure, sure_back=sure_back, first=first_grey, second=second_grey)


def _corrected(flow: F32, other: F32, colours: F32, other_colours: F32) -> tuple[F32, U8]:
    """The movement, with that of what the other picture does not show taken from what lies beside it and looks like it."""
    agrees = _agrees(flow, other, colours, other_colours)
    out = _borrowed(flow, agrees, colours)
    # Single pixels that look like something else are overruled by those round them.
    _put(out, agrees, cv2.merge([cv2.medianBlur(half, 5) for half in cv2.split(out)]))
    return out, agrees


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _put(out: F32, agrees: U8, other: F32) -> None:
    """Take from another what does not agree."""
    for y in numba.prange(out.shape[0]):
        for x in range(out.shape[1]):
            if not agrees[y, x]:
                out[y, x, 0], out[y, x, 1] = other[y, x, 0], other[y, x, 1]


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _agrees(flow: F32, other: F32, colours: F32, other_colours: F32) -> U8:
    """(h, w) 1 where the way there and back ends where it began, and the same is seen at both ends."""
    h, w = flow.shape[:2]
    out = np.zeros((h, w), np.uint8)
    for y in numba.prange(h):
        for x in range(w):
            u, v = flow[y, x, 0], flow[y, x, 1]
            px, py = int(np.floor(x + u + 0.5)), int(np.floor(y + v + 0.5))
            if 0 <= px < w and 0 <= py < h:
                du, dv = u + other[py, px, 0], v + other[py, px, 1]
                differs = np.float32(0.0)
                for c in range(3):
                    differs += abs(colours[y, x, c] - other_colours[py, px, c])
                near = du * du + dv * dv < APART * APART + np.float32(0.01) * (u * u + v * v)
                out[y, x] = near and differs < np.float32(3 * DIFFERS)
    return out


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _borrowed(flow: F32, agrees: U8, colours: F32) -> F32:
    """Where movement does not agree, that of the likest pixel among the nearest that do, looked for in eight directions."""
    h, w = agrees.shape
    out = flow.copy()
    for y in numba.prange(h):
        for x in range(w):
            if agrees[y, x]:
                continue
            best = np.float32(1e30)
            for k in range(8):
                dx, dy = np.cos(k * np.pi / 4), np.sin(k * np.pi / 4)
                for step in range(2, REACH):
                    px, py = int(np.floor(x + dx * step + 0.5)), int(np.floor(y + dy * step + 0.5))
                    if not (0 <= px < w and 0 <= py < h):
                        break
                    if not agrees[py, px]:
                        continue
                    # A little further on too: edges are not where they are said to be, and a surface has many colours.
                    for further in range(3, 13, 3):
                        qx = int(np.floor(x + dx * (step + further) + 0.5))
                        qy = int(np.floor(y + dy * (step + further) + 0.5))
                        if not (0 <= qx < w and 0 <= qy < h) or not agrees[qy, qx]:
                            break
                        cost = np.float32(0.3) * step
                        for c in range(3):
                            cost += abs(colours[qy, qx, c] - colours[y, x, c])
                        if cost < best:
                            best = cost
                            out[y, x, 0], out[y, x, 1] = flow[qy, qx, 0], flow[qy, qx, 1]
                    break
    return out
