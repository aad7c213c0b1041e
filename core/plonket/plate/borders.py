"""Keeping empty borders out: the largest window that every frame fills."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.optimize import linprog

from plonket.base.conventions import F64
from plonket.base.outlines import carry
from plonket.plate.view_path import corners_of

MOST_ZOOM = 4.0
EDGE_PX = 1.5
"""The outermost pixels are left out: resampling softens them."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Window:
    """A window that frames fill: `centre` (2,) in pixels of the picture, `zoom` from the picture's size to it."""

    centre: F64
    zoom: float
    fills: bool


def _sides(matrices: F64, size: tuple[int, int]) -> tuple[F64, F64]:
    """Half planes n . p <= b (outward unit normals n (m, 2), b (m,)) of all frames' outlines in the picture."""
    normals, limits = [], []
    for m in matrices:
        q = carry(corners_of(size, EDGE_PX), m)
        if not np.isfinite(q).all():
            continue
        along = np.roll(q, -1, axis=0) - q
        # Clockwise on screen (y down): the outside lies to the left of each side.
        n = np.stack([along[:, 1], -along[:, 0]], axis=1)
        n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-9)
        if _turns_over(q):
            n = -n
        normals.append(n)
        limits.append((n * q).sum(axis=1))
    return np.concatenate(normals), np.concatenate(limits)


def _turns_over(q: F64) -> bool:
    x, y = q[:, 0], q[:, 1]
    return float(np.dot(x, np.roll(y, -1)) - np.dot(y, np.roll(x, -1))) < 0


def largest_window(matrices: F64, size: tuple[int, int], *, centre: F64 | None = None) -> Window:
    """The largest window of the picture's shape that lies within every frame's outline.

    Parameters
    ----------
    matrices : (n, 3, 3) clip to picture. centre : where its middle must lie; None: wherever it grows largest.

    Notes
    -----
    Outlines are convex, so the window's corners decide; for a given shape its centre and size are the
    solution of a linear program (three unknowns, four inequalities a frame).
    """
    n, b = _sides(matrices, size)
    reach = np.abs(n) @ (np.array(size) / 2)
    if centre is None:
        middle = np.array(size) / 2
        found = linprog([0, 0, -1], A_ub=np.hstack([n, reach[:, None]]), b_ub=b - n @ middle,
                        bounds=[(None, None), (None, None), (0, 1)], method="highs")  # fmt: skip
        if found.status == 0 and found.x[2] > 0:
            at, scale = np.asarray(found.x[:2] + middle), float(found.x[2])
            at = _nearest(middle, at, n, b - reach * scale + 1e-6)
        else:
            at, scale = middle, 0.0
    else:
        at = np.asarray(centre, np.float64)
        scale = float(np.clip(((b - n @ at) / np.maximum(reach, 1e-9)).min(), 0, 1))
    zoom = 1 / max(scale, 1e-6)
    return Window(centre=at, zoom=min(zoom, MOST_ZOOM), fills=zoom <= MOST_ZOOM)


def _nearest(middle: F64, otherwise: F64, n: F64, b: F64) -> F64:
    """Of all places with n . p <= b the one nearest to `middle` (sum of both distances: a linear program again)."""
    far = np.hstack([n, np.zeros((len(n), 2))])
    beside = np.array([[1.0, 0, -1, 0], [-1, 0, -1, 0], [0, 1, 0, -1], [0, -1, 0, -1]])
    found = linprog([0, 0, 1, 1], A_ub=np.vstack([far, beside]), b_ub=np.concatenate([b - n @ middle, np.zeros(4)]),
                    bounds=[(None, None)] * 2 + [(0, None)] * 2, method="highs")  # fmt: skip
    return np.asarray(found.x[:2] + middle) if found.status == 0 else otherwise


def onto_picture(centre: F64, zoom: float, size: tuple[int, int]) -> F64:
    """(3, 3) that brings a window about `centre` to the whole picture."""
    w, h = size
    return np.array([[zoom, 0, w / 2 - zoom * centre[0]], [0, zoom, h / 2 - zoom * centre[1]], [0, 0, 1.0]])


def gliding_zoom(needed: F64, span: int) -> F64:
    """A slowly changing zoom (n,) that is nowhere less than needed.

    The most that is needed within `span` frames, averaged with a window that reaches no further.
    """
    n = len(needed)
    if span < 1 or n < 2:
        return np.full(n, float(needed.max()))
    padded = np.pad(needed, span, mode="edge")
    most = np.array([padded[i : i + 2 * span + 1].max() for i in range(n)])
    kernel = np.hanning(2 * span + 3)[1:-1]
    return np.asarray(np.convolve(np.pad(most, span, mode="edge"), kernel / kernel.sum(), mode="valid"))
