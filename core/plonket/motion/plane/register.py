"""Direct registration of a region, coarse to fine, compiled.

The reference's pixels are aligned with a frame by inverse-compositional Gauss-Newton steps on the
homography (S. Baker and I. Matthews, 2004, doi:10.1023/B:VISI.0000011205.11775.fd, section 2.2),
with light gain, offset and slope solved along with it, and Tukey weights on the residual (P. Huber
and E. Ronchetti, Robust Statistics, 2009, section 4.8) that fall for whole tiles at once.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import cv2
import numba
import numpy as np

from plonket.conventions import F32, F64, U8
from plonket.motion.plane.settings import FREEDOMS
from plonket.motion.plane.template import BLURS_PX, SMOOTHING_PX, TILES, Level, Template

WARP, LIGHT = 8, 4
ROWS = WARP + LIGHT
CORRELATED = 12.0
"""Smoothing, codecs and texture make neighbours' noise alike: so many pixels count as one against the prediction."""
TUKEY = 4.2
LOW_QUANTILE, LOW_SCALE = 0.35, 2.204
"""This quantile of a normal residual's size, times the scale, is its SD."""
GIVE_PX = 0.12
"""Detail may be off by so much (SD, in pixels of the level) and still agree: edges never match to the last bit."""
TRUE_PER_ESTIMATE = 1.7
"""Errors against truth, over what the tiles' spread says: neighbouring tiles are not quite independent."""
_PARTS = np.array([  # shift x, y; turn; size; skew twice; perspective twice, as combinations of the warp's parameters
    [0, 0, 0, 0, 1, 0, 0, 0], [0, 0, 0, 0, 0, 1, 0, 0], [0, 1, -1, 0, 0, 0, 0, 0], [1, 0, 0, 1, 0, 0, 0, 0],
    [1, 0, 0, -1, 0, 0, 0, 0], [0, 1, 1, 0, 0, 0, 0, 0], [0, 0, 0, 0, 0, 0, 1, 0], [0, 0, 0, 0, 0, 0, 0, 1],
], np.float64) / np.array([1, 1, 2, 2, 2, 2, 1, 1])[:, None]  # fmt: skip
_USUAL = np.array([0.08, 0.08, 0.015, 0.012, 0.004, 0.004, 0.0025, 0.0025])
"""How far a surface's movement usually departs from the predicted one, part by part (SD, normalised units)."""
PRIOR = _PARTS.T @ np.diag(1 / _USUAL**2) @ _PARTS
"""(8, 8): the same as information on the warp's parameters."""
_BLOCKS = 16


@dataclass(frozen=True, slots=True, kw_only=True)
class Found:
    """Where a region was found in a frame.

    Attributes
    ----------
    homography : (3, 3) reference pixels to frame pixels. likeness : correlation of the pixels that agree.
    plain : the same over all visible pixels. coverage : share of the detail seen that agrees.
    inside : share of the detail that lies in the frame and is not ignored.
    error_px : expected error of the region's corners. variance : of the residual, code values squared.
    light : (4,) gain, offset and slopes relative to the reference.
    freedom : index into FREEDOMS. blur : index into BLURS_PX. tiles : (TILES**2,) agreement per tile.
    """

    homography: F64
    likeness: float
    plain: float
    coverage: float
    inside: float
    error_px: float
    variance: float
    light: F64
    freedom: int
    blur: int
    tiles: F64


@lru_cache(maxsize=8)
def _basis(freedom: int) -> F64:
    """(8, k): which combinations of the eight warp parameters a freedom allows."""
    eye = np.eye(WARP)
    if FREEDOMS[freedom] == "translation":
        return eye[:, 4:6]
    if FREEDOMS[freedom] == "similarity":
        return np.stack([eye[:, 0] + eye[:, 3], eye[:, 1] - eye[:, 2], eye[:, 4], eye[:, 5]], axis=1)
    return eye[:, :6] if FREEDOMS[freedom] == "affine" else eye


