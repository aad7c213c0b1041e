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
import numpy as np

from plonket.base.conventions import F32, F64, U8
from plonket.track.plane.kernels import LIGHT, WARP, accumulate
from plonket.track.plane.settings import FREEDOMS
from plonket.track.plane.template import BLURS_PX, SMOOTHING_PX, TILES, Level, Template

CORRELATED = 12.0
"""Smoothing, codecs and texture make neighbours' noise alike: so many pixels count as one against the prediction."""
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


@dataclass(frozen=True, slots=True, kw_only=True)
class Registration:
    """Where a region was found in a frame.

    Attributes
    ----------
    homography : (3, 3) reference pixels to frame pixels. ncc_inliers : correlation of the pixels that agree.
    ncc_all : the same over all visible pixels. coverage : share of the detail seen that agrees.
    inside : share of the detail that lies in the frame and is not ignored.
    error_px : expected error of the region's corners. variance : of the residual, code values squared.
    light : (4,) gain, offset and slopes relative to the reference.
    freedom : index into FREEDOMS. blur : index into BLURS_PX. tiles : (TILES**2,) agreement per tile.
    """

    homography: F64
    ncc_inliers: float
    ncc_all: float
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
        """Level `k`, (h / 2^k, w / 2^k), smoothed for a surface that is seen `stretch` times as large as in the reference."""
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
) -> Registration:
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
        return _Sums(*accumulate(
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

    def result(self, level: Level, k: int, freedom: int, blur: int) -> Registration:
        s = self.sums(level, k, blur, self.weights(level), smooth=True, last=True, use_light=True)
        errors = self._errors(s, level, blur, freedom)
        return Registration(
            homography=self.h @ np.linalg.inv(self.norm) / (self.h @ np.linalg.inv(self.norm))[2, 2],
            ncc_inliers=s.ncc_inliers, ncc_all=s.ncc_all, coverage=s.coverage, inside=s.inside, error_px=errors,
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
    ncc_inliers: float
    ncc_all: float
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
