"""Edge fill: each hole filled in every frame from its own surroundings, so that light changes survive."""

from __future__ import annotations

from typing import Literal

import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.colour import encode, linear_from_codes
from plonket.base.conventions import F32, F64, FAST, U8
from plonket.image.grain import GrainProfile
from plonket.image.membrane import rim_values, stretch
from plonket.plate.repair.grain import Grain, grain_for, measure
from plonket.plate.repair.holes import Hole, holes_of, widened

Course = Literal["round", "across", "along", "radial"]


def fill_edges(
    rgb: U8, matte: U8, *, frame: int, reach_px: float = 10.0, rim_px: int = 2, grain: bool | GrainProfile = True,
    course: Course = "round", offset_px: float = 0.0,
) -> U8:  # fmt: skip
    """A frame with its holes filled.

    Parameters
    ----------
    rgb : 8-bit (h, w, 3). matte : 8-bit (h, w), white is filled. frame : seeds the grain, so that a frame always
        comes out the same. reach_px : width of the band round a hole whose light is taken.
    rim_px : how much wider than the matte holes are taken.
    grain : put back: the clip's, or (True) as the surroundings' calm parts show it.
    course : from where a spot inside is made: a membrane from all round; straight across the hole or along it (by its
        principal axes); on the line through its middle. offset_px : how far from the hole the band begins.
    """
    out = rgb.copy()
    margin = int(3 * reach_px + offset_px) + 6
    for k, hole in enumerate(holes_of(matte, rim_px=rim_px, margin_px=margin)):
        light = linear_from_codes(np.ascontiguousarray(hole.cut(rgb)))
        smooth = _membrane(light, hole, reach_px, offset_px)
        if course != "round":
            _between(light, hole.barred, hole.mask, _ways(hole, course), offset_px, reach_px, smooth)
        rough = measure(np.ascontiguousarray(hole.cut(rgb)), ~hole.barred) if grain is True else grain or None
        _lay(hole.cut(out), smooth, hole, rough, np.random.default_rng([frame, k]))
    return out


def _membrane(light: F32, hole: Hole, reach_px: float, offset_px: float) -> F32:
    """Linear light with the hole filled smoothly; the rest is the averaged surroundings."""
    barred = hole.barred
    if offset_px >= 1:
        wider = widened(np.asarray(barred * np.uint8(255), np.uint8), round(offset_px)) > 0
        barred = barred if wider.all() else wider
    return stretch(rim_values(light, ~barred, reach_px), barred)


def _ways(hole: Hole, course: Course) -> F64:
    """(h, w, 2) unit vectors: the line on which each pixel looks for its two ends."""
    h, w = hole.mask.shape
    ys, xs = np.nonzero(hole.mask)
    middle = np.array([xs.mean(), ys.mean()])
    if course == "radial":
        y, x = np.mgrid[0:h, 0:w].astype(np.float64)
        ways = np.stack([x - middle[0], y - middle[1]], axis=2)
        length = np.linalg.norm(ways, axis=2, keepdims=True)
        return np.asarray(np.where(length > 1e-6, ways / np.maximum(length, 1e-6), [1.0, 0.0]))
    spread = np.cov(np.stack([xs - middle[0], ys - middle[1]])) if len(xs) > 2 else np.eye(2)
    _, axes = np.linalg.eigh(spread)
    way = axes[:, 1] if course == "along" else axes[:, 0]
    return np.ascontiguousarray(np.broadcast_to(way, (h, w, 2)))


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _between(
    light: F32, barred: NDArray[np.bool_], hole: NDArray[np.bool_], ways: F64, offset: float, reach: float, out: F32
) -> None:
    """Each pixel of the hole from the two ends of its line, the nearer one counting more; where neither is known it stays."""
    h, w = hole.shape
    for y in numba.prange(h):
        total = np.empty((2, 3))
        for x in range(w):
            if not hole[y, x]:
                continue
            far = np.zeros(2)
            for side in range(2):
                sx, sy = ways[y, x, 0], ways[y, x, 1]
                if side == 1:
                    sx, sy = -sx, -sy
                step = 0.0
                while True:
                    step += 0.5
                    px, py = int(np.floor(x + 0.5 + sx * step)), int(np.floor(y + 0.5 + sy * step))
                    if px < 0 or py < 0 or px >= w or py >= h:
                        step = -1.0
                        break
                    if not barred[py, px]:
                        break
                if step < 0:
                    continue
                count = 0
                total[side, :] = 0
                for k in range(int(reach) + 1):
                    r = step + offset + k
                    px, py = int(np.floor(x + 0.5 + sx * r)), int(np.floor(y + 0.5 + sy * r))
                    if px < 0 or py < 0 or px >= w or py >= h or barred[py, px]:
                        continue
                    count += 1
                    for c in range(3):
                        total[side, c] += light[py, px, c]
                if count:
                    far[side] = step
                    total[side] /= count
            if far[0] <= 0 and far[1] <= 0:
                continue
            share = far[1] / (far[0] + far[1])
            if far[0] <= 0:
                share = 0.0
            elif far[1] <= 0:
                share = 1.0
            for c in range(3):
                a = total[0, c] if far[0] > 0 else 0.0
                b = total[1, c] if far[1] > 0 else 0.0
                out[y, x, c] = share * a + (1 - share) * b


def _lay(window: U8, light: F32, hole: Hole, grain: Grain | GrainProfile | None, rng: np.random.Generator) -> None:
    coded = encode(np.clip(light, 0, 1)) * 255
    if grain is not None:
        coded = coded + grain_for(np.asarray(coded / 255, np.float32), grain, rng)
    window[hole.mask] = np.clip(coded[hole.mask] + 0.5, 0, 255).astype(np.uint8)
