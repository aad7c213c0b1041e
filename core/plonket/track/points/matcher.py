"""Sub-pixel matching of a small pattern, compiled.

The pattern is aligned by inverse-compositional Gauss-Newton steps (S. Baker and I. Matthews, 2004,
doi:10.1023/B:VISI.0000011205.11775.fd, section 2.2). Light gain and offset are projected out, and
pixels that disagree (a passing hand) are weighted down. Positions here are array indices.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numba
import numpy as np

from plonket.base.conventions import F32, F64, U8
from plonket.base.cubic import cubic_weights

SHIFT, SIMILAR, AFFINE, PERSPECTIVE = 0, 1, 2, 3
DOF = {"shift": SHIFT, "similar": SIMILAR, "affine": AFFINE, "perspective": PERSPECTIVE}
_COLUMNS = (2, 4, 6, 8)
SMOOTHING_PX = 0.6
"""Gaussian SD applied to pictures before matching: takes the aliasing out that biases sub-pixel steps."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Pattern:
    """A detail to look for.

    Attributes
    ----------
    patch : (n, n) float32, zero mean over the weights, unit weighted energy. weight : (n, n).
    steepest : (n*n, 8) float64, steepest-descent images for the perspective warp.
    energy : weighted gradient energy per pixel before normalising, in code values squared.
    spread : weighted SD of the patch before normalising, in code values.
    """

    patch: F32
    weight: F32
    steepest: F64
    energy: float
    spread: float
    half: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Match:
    """Where a pattern was found.

    Attributes
    ----------
    warp : (3, 3) from pattern offsets (pixels from its centre) to array indices.
    ncc_inliers : normalised correlation in [-1, 1] of the pixels that agree. ncc_all : the same over all
        pixels, whether they agree or not. inlier_share : share of the pattern's weight on
        pixels that agree. gain : contrast relative to the pattern. steps : iterations used.
    """

    warp: F64
    ncc_inliers: float
    ncc_all: float
    inlier_share: float
    gain: float
    steps: int

    @property
    def centre(self) -> F64:
        return self.warp[:2, 2]

    @property
    def linear(self) -> F64:
        """(2, 2): turn, size and skew at the centre."""
        return self.warp[:2, :2] - np.outer(self.warp[:2, 2], self.warp[2, :2])


def prepare(luma: np.ndarray) -> F32:
    """A picture or a window of it (8-bit) as the matcher wants it."""
    return np.asarray(cv2.GaussianBlur(luma.astype(np.float32), (0, 0), SMOOTHING_PX), np.float32)


def cut_pattern(picture: F32, centre: F64, half: int, linear: F64 | None = None) -> Pattern:
    """Cut the pattern of (2*half+1) pixels a side round `centre` (array index) from a prepared picture."""
    n = 2 * half + 1
    warp = np.zeros((2, 3))
    warp[:, :2] = np.eye(2) if linear is None else linear
    warp[:, 2] = centre
    patch, grad_x, grad_y = _sample_with_gradient(picture, warp, half)
    offsets = np.arange(-half, half + 1, dtype=np.float64)
    u, v = np.meshgrid(offsets, offsets)
    r2 = (u * u + v * v) / (half + 0.5) ** 2
    weight = np.clip(1.25 - r2, 0.0, 1.0)  # round, with a soft edge: the ring that the creator sees
    total = weight.sum()
    mean = float((weight * patch).sum() / total)
    spread = float(np.sqrt((weight * (patch - mean) ** 2).sum() / total))
    scale = max(spread, 1e-3)
    gx, gy = grad_x / scale, grad_y / scale
    along = gx * u + gy * v
    columns = [gx, gy, along, gy * u - gx * v, gx * v, gy * v, -u * along, -v * along]
    steepest = np.stack(columns, axis=-1).reshape(n * n, 8)
    energy = float((weight * (grad_x**2 + grad_y**2)).sum() / total)
    return Pattern(
        patch=((patch - mean) / scale).astype(np.float32), weight=weight.astype(np.float32),
        steepest=np.ascontiguousarray(steepest), energy=energy, spread=spread, half=half,
    )  # fmt: skip


def refine(picture: F32, pattern: Pattern, warp: F64, dof: int, steps: int = 24) -> Match:
    """Align a pattern near `warp` (3, 3) in a prepared picture, to convergence."""
    out = warp.astype(np.float64) / warp[2, 2]
    ncc_inliers, ncc_all, inlier_share, gain, used = _refine(
        picture, pattern.patch, pattern.weight, pattern.steepest, out, _COLUMNS[dof], dof, steps
    )
    return Match(
        warp=out, ncc_inliers=ncc_inliers, ncc_all=ncc_all, inlier_share=inlier_share, gain=gain / max(pattern.spread, 1e-3),
        steps=used,
    )  # fmt: skip


