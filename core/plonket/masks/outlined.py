"""A mask drawn as a curved outline, with a feather of its own at every point."""

from __future__ import annotations

from typing import Literal

import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64, FAST
from plonket.base.fields import Number, number, plain, value_at
from plonket.base.outlines import FLATNESS_PX, Outline, carry, control_points, fill, flatten_feathered, inside
from plonket.base.registry import Entry
from plonket.document.bases import MaskBase
from plonket.document.kinds import MASKS
from plonket.masks.combine import Mattes, no_mattes


class OutlineMask(MaskBase):
    """What lies inside a closed curve."""

    kind: Literal["outline"] = "outline"
    outline: Outline
    grow: Number = number(0.0, label="Wider by", low=-500, high=500, step=0.5, unit="px", group="Edge", soft=(-40, 40),
                          help="Moves the whole edge out, or in when negative.")  # fmt: skip
    soft: Number = number(0.0, label="Soft", low=0, high=1000, step=0.5, unit="px", group="Edge", soft=(0, 80),
                          help="Width of the edge, half of it inside. Points can be feathered singly as well.")  # fmt: skip
    bends: float = plain(60.0, label="Bends", low=0, high=100, step=5, unit="%", group="Follow",
                         help="How freely it bends with what it shows when followed; 0: it moves as a whole.")  # fmt: skip


def cover(mask: OutlineMask, frame: float, size: tuple[int, int], matrix: F64, mattes: Mattes = no_mattes) -> F32:
    """Coverage (h, w) of a picture of `size`; `matrix` leads from the mask's pixels to the picture's.

    Widths are measured at each spot of the outline through `matrix`, so that edges keep their look at any
    zoom, and in perspective. A polygon's bands are drawn by distance: full up to a distance `a` from the outline, nothing
    beyond a distance `b` (both counted outwards), and never steeper than one pixel.
    """
    points = control_points(mask.outline, frame)
    middle = points[:, :2].mean(axis=0)
    zoom = max(float(_scales(middle[None], matrix)[0]), 1e-3)
    spots = flatten_feathered(points, FLATNESS_PX / zoom)
    at = carry(spots[:, :2], matrix)
    grow, soft = value_at(mask.grow, frame), value_at(mask.soft, frame)
    if not np.isfinite(at).all():
        return np.zeros((size[1], size[0]), np.float32)
    if not grow and not soft and not spots[:, 2].any():
        return np.asarray(fill(at, size), np.float32) / np.float32(255)
    scale = _scales(spots[:, :2], matrix)
    low = (np.minimum(spots[:, 2], 0) + grow - soft / 2) * scale
    high = (np.maximum(spots[:, 2], 0) + grow + soft / 2) * scale
    within = inside(at, size)
    out = within.astype(np.float32)
    _bands(at, low, high, within, out)
    return out


def _scales(xy: F64, m: F64) -> F64:
    """(n,) how much a matrix enlarges at each spot."""
    d = xy @ m[2, :2] + m[2, 2]
    return np.asarray(np.sqrt(np.abs(np.linalg.det(m)) / np.maximum(np.abs(d) ** 3, 1e-12)))


@numba.njit(cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _bands(polygon: F64, low: F64, high: F64, within: NDArray[np.bool_], out: F32) -> None:
    """The edge of a polygon, side by side: outside the most that any side gives, inside the least."""
    h, w = out.shape
    n = polygon.shape[0]
    for k in range(n):
        j = (k + 1) % n
        ax, ay = polygon[k, 0], polygon[k, 1]
        ux, uy = polygon[j, 0] - ax, polygon[j, 1] - ay
        square = ux * ux + uy * uy
        reach = max(max(abs(low[k]), abs(high[k])), max(abs(low[j]), abs(high[j]))) + 1
        x0, x1 = max(0, int(min(ax, ax + ux) - reach)), min(w, int(max(ax, ax + ux) + reach) + 2)
        y0, y1 = max(0, int(min(ay, ay + uy) - reach)), min(h, int(max(ay, ay + uy) + reach) + 2)
        for y in range(y0, y1):
            for x in range(x0, x1):
                dx, dy = x + 0.5 - ax, y + 0.5 - ay
                t = (dx * ux + dy * uy) / square if square > 1e-12 else 0.0
                t = min(max(t, 0.0), 1.0)
                ex, ey = dx - t * ux, dy - t * uy
                distance = np.sqrt(ex * ex + ey * ey)
                if distance > reach:
                    continue
                a = low[k] + t * (low[j] - low[k])
                b = high[k] + t * (high[j] - high[k])
                if b - a < 1:
                    a, b = (a + b) / 2 - 0.5, (a + b) / 2 + 0.5
                away = -distance if within[y, x] else distance
                u = min(max((b - away) / (b - a), 0.0), 1.0)
                # A wide edge fades in and out smoothly, a sharp one is as wide as a pixel and straight.
                smooth = min(max((b - a - 1) / 2, 0.0), 1.0)
                u += smooth * (u * u * (3 - 2 * u) - u)
                out[y, x] = min(out[y, x], u) if within[y, x] else max(out[y, x], u)


MASKS.add(Entry(
    kind="outline", order=10, label="Outline", settings=OutlineMask, run=cover,
    help="What lies inside a closed curve, with a feather of its own at every point.",
    groups=("Follow", "Edge", "Grade", "Mask"), handles="outline",
))  # fmt: skip