class FrameLevels:
    """A frame's grey picture at the scales needed, prepared on demand within a window."""

    def __init__(self, luma: U8, window: tuple[int, int, int, int], ignore: U8 | None) -> None:
        h, w = luma.shape
        size = 32  # whole pixels at the coarsest level
        self.x0, self.y0 = max(0, window[0]) // size * size, max(0, window[1]) // size * size
        self.x1, self.y1 = min(w, -(-window[2] // size) * size), min(h, -(-window[3] // size) * size)
        self.x1, self.y1 = max(self.x1, min(w, self.x0 + size)), max(self.y1, min(h, self.y0 + size))
        self._cut = luma[self.y0 : self.y1, self.x0 : self.x1]
        self._ignore = None if ignore is None else ignore[self.y0 : self.y1, self.x0 : self.x1]
        self._made: dict[tuple[int, int], F32] = {}

    def at(self, k: int, stretch: float) -> F32:
        """Level `k`, smoothed for a surface that is seen `stretch` times as large as in the reference."""
        step = int(np.clip(np.round(np.log2(max(stretch, 1.0)) * 4), 0, 12))
        if (k, step) not in self._made:
            size = 2**k
            cut = self._cut[: self._cut.shape[0] // size * size, : self._cut.shape[1] // size * size].astype(np.float32)
            if k:
                cut = cv2.resize(cut, (cut.shape[1] // size, cut.shape[0] // size), interpolation=cv2.INTER_AREA)
            grown = 2.0 ** (step / 4)
            # A larger view also averages less per reference pixel: its square pixel (SD 0.29) is made up for.
            sigma = float(np.sqrt((SMOOTHING_PX * grown) ** 2 + (grown**2 - 1) / 12))
            self._made[(k, step)] = np.asarray(cv2.GaussianBlur(cut, (0, 0), sigma), np.float32)
        return self._made[(k, step)]

    def ignored(self) -> U8:
        return np.zeros((1, 1), np.uint8) if self._ignore is None else np.ascontiguousarray(self._ignore)


def register(
    template: Template,
    frame: FrameLevels,
    start: F64,
    *,
    freedom: int,
    blur: int = 0,
    tiles: F64 | None = None,
    slopes: bool = True,
    light: F64 | None = None,
    most_scale: float = 1e3,
    tightness: float = 1.0,
    finest: int = 0,
    coarsest: int | None = None,
) -> Found:
    """Align the template with a frame from the homography `start` (reference to frame pixels).

    Parameters
    ----------
    freedom : index into FREEDOMS, the most that may change. blur : where the search for the blur starts.
    tiles : (TILES**2,) weights to start with, from the frame before. slopes : also solve slopes of light.
    light : (4,) gain, offset and slopes of the frame before. most_scale : the most that the residual's SD can be,
        code values, known from the frames before. tightness : how much the prediction is trusted, from 0.
    finest, coarsest : levels used.
    """
    run = _Run(template, frame, start, tiles, slopes, light, most_scale, tightness)
    top = len(template.levels) - 1 if coarsest is None else min(coarsest, len(template.levels) - 1)
    last = finest
    for k in range(top, finest - 1, -1):
        last = k
        level = template.levels[k]
        allowed = min(freedom, 1 if len(level.uv) < 500 else 2 if len(level.uv) < 1200 and k else freedom)
        if k <= max(finest, 1):
            blur = run.best_blur(k, blur)
        run.align(level, k, allowed, blur, steps=14 if k == top else 8)
        if k <= finest or k <= run.finest_useful():
            chosen = run.best_blur(k, blur)
            if chosen != blur:
                blur = chosen
                run.align(level, k, allowed, blur, steps=5)
        if k <= run.finest_useful():
            break
    return run.result(template.levels[last], last, freedom, blur)


class _Run:
    """One registration: the homography as it stands, and the weights of the pixels."""

    def __init__(self, template: Template, frame: FrameLevels, start: F64, tiles: F64 | None, slopes: bool,
                 light: F64 | None, most_scale: float, tightness: float) -> None:  # fmt: skip
        self.tightness = tightness
        self.template, self.frame, self.slopes, self.most_scale = template, frame, slopes, most_scale
        self.light_now = np.array([1.0, 0, 0, 0]) if light is None else light.copy()
        self.norm = template.pixels_from_norm
        self.start = start @ self.norm  # normalised places to frame pixels
        self.start = self.start / self.start[2, 2]
        self.h = self.start.copy()
        self.tiles = np.ones(TILES * TILES) if tiles is None else tiles.copy()
        self.corners: F64 = _through(np.asarray(np.linalg.inv(self.norm), np.float64), template.hull)

    def index_from_norm(self, k: int) -> F64:
        """Normalised places to array indices of the frame's level `k`."""
        scale = 2.0**-k
        shift = np.array([[scale, 0, -self.frame.x0 * scale - 0.5], [0, scale, -self.frame.y0 * scale - 0.5], [0, 0, 1]])
        return np.asarray(shift @ self.h)

    def stretch(self) -> float:
        """How much larger the surface is seen than in the reference."""
        jacobian = self.h[:2, :2] - np.outer(self.h[:2, 2], self.h[2, :2])
        return float(np.sqrt(abs(np.linalg.det(jacobian)))) / float(self.norm[0, 0])

    def weights(self, level: Level) -> F32:
        """What the pixels weigh to begin with: as much as their tiles did in the frame before."""
        return self.tiles[level.tile].astype(np.float32)

    def finest_useful(self) -> int:
        """The reference's level beyond which the frame shows nothing more: it sees the surface smaller."""
        return max(0, int(np.round(-np.log2(max(self.stretch(), 1e-3)))))

    def sums(self, level: Level, k: int, blur: int, weights: F32, *, smooth: bool, last: bool = False,
             use_light: bool = False) -> _Sums:  # fmt: skip
        # The frame's level whose pixels are about as large on the surface as those of the reference's.
        grown = self.stretch()
        match = int(np.clip(k + np.round(np.log2(max(grown, 1e-3))), 0, 5))
        picture = self.frame.at(match, grown * 2.0 ** (k - match))
        return _Sums(*_accumulate(
            picture, self.frame.ignored(), 2.0**match, self.index_from_norm(match), level.uv, level.tile,
            level.values[blur], level.grad[blur], weights, self.tiles,
            self.light_now, use_light, smooth, self.slopes, last, self.most_scale if k <= 1 else 1e3,
            1 / (float(self.norm[0, 0]) * level.scale),
        ))  # fmt: skip

    def align(self, level: Level, k: int, freedom: int, blur: int, *, steps: int) -> None:
        """Gauss-Newton steps until the corners stand still; a step that makes it worse is shortened."""
        basis = _basis(freedom)
        fine = k == 0
        s = self.sums(level, k, blur, self.weights(level), smooth=fine, use_light=True)
        for step in range(steps):
            if s.seen < 40 or s.gain <= 1e-3:
                return
            delta = _solve(s.normal, s.right, basis, self._strain(), s.variance, self.tightness)
            kept, moved = self.h.copy(), 0.0
            for _ in range(4):
                moved = self._apply(delta)
                nxt = self.sums(level, k, blur, s.weights, smooth=fine)
                if nxt.misfit <= 1.03 * s.misfit + 0.02:
                    break
                self.h, delta = kept.copy(), delta / 2
            else:
                return
            s = nxt
            self.light_now = s.light
            if moved * 2.0**-k < (0.006 if fine else 0.04) and step >= 1:
                break

    def _strain(self) -> F64:
        """The warp (8,) that leads from the predicted place to where it stands now."""
        m = np.linalg.inv(self.start) @ self.h
        m = m / m[2, 2]
        return np.array([m[0, 0] - 1, m[1, 0], m[0, 1], m[1, 1] - 1, m[0, 2], m[1, 2], m[2, 0], m[2, 1]])

    def _apply(self, delta: F64) -> float:
        """Compose the inverse of a warp step; returns how far corners moved, in frame pixels."""
        before = _through(self.h, self.corners)
        limited = np.clip(delta, -0.25, 0.25)
        candidate = self.h @ np.linalg.inv(_warp(limited))
        candidate = candidate / candidate[2, 2]
        after = _through(candidate, self.corners)
        if not np.isfinite(after).all():
            return 0.0
        self.h = candidate
        return float(np.abs(after - before).max())

    def best_blur(self, k: int, blur: int) -> int:
        """The reference's blur that explains the frame best, near `blur`, where it stands now."""
        part = self.template.thin[k]
        costs: dict[int, float] = {}

        def cost(b: int) -> float:
            if b not in costs:
                costs[b] = self.sums(part, k, b, self.weights(part), smooth=False, use_light=True).misfit
            return costs[b]

        best = blur
        while True:
            near = [b for b in (best - 1, best, best + 1) if 0 <= b < len(BLURS_PX)]
            winner = min(near, key=cost)
            # One blur is only left for a clearly better one: noise must not decide.
            if winner == best or cost(winner) > 0.97 * cost(best):
                return best
            best = winner

    def result(self, level: Level, k: int, freedom: int, blur: int) -> Found:
        s = self.sums(level, k, blur, self.weights(level), smooth=True, use_light=True)
        s = self.sums(level, k, blur, s.weights, smooth=True, last=True)
        errors = self._errors(s, level, blur, freedom)
        return Found(
            homography=self.h @ np.linalg.inv(self.norm) / (self.h @ np.linalg.inv(self.norm))[2, 2],
            likeness=s.likeness, plain=s.plain, coverage=s.coverage, inside=s.inside, error_px=errors,
            variance=s.variance, light=s.light,
            freedom=freedom, blur=blur, tiles=s.tiles,
        )  # fmt: skip

    def _errors(self, s: _Sums, level: Level, blur: int, freedom: int) -> float:
        """Expected corner error in frame pixels.

        From the spread of what the tiles ask for, each on its own: noise that is alike within a tile (a
        codec's, a texture's) counts once (H. White, 1980, doi:10.2307/1912934, clustered by tile).
        """
        basis = _basis(freedom)
        k = basis.shape[1]
        # Light is known well: what it shares with the warp is taken out first.
        light = s.normal[:WARP, WARP:] @ np.linalg.pinv(s.normal[WARP:, WARP:])
        known = s.normal[:WARP, :WARP] - light @ s.normal[WARP:, :WARP]
        known = basis.T @ (known - s.gain**2 * level.idle[blur] * _isotropic(level.uv, s.weights)) @ basis
        sizes, axes = np.linalg.eigh(known)
        inverse = axes @ np.diag(1 / np.maximum(sizes, 1e-7 * max(float(sizes[-1]), 1e-9))) @ axes.T
        asked = (s.asked[:, :WARP] - s.asked[:, WARP:] @ light.T) @ basis
        asked = asked[np.abs(asked).max(axis=1) > 0]
        count = len(asked)
        if count <= k + 1:
            return 99.0
        clustered = inverse @ (asked.T @ asked) @ inverse * (count / (count - k))
        white = inverse * s.variance
        jacobian = self._corner_jacobian()

        def corner(cov: F64) -> float:
            warp = basis @ cov @ basis.T
            return float(np.einsum("cij,jk,cik->", jacobian, warp, jacobian)) / len(jacobian)

        return TRUE_PER_ESTIMATE * float(np.sqrt(max(corner(clustered), corner(white), 0.0)))

    def _corner_jacobian(self) -> F64:
        """(4, 2, 8): how the corners move in frame pixels with the warp parameters."""
        out = np.empty((4, 2, WARP))
        base = _through(self.h, self.corners)
        for p in range(WARP):
            step = np.zeros(WARP)
            step[p] = 1e-5
            out[:, :, p] = (_through(self.h @ np.linalg.inv(_warp(step)), self.corners) - base) / 1e-5
        return out


@dataclass(frozen=True, slots=True)
class _Sums:
    """What one look at all pixels gives; `asked` is each tile's share of the right-hand side."""

    normal: F64
    right: F64
    asked: F64
    weights: F32
    tiles: F64
    variance: float
    light: F64
    likeness: float
    plain: float
    coverage: float
    inside: float
    seen: int
    misfit: float

    @property
    def gain(self) -> float:
        return float(self.light[0])


def _solve(normal: F64, right: F64, basis: F64, strain: F64, variance: float, tightness: float) -> F64:
    """The warp step (8,) of damped normal equations, drawn towards the prediction where detail is weak."""
    k = basis.shape[1]
    full = np.zeros((WARP + LIGHT, k + LIGHT))
    full[:WARP, :k] = basis
    full[WARP:, k:] = np.eye(LIGHT)
    a, b = normal.copy(), right.copy()
    pull = variance * CORRELATED * tightness * PRIOR
    a[:WARP, :WARP] += pull
    b[:WARP] += pull @ strain
    small, rhs = full.T @ a @ full, full.T @ b
    small[range(len(small)), range(len(small))] *= 1 + 1e-7
    small[range(len(small)), range(len(small))] += 1e-9 * max(float(np.trace(small)), 1e-6)
    return np.asarray(basis @ np.linalg.solve(small, rhs)[:k])


def _isotropic(uv: F32, weights: F32) -> F64:
    """(8, 8): what slopes without direction would seem to tell about the warp."""
    u, v = uv[:, 0].astype(np.float64), uv[:, 1].astype(np.float64)
    nought, one = np.zeros_like(u), np.ones_like(u)
    across = np.stack([u, nought, v, nought, one, nought, -u * u, -u * v], axis=1)
    down = np.stack([nought, u, nought, v, nought, one, -u * v, -v * v], axis=1)
    w = weights.astype(np.float64)[:, None]
    return np.asarray(across.T @ (w * across) + down.T @ (w * down))


def _warp(p: F64) -> F64:
    return np.array([[1 + p[0], p[2], p[4]], [p[1], 1 + p[3], p[5]], [p[6], p[7], 1.0]])


def _through(m: F64, xy: F64) -> F64:
    out = np.hstack([xy, np.ones((len(xy), 1))]) @ m.T
    return np.asarray(out[:, :2] / np.where(np.abs(out[:, 2:]) > 1e-9, out[:, 2:], np.nan))


@numba.njit(cache=True, fastmath=True, inline="always", error_model="numpy")  # type: ignore[misc]
def _cubic(u: float, w: F32) -> None:
    w[0] = u * (-0.5 + u * (1.0 - 0.5 * u))
    w[1] = 1.0 + u * u * (-2.5 + 1.5 * u)
    w[2] = u * (0.5 + u * (2.0 - 1.5 * u))
    w[3] = u * u * (-0.5 + 0.5 * u)


@numba.njit(cache=True, fastmath=True, error_model="numpy", parallel=True)  # type: ignore[misc]
def _look(picture: F32, ignore: U8, size: float, m: F64, uv: F32, smooth: bool, seen: F32, inside: U8) -> None:
    """Sample the frame at every chosen pixel; `inside` tells which lie in the picture and are not ignored."""
    h, w = picture.shape
    ih, iw = ignore.shape
    n = uv.shape[0]
    for block in numba.prange(_BLOCKS):
        wx, wy = np.empty(4, np.float32), np.empty(4, np.float32)
        for i in range(block * n // _BLOCKS, (block + 1) * n // _BLOCKS):
            u, v = uv[i, 0], uv[i, 1]
            d = m[2, 0] * u + m[2, 1] * v + m[2, 2]
            inside[i] = 0
            seen[i] = 0
            if d < 1e-6:
                continue
            x = (m[0, 0] * u + m[0, 1] * v + m[0, 2]) / d
            y = (m[1, 0] * u + m[1, 1] * v + m[1, 2]) / d
            if not (0.5 <= x <= w - 1.5 and 0.5 <= y <= h - 1.5):
                continue
            ix, iy = int(x), int(y)
            if iw > 1:
                jx, jy = int((x + 0.5) * size), int((y + 0.5) * size)
                if ignore[min(max(jy, 0), ih - 1), min(max(jx, 0), iw - 1)] > 60:
                    continue
            inside[i] = 1
            fx, fy = np.float32(x - ix), np.float32(y - iy)
            if smooth and 1 <= ix < w - 2 and 1 <= iy < h - 2:
                _cubic(fx, wx)
                _cubic(fy, wy)
                total = np.float32(0)
                for j in range(4):
                    row = np.float32(0)
                    for c in range(4):
                        row += wx[c] * picture[iy + j - 1, ix + c - 1]
                    total += wy[j] * row
                seen[i] = total
            else:
                top = picture[iy, ix] * (1 - fx) + picture[iy, ix + 1] * fx
                low = picture[iy + 1, ix] * (1 - fx) + picture[iy + 1, ix + 1] * fx
                seen[i] = top * (1 - fy) + low * fy


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _light_of(values: F32, seen: F32, inside: U8, weights: F32, uv: F32, slopes: bool) -> F64:
    """Weighted least squares of seen = a value + b + c u + d v."""
    a = np.zeros((4, 4))
    r = np.zeros(4)
    for i in range(values.shape[0]):
        q = weights[i] * inside[i]
        if q <= 0:
            continue
        p, s, u, v = values[i], seen[i], uv[i, 0], uv[i, 1]
        a[0, 0] += q * p * p
        a[0, 1] += q * p
        a[1, 1] += q
        r[0] += q * p * s
        r[1] += q * s
        if slopes:
            a[0, 2] += q * p * u
            a[0, 3] += q * p * v
            a[1, 2] += q * u
            a[1, 3] += q * v
            a[2, 2] += q * u * u
            a[2, 3] += q * u * v
            a[3, 3] += q * v * v
            r[2] += q * u * s
            r[3] += q * v * s
    k = 4 if slopes else 2
    for p1 in range(k):
        for o in range(p1):
            a[p1, o] = a[o, p1]
        a[p1, p1] = a[p1, p1] * (1 + 1e-9) + 1e-9
    out = np.zeros(4)
    out[:k] = np.linalg.solve(a[:k, :k], r[:k])
    return out


@numba.njit(cache=True, fastmath=True, error_model="numpy", inline="always")  # type: ignore[misc]
def _jacobian(j: F32, u: float, v: float, gx: float, gy: float, value: float, slopes: bool) -> None:
    """One row: the eight warp parameters, then light gain, offset and slopes."""
    along = gx * u + gy * v
    j[0], j[1], j[2], j[3], j[4], j[5] = gx * u, gy * u, gx * v, gy * v, gx, gy
    j[6], j[7] = -u * along, -v * along
    j[8], j[9] = value, 1.0
    if slopes:
        j[10], j[11] = u, v


@numba.njit(cache=True, fastmath=True, error_model="numpy", parallel=True)  # type: ignore[misc]
def _normals(uv: F32, values: F32, grad: F32, residual: F32, weights: F32, gain: float, slopes: bool) -> tuple[F64, F64]:
    n = uv.shape[0]
    parts = np.zeros((_BLOCKS, ROWS, ROWS), np.float32)
    rights = np.zeros((_BLOCKS, ROWS), np.float32)
    scale = np.float32(gain)
    for block in numba.prange(_BLOCKS):
        j = np.zeros(ROWS, np.float32)
        sums = np.zeros((ROWS, ROWS), np.float32)
        mine = np.zeros(ROWS, np.float32)
        for i in range(block * n // _BLOCKS, (block + 1) * n // _BLOCKS):
            q = weights[i]
            if q <= 0:
                continue
            _jacobian(j, uv[i, 0], uv[i, 1], scale * grad[i, 0], scale * grad[i, 1], values[i], slopes)
            e = residual[i]
            for a in range(ROWS):
                w = q * j[a]
                mine[a] += w * e
                for b in range(ROWS):
                    sums[a, b] += w * j[b]
        parts[block] = sums
        rights[block] = mine
    normal = np.zeros((ROWS, ROWS))
    right = np.zeros(ROWS)
    for block in range(_BLOCKS):
        for a in range(ROWS):
            right[a] += rights[block, a]
            for b in range(ROWS):
                normal[a, b] += parts[block, a, b]
    return normal, right


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _asked(uv: F32, tile: np.ndarray, values: F32, grad: F32, residual: F32, weights: F32, gain: float,
           slopes: bool) -> F64:  # fmt: skip
    """(tiles, rows): each tile's own right-hand side."""
    out = np.zeros((TILES * TILES, ROWS))
    j = np.zeros(ROWS, np.float32)
    for i in range(uv.shape[0]):
        if weights[i] > 0:
            _jacobian(j, uv[i, 0], uv[i, 1], gain * grad[i, 0], gain * grad[i, 1], values[i], slopes)
            for a in range(ROWS):
                out[tile[i], a] += weights[i] * residual[i] * j[a]
    return out


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _correlation(values: F32, seen: F32, weights: F32, inside: U8, light: F64, uv: F32) -> float:
    """Weighted correlation of the reference with the frame, slopes of light taken off."""
    sw = sp = ss = spp = sss = sps = 0.0
    for i in range(values.shape[0]):
        if inside[i] == 0:
            continue
        q, p, s = weights[i], values[i], seen[i] - light[2] * uv[i, 0] - light[3] * uv[i, 1]
        sw += q
        sp += q * p
        ss += q * s
        spp += q * p * p
        sss += q * s * s
        sps += q * p * s
    if sw <= 0:
        return 0.0
    vp, vs, c = spp / sw - (sp / sw) ** 2, sss / sw - (ss / sw) ** 2, sps / sw - sp * ss / sw**2
    return c / np.sqrt(max(vp * vs, 1e-12))


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _weigh(values: F32, seen: F32, inside: U8, light: F64, uv: F32, tile: np.ndarray, start_tiles: F64, most_scale: float,
           grad: F32, per_px: float, residual: F32, out: F32, tiles: F64) -> float:  # fmt: skip
    """Residuals, and Tukey weights that fall for whole tiles; returns the mean weight."""
    n = values.shape[0]
    stride = max(1, n // 800)
    sizes = np.empty(n // stride + 1, np.float32)
    k = 0
    count = 0
    for i in range(n):
        out[i] = 0
        if inside[i]:
            residual[i] = seen[i] - light[0] * values[i] - light[1] - light[2] * uv[i, 0] - light[3] * uv[i, 1]
            count += 1
            if i % stride == 0:
                sizes[k] = abs(residual[i])
                k += 1
    if k < 8:
        return 0.0
    # A low quantile, not the median: it still tells the noise where more than half is covered.
    limit = TUKEY * min(max(LOW_SCALE * np.quantile(sizes[:k], LOW_QUANTILE), 0.6), most_scale)
    own = np.zeros(TILES * TILES)
    members = np.zeros(TILES * TILES)
    give = (TUKEY * GIVE_PX * per_px * light[0]) ** 2
    for i in range(n):
        if inside[i]:
            e = residual[i] * residual[i] / (limit * limit + give * (grad[i, 0] * grad[i, 0] + grad[i, 1] * grad[i, 1]))
            out[i] = (1 - e) ** 2 if e < 1 else 0.0
            own[tile[i]] += out[i]
            members[tile[i]] += 1
    for t in range(TILES * TILES):
        mean = own[t] / members[t] if members[t] > 0 else start_tiles[t]
        tiles[t] = min(max((mean - 0.35) / 0.35, 0.0), 1.0)
    total = 0.0
    for i in range(n):
        out[i] *= tiles[tile[i]]
        total += out[i]
    return total / count


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _accumulate(  # type: ignore[no-untyped-def]
                picture: F32, ignore: U8, size: float, m: F64, uv: F32, tile: np.ndarray, values: F32, grad: F32,
                weights: F32, start_tiles: F64, start_light: F64, use_light: bool, smooth: bool, slopes: bool, last: bool,
                most_scale: float, per_px: float):  # fmt: skip
    n = uv.shape[0]
    seen = np.empty(n, np.float32)
    inside = np.empty(n, np.uint8)
    _look(picture, ignore, size, m, uv, smooth, seen, inside)
    count = 0
    for i in range(n):
        count += inside[i]
    out = np.zeros(n, np.float32)
    residual = np.zeros(n, np.float32)
    tiles = np.zeros(TILES * TILES)
    if count < 40:
        return (np.zeros((ROWS, ROWS)), np.zeros(ROWS), np.zeros((1, ROWS)), out, tiles, 1.0, start_light, 0.0,
                 0.0, 0.0, count / n, count, 1e12)  # fmt: skip
    if use_light:
        # Begin with the light of the frame before: what has just come into the way must not bend it.
        mean = _weigh(values, seen, inside, start_light, uv, tile, start_tiles, most_scale, grad, per_px, residual, out, tiles)
        light = _light_of(values, seen, inside, out if mean > 0.25 else weights, uv, slopes)
    else:
        light = _light_of(values, seen, inside, weights, uv, slopes)
    mean = _weigh(values, seen, inside, light, uv, tile, start_tiles, most_scale, grad, per_px, residual, out, tiles)
    if mean < 0.2:
        _weigh(values, seen, inside, light, uv, tile, start_tiles, 1e6, grad, per_px, residual, out, tiles)
    agree = spent = misfit = held = detail = 0.0
    for i in range(n):
        if inside[i]:
            square = residual[i] * residual[i]
            energy = grad[i, 0] * grad[i, 0] + grad[i, 1] * grad[i, 1]
            agree += out[i]
            spent += out[i] * square
            held += out[i] * energy
            detail += energy
            misfit += start_tiles[tile[i]] * min(square, 900.0)
    likeness = plain = 0.0
    if last:
        likeness = _correlation(values, seen, out, inside, light, uv)
        plain = _correlation(values, seen, np.ones(n, np.float32), inside, light, uv)
    # Tukey weights make the weighted variance too small by about a third at this limit.
    variance = max(1.35 * spent / max(agree, 1e-9), 0.02)
    normal, right = _normals(uv, values, grad, residual, out, light[0], slopes)
    asked = np.zeros((1, ROWS))
    if last:
        asked = _asked(uv, tile, values, grad, residual, out, light[0], slopes)
    return (normal, right, asked, out, tiles, variance, light, likeness, plain, held / max(detail, 1e-9), count / n, count,
            misfit / count)
