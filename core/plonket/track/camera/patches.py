"""Compiled matching of small patches: a detail against the picture it was cut from, frame after frame."""

from __future__ import annotations

from typing import Any

import numba
import numpy as np

HALF = 7
"""Patches are squares of 2 * HALF + 1 pixels."""
SIDE = 2 * HALF + 1
AREA = SIDE * SIDE
UNKNOWNS = 6
STEPS = 12
SETTLED_PX = 0.003


@numba.njit(inline="always")  # type: ignore[misc]
def _weights(f: float) -> Any:
    """Catmull-Rom weights for a fraction `f` (R. Keys, 1981, doi:10.1109/TASSP.1981.1163711, a = -1/2)."""
    return (
        ((-0.5 * f + 1.0) * f - 0.5) * f,
        (1.5 * f - 2.5) * f * f + 1.0,
        ((-1.5 * f + 2.0) * f + 0.5) * f,
        (0.5 * f - 0.5) * f * f,
    )


@numba.njit(inline="always")  # type: ignore[misc]
def _sample(image: Any, x: float, y: float) -> float:
    ix, iy = int(np.floor(x)), int(np.floor(y))
    wx = _weights(x - ix)
    wy = _weights(y - iy)
    out = 0.0
    for j in range(4):
        row = 0.0
        for i in range(4):
            row += wx[i] * image[iy - 1 + j, ix - 1 + i]
        out += wy[j] * row
    return out


@numba.njit(cache=True, parallel=True)  # type: ignore[misc]
def cut(image: Any, xy: Any, templates: Any, slopes: Any, inverse: Any, sound: Any) -> None:
    """Cut patches and prepare them for `match`.

    Parameters
    ----------
    image : (h, w) float32. xy : (n, 2) array-index coordinates.
    templates, slopes, inverse, sound : filled for each patch: (n, AREA) values less their mean over their
        spread, (n, AREA, 6) steepest descent with light projected out, (n, 6, 6) inverse of the normal
        matrix, (n,) bool.

    Source: inverse-compositional matching, S. Baker and I. Matthews, 2004, doi:10.1023/B:VISI.0000011205.11775.fd.
    """
    height, width = image.shape
    for k in numba.prange(xy.shape[0]):
        sound[k] = False
        x, y = xy[k, 0], xy[k, 1]
        if not (HALF + 3 <= x < width - HALF - 4 and HALF + 3 <= y < height - HALF - 4):
            continue
        values = np.empty(AREA)
        down = np.empty((AREA, UNKNOWNS))
        total = 0.0
        for j in range(SIDE):
            for i in range(SIDE):
                px, py = x + i - HALF, y + j - HALF
                v = _sample(image, px, py)
                gx = 0.5 * (_sample(image, px + 1, py) - _sample(image, px - 1, py))
                gy = 0.5 * (_sample(image, px, py + 1) - _sample(image, px, py - 1))
                u, w = (i - HALF) / HALF, (j - HALF) / HALF
                at = j * SIDE + i
                values[at] = v
                total += v
                down[at, 0], down[at, 1] = gx, gy
                down[at, 2], down[at, 3] = gx * u, gx * w
                down[at, 4], down[at, 5] = gy * u, gy * w
        mean = total / AREA
        spread = 0.0
        for at in range(AREA):
            values[at] -= mean
            spread += values[at] * values[at]
        spread = np.sqrt(spread)
        if spread < 1e-3:
            continue
        for at in range(AREA):
            values[at] /= spread
        # The light's gain and offset are projected out of the slopes.
        for c in range(UNKNOWNS):
            flat, along = 0.0, 0.0
            for at in range(AREA):
                down[at, c] /= spread
                flat += down[at, c]
                along += down[at, c] * values[at]
            for at in range(AREA):
                down[at, c] -= flat / AREA + along * values[at]
        normal = down.T @ down
        # A light pull towards "no change of shape" keeps weak patches from shearing.
        for c in range(2, UNKNOWNS):
            normal[c, c] += 0.02 * (normal[0, 0] + normal[1, 1])
        for c in range(UNKNOWNS):
            normal[c, c] += 1e-9
        inverse[k] = np.linalg.inv(normal)
        templates[k] = values
        slopes[k] = down
        sound[k] = True


@numba.njit(cache=True, parallel=True)  # type: ignore[misc]
def match(image: Any, templates: Any, slopes: Any, inverse: Any, xy: Any, shape: Any, likeness: Any) -> None:
    """Move patches to where they fit the image best; `xy` and `shape` are starts and results.

    Parameters
    ----------
    image : (h, w) float32. xy : (n, 2) array-index coordinates. shape : (n, 2, 2), patch to image.
    likeness : filled with the correlation at the end (n,); -1 where the patch left the picture.
    """
    height, width = image.shape
    for k in numba.prange(xy.shape[0]):
        values = np.empty(AREA)
        x, y = xy[k, 0], xy[k, 1]
        a, b, c, d = shape[k, 0, 0], shape[k, 0, 1], shape[k, 1, 0], shape[k, 1, 1]
        likeness[k] = -1.0
        for _ in range(STEPS):
            reach_x, reach_y = HALF * (abs(a) + abs(b)) + 3, HALF * (abs(c) + abs(d)) + 3
            if not (reach_x <= x < width - reach_x - 1 and reach_y <= y < height - reach_y - 1):
                likeness[k] = -1.0
                break
            total = 0.0
            for j in range(SIDE):
                for i in range(SIDE):
                    u, w = i - HALF, j - HALF
                    v = _sample(image, x + a * u + b * w, y + c * u + d * w)
                    values[j * SIDE + i] = v
                    total += v
            mean = total / AREA
            spread = 0.0
            for at in range(AREA):
                values[at] -= mean
                spread += values[at] * values[at]
            spread = np.sqrt(spread)
            if spread < 1e-3:
                likeness[k] = -1.0
                break
            alike = 0.0
            for at in range(AREA):
                values[at] /= spread
                alike += values[at] * templates[k, at]
            likeness[k] = alike
            right = np.zeros(UNKNOWNS)
            for at in range(AREA):
                r = values[at] - templates[k, at]
                for q in range(UNKNOWNS):
                    right[q] += slopes[k, at, q] * r
            step = inverse[k] @ right
            # Compose with the inverse of the step: p <- W(p) o W(step)^-1.
            sa, sb = 1 + step[2] / HALF, step[3] / HALF
            sc, sd = step[4] / HALF, 1 + step[5] / HALF
            det = sa * sd - sb * sc
            if abs(det) < 0.2:
                likeness[k] = -1.0
                break
            ia, ib, ic, id_ = sd / det, -sb / det, -sc / det, sa / det
            ox, oy = -(ia * step[0] + ib * step[1]), -(ic * step[0] + id_ * step[1])
            dx, dy = a * ox + b * oy, c * ox + d * oy
            x, y = x + dx, y + dy
            a, b, c, d = a * ia + b * ic, a * ib + b * id_, c * ia + d * ic, c * ib + d * id_
            if dx * dx + dy * dy < SETTLED_PX * SETTLED_PX:
                break
        xy[k, 0], xy[k, 1] = x, y
        shape[k, 0, 0], shape[k, 0, 1], shape[k, 1, 0], shape[k, 1, 1] = a, b, c, d
