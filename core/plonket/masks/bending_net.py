"""A net over a drawn outline that is bent until later pictures, laid back on the drawn one, look like it.

Source for dense movement: T. Kroeger et al., Fast Optical Flow using Dense Inverse Search, 2016, arXiv:1603.03590 (OpenCV's).
"""

from __future__ import annotations

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import Degenerate
from plonket.base.outlines import flatten, inside

LARGEST, FLOW_LARGEST = 400, 480
"""Pixels across at which a larger outline is compared, and at which its movement as a whole is looked for."""
KNOTS, LEAST_STEP = 9, 6.0
"""Knots across the larger side of an outline; reduced pixels by which they lie apart at least."""
RIGID, STIFF, LIMP = 1e4, 30.0, 0.003
"""What bending costs against what is seen: where it may not bend at all, hardly, and freely."""
HOLD = 0.02
"""What it costs besides to go otherwise than the whole."""
FASTEST = 0.12
"""Share of the picture's width that it may move in a frame."""
LEAST_PX = 24
"""Pixels inside an outline below which there is nothing to follow."""
ROUNDS, SETTLED = 8, 0.02
"""Steps on one size at most, and reduced pixels below which it has settled."""
EVENED = 5.0
"""Pixels over which light and contrast are evened."""
ALIKE = 0.5
"""Difference, in local contrasts, at which a pixel is only half believed to show the same."""
BY_CHANCE = 0.3
"""Share that looks alike of two pictures that show nothing of each other."""
DOUBT, BELIEF = 0.3, 0.6
"""Shares of a neighbourhood that look alike, below which it is not believed at all, and above which it is."""
BUSY, FLAT = 3.0, 0.8
"""Codes of local contrast from which on movement is seen, and below which there is nothing to see."""
TAME = 2.0
"""Pixels of movement against the whole at which a pixel counts half."""


class BendingNet:
    """Where every pixel in and round a drawn outline is now: a net of knots over it, each moved by so much."""

    def __init__(self, shape: F64, grey: U8, bend: float) -> None:
        spots = flatten(shape)
        low, high = spots.min(axis=0), spots.max(axis=0)
        size = float((high - low).max())
        self._shape = shape
        self.scale = max(1.0, size / LARGEST)
        self._origin = low - 1.0
        w, h = (max(4, int(np.ceil((v + 2.0) / self.scale))) for v in high - low)
        mask = inside((spots - self._origin) / self.scale, (w, h))
        if mask.sum() < LEAST_PX:
            raise Degenerate("outline.tiny", "This outline is too small to be followed.")
        self._ys, self._xs = np.nonzero(mask)
        step = max(float(max(w, h)) / KNOTS, LEAST_STEP)
        self._net = Net(step, (int(np.ceil(w / step)) + 1, int(np.ceil(h / step)) + 1))
        self._moved = np.zeros((self._net.count, 2))
        self._stiff = STIFF * (LIMP / STIFF) ** float(np.clip(bend, 0, 1)) if bend > 0 else RIGID
        self._levels = [Level(grey, self, shrink) for shrink in (4, 2, 1) if min(w, h) / shrink >= 12 or shrink == 1]
        if self._levels[-1].busy < FLAT:
            raise Degenerate("outline.flat", "There is nothing to see inside this outline that could be followed.")
        self.in_view = 1.0

    def step(self, then: U8, now: U8) -> float:
        """On to the next picture; 0 to 1: how much of the inside looks as when it was drawn."""
        self._moved = self._moved + self._whole_flow(then, now)
        trust = 0.0
        for level in self._levels:
            self._moved, trust, self.in_view = level.aligned(now, self._net, self._moved, self._stiff)
        return trust

    def shape(self) -> F64:
        """The outline's control points (n, 7) now."""
        out = self._shape.copy()
        at = self._shape[:, :2]
        there = self._where(at)
        out[:, :2] = there
        out[:, 2:4] = self._where(at + self._shape[:, 2:4]) - there
        out[:, 4:6] = self._where(at + self._shape[:, 4:6]) - there
        return out

    def places(self, xs: F64, ys: F64) -> F64:
        """Where reduced pixels lie in the drawn picture (n, 2)."""
        return (np.column_stack([xs, ys]) + 0.5) * self.scale + self._origin

    def within(self, shrink: int) -> tuple[F64, F64, F64]:
        """Reduced pixels (xs, ys) inside the outline, every `shrink`-th, and how far from its edge they lie in those."""
        some = (self._xs % shrink == shrink // 2) & (self._ys % shrink == shrink // 2)
        mask = np.zeros((self._ys.max() + 3, self._xs.max() + 3), np.uint8)
        mask[self._ys + 1, self._xs + 1] = 1
        away = cv2.distanceTransform(mask, cv2.DIST_L2, 3)[self._ys + 1, self._xs + 1]
        return self._xs[some].astype(np.float64), self._ys[some].astype(np.float64), away[some].astype(np.float64)

    def _where(self, at: F64) -> F64:
        """Where places of the drawn picture (n, 2) are now."""
        spots = (at - self._origin) / self.scale - 0.5
        return np.asarray(at + self._net.at(spots[:, 0], spots[:, 1], self._moved))

    def _whole_flow(self, then: U8, now: U8) -> F64:
        """By how much each knot goes with the whole since the picture before, (n, 2)."""
        xs, ys, _ = self.within(max(1, round(np.sqrt(len(self._xs) / 4000))))
        at = self.places(xs, ys) + self._net.at(xs, ys, self._moved)
        reach = FASTEST * then.shape[1]
        h, w = then.shape
        x0, y0 = (int(np.clip(v, 0, most - 32)) for v, most in zip(at.min(axis=0) - reach, (w, h), strict=True))
        x1, y1 = (int(np.clip(v, low + 32, most))
                  for v, low, most in zip(at.max(axis=0) + reach, (x0, y0), (w, h), strict=True))  # fmt: skip
        shrink = max(1.0, max(x1 - x0, y1 - y0) / FLOW_LARGEST)
        size = (max(24, round((x1 - x0) / shrink)), max(24, round((y1 - y0) / shrink)))
        pair = [cv2.resize(p[y0:y1, x0:x1], size, interpolation=cv2.INTER_AREA) for p in (then, now)]
        still = np.zeros((size[1], size[0], 2), np.float32)
        flow = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM).calc(pair[0], pair[1], still)
        by = np.array([size[0] / (x1 - x0), size[1] / (y1 - y0)])
        spots = ((at - [x0, y0]) * by - 0.5).astype(np.float32)
        seen = cv2.remap(flow, spots[:, None], None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)[:, 0] / by  # type: ignore[call-overload]
        fitted = _affine(xs, ys, np.asarray(seen, np.float64), TAME * shrink)
        kx, ky = self._net.knots()
        return np.asarray(np.column_stack([kx, ky, np.ones(len(kx))]) @ fitted)


