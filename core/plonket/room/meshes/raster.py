"""Which triangle a pinhole sees in each pixel, and how far away."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64

NEAR = 1e-3
"""Shares of the farthest corner's depth before which nothing is seen."""


def seen_by(
    corners: F64, focal: float, principal: tuple[float, float], size: tuple[int, int]
) -> tuple[F32, NDArray[np.int32]]:
    """Depth (h, w), infinite where nothing is, and the triangle seen (h, w), -1 where none is.

    Parameters
    ----------
    corners : (m, 3, 3) triangles before the camera: x right, y down, z forward. focal, principal : pixels.
    size : (width, height).
    """
    width, height = size
    depth = np.full((height, width), np.inf, np.float32)
    which = np.full((height, width), -1, np.int32)
    if len(corners):
        near = NEAR * max(float(corners[..., 2].max()), 1e-9)
        kept, owner = _clipped(corners, near)
        if len(kept):
            flat = np.empty_like(kept)
            flat[..., :2] = kept[..., :2] / kept[..., 2:] * focal + np.array(principal)
            flat[..., 2] = 1.0 / kept[..., 2]
            _draw(flat, owner, depth, which)
    return depth, which


def touched(corners: F64, way: tuple[float, float]) -> F64 | None:
    """(3,) the nearest place on triangles that one ray meets, or None.

    Parameters
    ----------
    corners : (m, 3, 3) triangles before the camera: x right, y down, z forward. way : x and y of the ray where z is 1.
    """
    # A picture of one pixel round the ray, narrow enough to tell places apart.
    focal = 1e4
    depth, _ = seen_by(corners, focal, (0.5 - way[0] * focal, 0.5 - way[1] * focal), (1, 1))
    far = float(depth[0, 0])
    return np.array([way[0] * far, way[1] * far, far]) if np.isfinite(far) else None


def _clipped(corners: F64, near: float) -> tuple[F64, NDArray[np.int32]]:
    """Triangles cut off at a depth of `near`, and which one each was part of."""
    ahead = corners[..., 2] > near
    count = ahead.sum(axis=1)
    whole = np.flatnonzero(count == 3)
    out, owner = [corners[whole]], [whole]
    for k in np.flatnonzero((count == 1) | (count == 2)):
        polygon = []
        for i in range(3):
            a, b = corners[k, i], corners[k, (i + 1) % 3]
            if a[2] > near:
                polygon.append(a)
            if (a[2] > near) != (b[2] > near):
                polygon.append(a + (b - a) * (near - a[2]) / (b[2] - a[2]))
        fan = [np.stack([polygon[0], polygon[i], polygon[i + 1]]) for i in range(1, len(polygon) - 1)]
        out.append(np.stack(fan))
        owner.append(np.full(len(fan), k))
    return np.concatenate(out), np.concatenate(owner).astype(np.int32)


@numba.njit(cache=True, error_model="numpy")  # type: ignore[misc]
def _draw(flat: F64, owner: NDArray[np.int32], depth: F32, which: NDArray[np.int32]) -> None:
    """Triangles (m, 3, 3) of x, y and 1 / z; what is nearest wins. One over z is linear in the picture."""
    h, w = depth.shape
    for t in range(flat.shape[0]):
        x0, y0, x1, y1, x2, y2 = flat[t, 0, 0], flat[t, 0, 1], flat[t, 1, 0], flat[t, 1, 1], flat[t, 2, 0], flat[t, 2, 1]
        area = (x1 - x0) * (y2 - y0) - (x2 - x0) * (y1 - y0)
        if abs(area) < 1e-12:
            continue
        top, bottom = min(y0, y1, y2), max(y0, y1, y2)
        left, right = min(x0, x1, x2), max(x0, x1, x2)
        if bottom < 0 or right < 0 or top > h or left > w:
            continue
        for y in range(max(0, int(top - 0.5)), min(h, int(bottom + 1.5))):
            py = y + 0.5
            for x in range(max(0, int(left - 0.5)), min(w, int(right + 1.5))):
                px = x + 0.5
                a = ((x1 - px) * (y2 - py) - (x2 - px) * (y1 - py)) / area
                b = ((x2 - px) * (y0 - py) - (x0 - px) * (y2 - py)) / area
                c = 1.0 - a - b
                if a < -1e-9 or b < -1e-9 or c < -1e-9:
                    continue
                z = np.float32(1.0 / (a * flat[t, 0, 2] + b * flat[t, 1, 2] + c * flat[t, 2, 2]))
                if z < depth[y, x]:
                    depth[y, x], which[y, x] = z, owner[t]
