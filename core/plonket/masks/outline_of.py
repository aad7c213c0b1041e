"""Outlines drawn round what a matte covers, with as few points as come near enough.

Source: P. J. Schneider, An algorithm for automatically fitting digitized curves, in Graphics Gems, 1990.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from plonket.base.conventions import F32, F64

FINER = 3
"""Times by which a matte is enlarged to find its edge between pixels."""
OFF_PX = 0.7
"""How far a curve may lie from the edge, in pixels, at first."""
MOST_POINTS = 80
"""Points of one outline; more than that, and it may lie farther off."""
SMALLEST, SMALLEST_PX = 0.01, 30.0
"""Share of the largest piece, and pixels, below which a piece or a hole is left out."""
CORNER = 0.6
"""Cosine of the turn within a few pixels from which on a place is a corner."""
NEAR_PX = 4.0
"""Pixels along the edge over which its way is told."""


@dataclass(frozen=True, slots=True)
class FoundOutline:
    """`shape` : control points (n, 7) as of `plonket.base.outlines.control_points`. `hole` : whether it is one in another."""

    shape: F64
    hole: bool


def outlines_of(alpha: F32, off_px: float = OFF_PX) -> list[FoundOutline]:
    """The outlines of where a matte (h, w), 0 to 1, is more than half, the largest piece first, each with its holes."""
    h, w = alpha.shape
    # What is cut off by the picture ends at its rim.
    framed = cv2.copyMakeBorder(alpha, 1, 1, 1, 1, cv2.BORDER_CONSTANT, value=0)
    large = cv2.resize(framed, ((w + 2) * FINER, (h + 2) * FINER), interpolation=cv2.INTER_LINEAR)
    found, tree = cv2.findContours((large > 0.5).astype(np.uint8), cv2.RETR_CCOMP, cv2.CHAIN_APPROX_NONE)
    if not found:
        return []
    areas = [cv2.contourArea(one) / FINER**2 for one in found]
    least = max(SMALLEST * max(areas), SMALLEST_PX)
    out: list[tuple[float, FoundOutline]] = []
    for one, area, kin in zip(found, areas, tree[0], strict=True):
        if area >= least and len(one) >= 8 * FINER:
            hole = bool(kin[3] >= 0)
            edge = _softened((one[:, 0].astype(np.float64) + 0.5) / FINER - 1)
            # It leads through the middles of the outermost pixels.
            edge = _outwards(edge, (-0.5 if hole else 0.5) / FINER)
            out.append((area, FoundOutline(shape=_fitted(np.clip(edge, 0, (w, h)), off_px), hole=hole)))
    return [one for _, one in sorted(out, key=lambda pair: (pair[1].hole, -pair[0]))]


def _outwards(edge: F64, by_px: float) -> F64:
    """A closed edge (n, 2) moved out by parts of a pixel, or in."""
    x, y = edge.T
    area = float((x * np.roll(y, -1) - y * np.roll(x, -1)).sum())
    way = _unit(np.roll(edge, -2, axis=0) - np.roll(edge, 2, axis=0))
    return np.asarray(edge + np.column_stack([way[:, 1], -way[:, 0]]) * by_px * np.sign(area))


def _softened(edge: F64) -> F64:
    """A closed edge (n, 2) without the steps of its pixels."""
    kernel = cv2.getGaussianKernel(4 * FINER + 1, 0.8 * FINER)[:, 0]
    reach = len(kernel) // 2
    around = np.concatenate([edge[-reach:], edge, edge[:reach]])
    return np.column_stack([np.convolve(around[:, c], kernel, mode="valid") for c in (0, 1)])


def _fitted(edge: F64, off_px: float) -> F64:
    """Control points (n, 7) of curves along a closed edge (m, 2)."""
    while True:
        shape = _curves(edge, off_px)
        if len(shape) <= MOST_POINTS:
            return shape
        off_px *= 1.4


def _curves(edge: F64, off_px: float) -> F64:
    m, reach = len(edge), max(1, round(NEAR_PX * FINER / 2))
    ahead, behind = (_unit(np.roll(edge, -k, axis=0) - edge) for k in (reach, -reach))
    turn = -(ahead * behind).sum(axis=1)
    starts = _corners(turn, 2 * reach)
    is_corner = np.zeros(m, bool)
    is_corner[starts] = True
    if len(starts) < 2:
        starts = sorted({*starts, 0, m // 2})

    def curve(a: int, b: int) -> tuple[F64, F64, int, float]:
        part = edge[np.arange(a, b + 1) % m]
        far = max(reach, (b - a) // 3)
        first, last = (_way(edge, k % m, bool(is_corner[k % m]), reach, way) for k, way in ((a, far), (b, -far)))
        return _one_curve(part, first, last)

    knots: list[int] = []
    handles: dict[int, list[F64]] = {}
    stack = [(a, b if b > a else b + m) for a, b in zip(starts, [*starts[1:], starts[0]], strict=True)][::-1]
    while stack:
        a, b = stack.pop()
        first, second, worst, off = curve(a, b)
        if off > off_px and b - a > 4 * FINER:
            # Not too near its ends, or the halves would be no curves; where it is farthest off, or in the middle.
            cuts = {a + int(np.clip(k, 2 * FINER, b - a - 2 * FINER)) for k in (worst, (b - a) // 2)}
            cut = min(cuts, key=lambda k: max(curve(a, k)[3], curve(k, b)[3]))
            stack += [(cut, b), (a, cut)]
            continue
        knots.append(a % m)
        handles.setdefault(a % m, [np.zeros(2), np.zeros(2)])[1] = first
        handles.setdefault(b % m, [np.zeros(2), np.zeros(2)])[0] = second
    knots.sort()
    rows = [np.concatenate([edge[k], handles[k][0], handles[k][1], [0.0]]) for k in knots]
    return np.array(rows)


def _corners(turn: F64, apart: int) -> list[int]:
    """Where an edge turns sharply: of those near each other the sharpest."""
    found: list[int] = []
    m = len(turn)
    for k in np.argsort(turn):
        if turn[k] > CORNER:
            break
        if all(min(abs(k - o), m - abs(k - o)) >= apart for o in found):
            found.append(int(k))
    return sorted(found)


def _way(edge: F64, k: int, corner: bool, reach: int, far: int) -> F64:
    """The direction in which a curve leaves a place for one `far` along the edge: told from both sides; on a corner, which is
    rounded by pixels, from farther along its own."""
    m = len(edge)
    sign = 1 if far > 0 else -1
    if corner:
        ahead = edge[(k + sign * np.arange(reach, min(abs(far), 6 * reach) + 1)) % m]
        return np.asarray(_unit((ahead[-1] - ahead[0])[None] if len(ahead) > 2 else (ahead[-1] - edge[k])[None])[0])
    return np.asarray(_unit((edge[(k + sign * reach) % m] - edge[(k - sign * reach) % m])[None])[0])


def _one_curve(part: F64, way: F64, way_back: F64) -> tuple[F64, F64, int, float]:
    """The handles of one cubic along places (n, 2), and where it is farthest off, and by how much."""
    steps = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(part, axis=0).T))])
    length = max(float(steps[-1]), 1e-9)
    t = steps / length
    p, q = part[0], part[-1]
    arms = np.array([length / 3, length / 3])
    at = part
    for _ in range(3):
        s = 1 - t
        b1, b2 = 3 * s * s * t, 3 * s * t * t
        base = (s**3 + b1)[:, None] * p + (t**3 + b2)[:, None] * q
        a = np.stack([(b1[:, None] * way).ravel(), (b2[:, None] * way_back).ravel()], axis=1)
        arms = np.linalg.lstsq(a.T @ a + 1e-6 * np.eye(2), a.T @ (part - base).ravel(), rcond=None)[0]
        arms = np.clip(arms, 0.02 * length, 0.9 * length)
        at = base + b1[:, None] * way * arms[0] + b2[:, None] * way_back * arms[1]
        # Places are told again by where they lie along the curve.
        along = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(at, axis=0).T))])
        t = np.interp(steps / length * along[-1], along, t)
    off = np.hypot(*(at - part).T)
    worst = int(off.argmax())
    return way * arms[0], way_back * arms[1], worst, float(off[worst])


def _unit(ways: F64) -> F64:
    return np.asarray(ways / np.maximum(np.hypot(ways[:, 0], ways[:, 1]), 1e-9)[:, None])