class Net:
    """Knots so many reduced pixels apart; between them it goes in straight lines."""

    def __init__(self, step: float, size: tuple[int, int]) -> None:
        self.step, self.size = step, size
        self.count = size[0] * size[1]
        self.bending = _bending(*size)

    def knots(self) -> tuple[F64, F64]:
        """Where they are, in reduced pixels: xs and ys, (rows, columns)."""
        j, i = np.mgrid[0 : self.size[1], 0 : self.size[0]].reshape(2, -1)
        return i * self.step - 0.5, j * self.step - 0.5

    def shares(self, xs: F64, ys: F64) -> tuple[NDArray[np.int64], F64]:
        """Of places: the four knots round each (n, 4), and how much each counts. Beyond the net they go on straight."""
        gx, gy = (xs + 0.5) / self.step, (ys + 0.5) / self.step
        i = np.clip(np.floor(gx), 0, self.size[0] - 2).astype(np.int64)
        j = np.clip(np.floor(gy), 0, self.size[1] - 2).astype(np.int64)
        u, v = gx - i, gy - j
        first = j * self.size[0] + i
        knots = np.stack([first, first + 1, first + self.size[0], first + self.size[0] + 1], axis=1)
        return knots, np.stack([(1 - u) * (1 - v), u * (1 - v), (1 - u) * v, u * v], axis=1)

    def at(self, xs: F64, ys: F64, moved: F64) -> F64:
        """How far places have moved, (n, 2)."""
        knots, shares = self.shares(xs, ys)
        return np.asarray(_shared(knots, shares, moved))