def search(picture: F32, pattern_patch: F32, around: F64, reach: float, most: int = 3) -> list[tuple[F64, float]]:
    """Likely whole-pixel places (2,) of a patch within `reach` of `around`, best first.

    Works at half resolution, which is enough to start `refine` from.
    """
    n = pattern_patch.shape[0]
    half = n // 2
    step = 2 if n >= 13 else 1
    h, w = picture.shape
    x0 = max(0, int(np.floor(around[0] - reach)) - half)
    y0 = max(0, int(np.floor(around[1] - reach)) - half)
    x1 = min(w, int(np.ceil(around[0] + reach)) + half + 1)
    y1 = min(h, int(np.ceil(around[1] + reach)) + half + 1)
    window, patch = picture[y0:y1, x0:x1], pattern_patch
    if step == 2:
        window = window[: window.shape[0] // 2 * 2, : window.shape[1] // 2 * 2]
        if min(window.shape) < 2:
            return []
        window = cv2.resize(window, (window.shape[1] // 2, window.shape[0] // 2), interpolation=cv2.INTER_AREA)
        even = patch[: n // 2 * 2, : n // 2 * 2]
        patch = cv2.resize(even, (n // 2, n // 2), interpolation=cv2.INTER_AREA)
    if window.shape[0] < patch.shape[0] or window.shape[1] < patch.shape[1]:
        return []
    score = cv2.matchTemplate(np.ascontiguousarray(window), np.ascontiguousarray(patch), cv2.TM_CCOEFF_NORMED)
    score = np.nan_to_num(score, nan=-1.0, posinf=-1.0, neginf=-1.0)
    found: list[tuple[F64, float]] = []
    clear = max(1, patch.shape[0] // 3)
    for _ in range(most):
        iy, ix = np.unravel_index(int(np.argmax(score)), score.shape)
        best = float(score[iy, ix])
        if best < 0.2:
            break
        top_left = np.array([ix * step + x0, iy * step + y0], dtype=np.float64)
        # An even cut of an odd patch has its centre half a pixel before the patch's own.
        found.append((top_left + half, best))
        score[max(0, iy - clear) : iy + clear + 1, max(0, ix - clear) : ix + clear + 1] = -1
    return found


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _at(picture: F32, x: float, y: float, wx: F64, wy: F64) -> float:
    """Catmull-Rom sample; the border is repeated."""
    h, w = picture.shape
    ix, iy = int(np.floor(x)), int(np.floor(y))
    cubic_weights(x - ix, wx)
    cubic_weights(y - iy, wy)
    out = 0.0
    for j in range(4):
        yy = min(max(iy + j - 1, 0), h - 1)
        for i in range(4):
            xx = min(max(ix + i - 1, 0), w - 1)
            out += wx[i] * wy[j] * picture[yy, xx]
    return out


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _sample_with_gradient(picture: F32, warp: F64, half: int) -> tuple[F64, F64, F64]:
    n = 2 * half + 1
    wx, wy = np.empty(4), np.empty(4)
    big = np.empty((n + 2, n + 2))
    for j in range(n + 2):
        for i in range(n + 2):
            u, v = float(i - half - 1), float(j - half - 1)
            x = warp[0, 0] * u + warp[0, 1] * v + warp[0, 2]
            y = warp[1, 0] * u + warp[1, 1] * v + warp[1, 2]
            big[j, i] = _at(picture, x, y, wx, wy)
    gx = 0.5 * (big[1:-1, 2:] - big[1:-1, :-2])
    gy = 0.5 * (big[2:, 1:-1] - big[:-2, 1:-1])
    return big[1:-1, 1:-1].copy(), gx, gy


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _plain_likeness(patch: F32, weight: F32, seen: F64, visible: U8) -> float:
    """Weighted normalised correlation over all of the pattern that lies in the picture."""
    n = patch.shape[0]
    sw = sp = si = spp = sii = spi = 0.0
    for j in range(n):
        for i in range(n):
            q, p, s = weight[j, i] * visible[j * n + i], patch[j, i], seen[j * n + i]
            sw += q
            sp += q * p
            si += q * s
            spp += q * p * p
            sii += q * s * s
            spi += q * p * s
    vp, vi, cov = spp / sw - (sp / sw) ** 2, sii / sw - (si / sw) ** 2, spi / sw - sp / sw * si / sw
    return cov / np.sqrt(max(vp * vi, 1e-12))


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _refine(picture: F32, patch: F32, weight: F32, steepest: F64, warp: F64, columns: int, dof: int,
            steps: int) -> tuple[float, float, float, float, int]:  # fmt: skip
    """Move `warp` (3, 3) to where the pattern (n, n) lies, in place.

    Returns ncc_inliers, ncc_all, inlier_share, gain, and how many steps were taken; -1 likeness where too little is seen.
    """
    n = patch.shape[0]
    half = n // 2
    seen, robust, visible = np.empty(n * n), np.ones(n * n), np.ones(n * n, np.uint8)
    basis = np.empty((n * n, columns))
    used = 0
    ncc_inliers = ncc_all = inlier_share = gain = 0.0
    for step in range(steps + 1):
        inside, total = _sample(picture, weight, warp, seen, robust, visible)
        if inside < 0.45 * total:
            return -1.0, -1.0, 0.0, 0.0, used
        ncc_all = _plain_likeness(patch, weight, seen, visible)
        for again in range(2):
            sw, mp, mi, vp, ncc_inliers, gain = _light(patch, weight, robust, seen)
            if sw < 1e-6:
                return -1.0, -1.0, 0.0, 0.0, used
            if gain <= 1e-6 or again == 1 or step < 2:
                break
            inlier_share = _weigh(patch, weight, seen, mp, mi, gain, total, robust)
        if gain <= 1e-6 or step == steps:
            return ncc_inliers, ncc_all, inlier_share, gain, used
        _columns(steepest, patch, weight, robust, sw, mp, vp, dof, basis)
        delta = _solve(patch, weight, robust, seen, mp, mi, gain, basis)
        step_warp = _step(delta, columns)
        det = step_warp[0, 0] * step_warp[1, 1] - step_warp[0, 1] * step_warp[1, 0]
        lean = half * (abs(step_warp[2, 0]) + abs(step_warp[2, 1]))
        if not (0.2 < det < 5.0) or lean > 0.5:
            return ncc_inliers, ncc_all, 0.0, gain, used
        # warp <- warp o inverse(step)
        composed = warp @ np.linalg.inv(step_warp)
        for a in range(3):
            for b in range(3):
                warp[a, b] = composed[a, b] / composed[2, 2]
        used = step + 1
        grown = abs(step_warp[0, 0] - 1) + abs(step_warp[1, 1] - 1) + abs(step_warp[0, 1]) + abs(step_warp[1, 0])
        moved = abs(delta[0]) + abs(delta[1]) + half * grown + half * lean
        if moved < 0.002 and step >= 3:
            # One last pass measures likeness at the final place.
            steps = step + 1
    return ncc_inliers, ncc_all, inlier_share, gain, used


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _sample(picture: F32, weight: F32, warp: F64, seen: F64, robust: F64, visible: U8) -> tuple[float, float]:
    """What the picture shows of each pixel of the pattern, into `seen`; the weight of those inside it, and of all."""
    n = weight.shape[0]
    half = n // 2
    h, w = picture.shape
    wx, wy = np.empty(4), np.empty(4)
    k = 0
    inside = total = 0.0
    for j in range(n):
        for i in range(n):
            u, v = float(i - half), float(j - half)
            d = max(warp[2, 0] * u + warp[2, 1] * v + 1.0, 0.05)
            x = (warp[0, 0] * u + warp[0, 1] * v + warp[0, 2]) / d
            y = (warp[1, 0] * u + warp[1, 1] * v + warp[1, 2]) / d
            seen[k] = _at(picture, x, y, wx, wy)
            total += weight[j, i]
            if -0.5 <= x <= w - 0.5 and -0.5 <= y <= h - 0.5:
                inside += weight[j, i]
                visible[k] = 1
            else:
                robust[k] = 0.0
                visible[k] = 0
            k += 1
    return inside, total


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _light(patch: F32, weight: F32, robust: F64, seen: F64) -> tuple[float, float, float, float, float, float]:
    """Gain and offset by weighted least squares: sum of weights, means of pattern and picture, the pattern's variance, their
    correlation, gain."""
    n = patch.shape[0]
    sw = sp = si = spp = sii = spi = 0.0
    k = 0
    for j in range(n):
        for i in range(n):
            q = weight[j, i] * robust[k]
            p, s = patch[j, i], seen[k]
            sw += q
            sp += q * p
            si += q * s
            spp += q * p * p
            sii += q * s * s
            spi += q * p * s
            k += 1
    safe = max(sw, 1e-12)
    mp, mi = sp / safe, si / safe
    vp, vi, cov = spp / safe - mp * mp, sii / safe - mi * mi, spi / safe - mp * mi
    return sw, mp, mi, vp, cov / np.sqrt(max(vp * vi, 1e-12)), cov / max(vp, 1e-9)


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _weigh(patch: F32, weight: F32, seen: F64, mp: float, mi: float, gain: float, total: float, robust: F64) -> float:
    """Tukey-like weights on the residual, in units of the pattern's own spread, into `robust`; the share that agrees."""
    n = patch.shape[0]
    scale = 0.0
    k = 0
    for j in range(n):
        for i in range(n):
            e = (seen[k] - mi) / gain - (patch[j, i] - mp)
            scale += weight[j, i] * min(abs(e), 1.0)
            k += 1
    limit = max(4.0 * 1.25 * scale / total, 0.35)
    k = 0
    good = 0.0
    for j in range(n):
        for i in range(n):
            e = ((seen[k] - mi) / gain - (patch[j, i] - mp)) / limit
            robust[k] = (1.0 - e * e) ** 2 if abs(e) < 1.0 else 0.0
            if abs(e) < 0.6:
                good += weight[j, i]
            k += 1
    return good / total


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _columns(
    steepest: F64, patch: F32, weight: F32, robust: F64, sw: float, mp: float, vp: float, dof: int, basis: F64
) -> None:
    """The steepest-descent images with pattern and constant projected out, into `basis` (pixels, columns)."""
    n = patch.shape[0]
    for c in range(basis.shape[1]):
        m0 = m1 = 0.0
        k = 0
        for j in range(n):
            for i in range(n):
                q = weight[j, i] * robust[k]
                value = _column(steepest, k, c, dof)
                m0 += q * value
                m1 += q * value * (patch[j, i] - mp)
                k += 1
        m0 /= sw
        m1 /= max(vp * sw, 1e-9)
        k = 0
        for j in range(n):
            for i in range(n):
                basis[k, c] = _column(steepest, k, c, dof) - m0 - m1 * (patch[j, i] - mp)
                k += 1


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _solve(patch: F32, weight: F32, robust: F64, seen: F64, mp: float, mi: float, gain: float, basis: F64) -> F64:
    """(columns,) the Gauss-Newton step."""
    n = patch.shape[0]
    columns = basis.shape[1]
    hessian = np.zeros((columns, columns))
    right = np.zeros(columns)
    k = 0
    for j in range(n):
        for i in range(n):
            q = weight[j, i] * robust[k]
            e = (seen[k] - mi) / gain - (patch[j, i] - mp)
            for a in range(columns):
                right[a] += q * basis[k, a] * e
                for b in range(a, columns):
                    hessian[a, b] += q * basis[k, a] * basis[k, b]
            k += 1
    for a in range(columns):
        for b in range(a):
            hessian[a, b] = hessian[b, a]
        hessian[a, a] *= 1.0 + 1e-6
        hessian[a, a] += 1e-9
    return np.linalg.solve(hessian, right)  # type: ignore[return-value]


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _step(delta: F64, columns: int) -> F64:
    """(3, 3) the warp that a step stands for."""
    out = np.eye(3)
    out[0, 2], out[1, 2] = delta[0], delta[1]
    if columns == 4:
        out[0, 0] += delta[2]
        out[1, 1] += delta[2]
        out[1, 0] += delta[3]
        out[0, 1] -= delta[3]
    elif columns >= 6:
        out[0, 0] += delta[2]
        out[1, 0] += delta[3]
        out[0, 1] += delta[4]
        out[1, 1] += delta[5]
    if columns == 8:
        out[2, 0], out[2, 1] = delta[6], delta[7]
    return out


@numba.njit(cache=True, fastmath=True, inline="always", error_model="numpy")  # type: ignore[misc]
def _column(steepest: F64, k: int, c: int, dof: int) -> float:
    """Columns: x, y, then (size, turn), or the affine (xx, yx, xy, yy) and the two of perspective."""
    if c < 2 or c > 5:
        return steepest[k, c]
    # Stored: 2 = gx u + gy v, 3 = gy u - gx v, 4 = gx v, 5 = gy v.
    if dof == 1:
        return steepest[k, c]
    if c == 2:
        return steepest[k, 2] - steepest[k, 5]
    if c == 3:
        return steepest[k, 3] + steepest[k, 4]
    return steepest[k, c]