class Level:
    """The drawn picture inside the outline at one size, and later ones laid on it.

    A net is moved until both look alike, by Gauss and Newton's steps on the difference of their evened brightness (B. Lucas and
    T. Kanade, 1981), each pixel counting the less the more it differs; how the net bends costs besides.
    """

    def __init__(self, grey: U8, whole: BendingNet, shrink: int) -> None:
        self._blur = 0.45 * shrink * whole.scale
        self._shrink = shrink
        self._xs, self._ys, away = whole.within(shrink)
        self._start = whole.places(self._xs, self._ys)
        size = int(self._ys.max()) // shrink + 3, int(self._xs.max()) // shrink + 3
        self._cell = (self._ys // shrink).astype(np.int64) + 1, (self._xs // shrink).astype(np.int64) + 1
        self._size = size
        # At the very edge what is behind mixes in.
        self._weight = np.clip((away - 0.5) / 2, 0.1, 1)
        here = _looked_up(self._softened(grey)[..., None], self._start)
        self._drawn, contrast = self._evened(here[:, 0], np.ones(len(self._xs)))
        self.busy = float(contrast.mean())
        self._busy = np.clip(contrast / BUSY - 0.2, 0.0, 1.0)

    def aligned(self, now: U8, net: Net, moved: F64, stiff: float) -> tuple[F64, float, float]:
        """The net moved so that the picture looks as drawn; how much of it then does, and how much is in view."""
        knots, shares = net.shares(self._xs, self._ys)
        # Only what lies about it is looked at.
        at = self._start + _shared(knots, shares, moved)
        pad = 12 + 8 * self._blur
        most = np.array([now.shape[1], now.shape[0]])
        corner = np.clip(np.floor(at.min(axis=0) - pad), 0, most - 4).astype(int)
        end = np.clip(np.ceil(at.max(axis=0) + pad), corner + 4, most).astype(int)
        soft = self._softened(now[corner[1] : end[1], corner[0] : end[0]])
        ways = (cv2.Sobel(soft, cv2.CV_32F, *way, ksize=3, scale=1 / 8) for way in ((1, 0), (0, 1)))
        seen = np.ascontiguousarray(np.dstack([soft, *ways]))
        first = moved
        h, w = now.shape
        counts = in_view = np.ones(len(self._xs))
        for _ in range(ROUNDS):
            at = self._start + _shared(knots, shares, moved)
            in_view = ((at >= 0.5) & (at <= (w - 0.5, h - 0.5))).all(axis=1).astype(np.float64)
            here = _looked_up(seen, at - corner)
            even, contrast = self._evened(here[:, 0], in_view)
            off = even - self._drawn
            counts = in_view / (1 + (off / ALIKE) ** 2) ** 2
            # Where much of a neighbourhood differs, what little agrees does so by chance: something stands before it.
            weight = self._weight * self._busy * counts * np.clip((self._near(counts) - DOUBT) / (BELIEF - DOUBT), 0, 1)
            slopes = here[:, 1:] / (contrast + 2)[:, None]
            normal, right = np.zeros((2 * net.count,) * 2), np.zeros(2 * net.count)
            _gather(knots, shares, slopes, off, weight, normal, right)
            usual = float(np.trace(normal)) / max(2 * net.count, 1)
            # What is covered goes with the whole.
            hold = HOLD * usual + 1e-12
            for c in (0, 1):
                normal[c::2, c::2] += net.bending * (stiff * usual)
            normal[np.diag_indices_from(normal)] += hold
            right -= (net.bending @ moved * (stiff * usual) + hold * (moved - first)).ravel()
            change = np.linalg.solve(normal, right).reshape(-1, 2)
            moved = moved + change
            if float(np.abs(change).max()) < SETTLED * self._shrink:
                break
        told = self._busy > 0
        like = float((counts[told] > 0.25).mean()) if told.any() else 0.0
        trust = float(np.clip((like - BY_CHANCE) / (1 - BY_CHANCE), 0, 1))
        return moved, trust, float(in_view.mean())

    def _softened(self, grey: U8) -> F32:
        return np.asarray(cv2.GaussianBlur(grey.astype(np.float32), (0, 0), max(self._blur, 0.6)), np.float32)

    def _near(self, values: F64) -> F64:
        """The mean of values (n,) of the inside over what is near each."""
        grid = np.zeros((*self._size, 2), np.float32)
        grid[self._cell] = np.column_stack([values, np.ones(len(values))])
        near = cv2.GaussianBlur(grid, (0, 0), EVENED, borderType=cv2.BORDER_CONSTANT)[self._cell].astype(np.float64)
        return np.asarray(near[:, 0] / np.maximum(near[:, 1], 1e-6))

    def _evened(self, values: F64, counts: F64) -> tuple[F64, F64]:
        """Values of the inside (n,) freed of light and contrast, which may change: what lies outside has no say."""
        grid = np.zeros((*self._size, 3), np.float32)
        grid[self._cell] = np.column_stack([counts, values * counts, values * values * counts])
        near = cv2.GaussianBlur(grid, (0, 0), EVENED, borderType=cv2.BORDER_CONSTANT)[self._cell].astype(np.float64)
        share = np.maximum(near[:, 0], 1e-6)
        mean = near[:, 1] / share
        contrast = np.sqrt(np.maximum(near[:, 2] / share - mean * mean, 0))
        return (values - mean) / (contrast + 2), contrast


def _affine(xs: F64, ys: F64, seen: F64, tame: float) -> F64:
    """(3, 2): the affine movement that most of what is seen (n, 2) at places goes with."""
    a = np.column_stack([xs, ys, np.ones(len(xs))])
    middle = np.median(seen, axis=0)
    fitted, counts = np.vstack([np.zeros((2, 2)), middle]), np.ones(len(xs))
    for _ in range(6):
        off = np.hypot(*(seen - a @ fitted).T)
        counts = 1 / (1 + (off / tame) ** 2)
        at = a * counts[:, None]
        fitted = np.linalg.solve(at.T @ a + 1e-6 * np.eye(3) * counts.sum(), at.T @ seen)
    return np.asarray(fitted)


def _bending(wide: int, high: int) -> F64:
    """(n, n) what it costs that knots do not lie in the middle of their neighbours: moving as an affine whole costs nothing."""
    index = np.arange(wide * high).reshape(high, wide)
    rows: list[tuple[list[int], list[float]]] = []
    for a, b, c in ((index[:, :-2], index[:, 1:-1], index[:, 2:]), (index[:-2], index[1:-1], index[2:])):
        rows += [([int(i), int(j), int(k)], [1, -2, 1]) for i, j, k in zip(a.ravel(), b.ravel(), c.ravel(), strict=True)]
    corners = (index[:-1, :-1], index[:-1, 1:], index[1:, :-1], index[1:, 1:])
    for four in zip(*(c.ravel() for c in corners), strict=True):
        rows.append(([int(i) for i in four], [1.4, -1.4, -1.4, 1.4]))
    cost = np.zeros((len(rows), wide * high))
    for n, (which, values) in enumerate(rows):
        cost[n, which] = values
    return np.asarray(cost.T @ cost)


@numba.njit(cache=True)  # type: ignore[misc]
def _gather(knots: NDArray[np.int64], shares: F64, slopes: F64, off: F64, weight: F64, normal: F64, right: F64) -> None:
    """Normal equations of the knots' movement from every pixel's slope and difference."""
    for p in range(len(off)):
        w = weight[p]
        if w <= 0:
            continue
        gx, gy = slopes[p, 0], slopes[p, 1]
        for m in range(4):
            a = 2 * knots[p, m]
            s = shares[p, m] * w
            right[a] -= s * gx * off[p]
            right[a + 1] -= s * gy * off[p]
            for n in range(4):
                b = 2 * knots[p, n]
                t = s * shares[p, n]
                normal[a, b] += t * gx * gx
                normal[a, b + 1] += t * gx * gy
                normal[a + 1, b] += t * gx * gy
                normal[a + 1, b + 1] += t * gy * gy


@numba.njit(cache=True)  # type: ignore[misc]
def _shared(knots: NDArray[np.int64], shares: F64, moved: F64) -> F64:
    """What places (n,) have of the movement of the knots round them, (n, 2)."""
    out = np.zeros((len(knots), 2))
    for p in range(len(knots)):
        for m in range(4):
            out[p, 0] += shares[p, m] * moved[knots[p, m], 0]
            out[p, 1] += shares[p, m] * moved[knots[p, m], 1]
    return out


@numba.njit(cache=True)  # type: ignore[misc]
def _looked_up(picture: F32, at: F64) -> F64:
    """A picture (h, w, c) at places (n, 2) between its pixels; its rim goes on."""
    h, w, channels = picture.shape
    out = np.empty((len(at), channels))
    for p in range(len(at)):
        x, y = min(max(at[p, 0] - 0.5, 0.0), w - 1.0), min(max(at[p, 1] - 0.5, 0.0), h - 1.0)
        i, j = min(int(x), w - 2), min(int(y), h - 2)
        u, v = x - i, y - j
        for c in range(channels):
            top = picture[j, i, c] * (1 - u) + picture[j, i + 1, c] * u
            low = picture[j + 1, i, c] * (1 - u) + picture[j + 1, i + 1, c] * u
            out[p, c] = top * (1 - v) + low * v
    return out
