"""The compiled inner loops of a plane's registration: sampling, light, robust weights, normal equations."""

from __future__ import annotations

import numba
import numpy as np

from plonket.base.conventions import F32, F64, U8
from plonket.base.cubic import cubic_weights
from plonket.track.plane.template import TILES

WARP, LIGHT = 8, 4
ROWS = WARP + LIGHT
TUKEY = 4.2
LOW_QUANTILE, LOW_SCALE = 0.35, 2.204
"""This quantile of a normal residual's size, times the scale, is its SD."""
GIVE_PX = 0.12
"""Detail may be off by so much (SD, in pixels of the level) and still agree: edges never match to the last bit."""
_BLOCK = 512


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _look(picture: F32, ignore: U8, size: float, m: F64, uv: F32, smooth: bool, seen: F32, inside: U8) -> int:
    """Sample the frame at the chosen pixels; `inside` tells which lie in the picture and are not ignored; returns how many."""
    h, w = picture.shape
    ih, iw = ignore.shape
    wx, wy = np.empty(4, np.float32), np.empty(4, np.float32)
    count = 0
    for i in range(uv.shape[0]):
        u, v = uv[i, 0], uv[i, 1]
        inside[i] = 0
        seen[i] = 0
        d = m[2, 0] * u + m[2, 1] * v + m[2, 2]
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
        count += 1
        fx, fy = np.float32(x - ix), np.float32(y - iy)
        if smooth and 1 <= ix < w - 2 and 1 <= iy < h - 2:
            cubic_weights(fx, wx)
            cubic_weights(fy, wy)
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
    return count


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _light_of(values: F32, seen: F32, inside: U8, weights: F32, uv: F32, slopes: bool) -> F64:
    """Weighted least squares of seen = a value + b + c u + d v."""
    a00 = a01 = a02 = a03 = a11 = a12 = a13 = a22 = a23 = a33 = r0 = r1 = r2 = r3 = 0.0
    for i in range(values.shape[0]):
        q = weights[i] * inside[i]
        p, s, u, v = values[i], seen[i], uv[i, 0], uv[i, 1]
        qp, qu, qv = q * p, q * u, q * v
        a00 += qp * p
        a01 += qp
        a02 += qp * u
        a03 += qp * v
        a11 += q
        a12 += qu
        a13 += qv
        a22 += qu * u
        a23 += qu * v
        a33 += qv * v
        r0 += qp * s
        r1 += q * s
        r2 += qu * s
        r3 += qv * s
    a = np.array([[a00, a01, a02, a03], [a01, a11, a12, a13], [a02, a12, a22, a23], [a03, a13, a23, a33]])
    r = np.array([r0, r1, r2, r3])
    k = 4 if slopes else 2
    for p1 in range(k):
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


@numba.njit(cache=True, fastmath=True, inline="always", error_model="numpy")  # type: ignore[misc]
def _dot(a: F32, b: F32) -> np.float32:
    total = np.float32(0)
    for k in range(_BLOCK):
        total += a[k] * b[k]
    return total


@numba.njit(cache=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def _normals(uv: F32, values: F32, grad: F32, residual: F32, weights: F32, gain: float, slopes: bool) -> tuple[F64, F64]:
    """The normal equations, summed block by block: a block's rows stay in the nearest cache and are added eight at a time."""
    n = uv.shape[0]
    normal, right = np.zeros((ROWS, ROWS)), np.zeros(ROWS)
    rows, heavy = np.zeros((ROWS, _BLOCK), np.float32), np.zeros(_BLOCK, np.float32)
    used = ROWS if slopes else ROWS - 2
    scale = np.float32(gain)
    for start in range(0, n, _BLOCK):
        size = min(_BLOCK, n - start)
        for k in range(size):
            i = start + k
            u, v, gx, gy = uv[i, 0], uv[i, 1], scale * grad[i, 0], scale * grad[i, 1]
            along = gx * u + gy * v
            rows[0, k], rows[1, k], rows[2, k], rows[3, k] = gx * u, gy * u, gx * v, gy * v
            rows[4, k], rows[5, k], rows[6, k], rows[7, k] = gx, gy, -u * along, -v * along
            rows[8, k], rows[9, k], rows[10, k], rows[11, k] = values[i], np.float32(1), u, v
        if size < _BLOCK:
            rows[:, size:] = 0
        w, e = weights[start : start + size], residual[start : start + size]
        for a in range(used):
            one = rows[a]
            pull = np.float32(0)
            for k in range(size):
                heavy[k] = w[k] * one[k]
                pull += heavy[k] * e[k]
            right[a] += pull
            for b in range(a + 1):
                normal[a, b] += _dot(heavy, rows[b])
    for a in range(ROWS):
        for b in range(a):
            normal[b, a] = normal[a, b]
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
def accumulate(  # type: ignore[no-untyped-def]
                picture: F32, ignore: U8, size: float, m: F64, uv: F32, tile: np.ndarray, values: F32, grad: F32,
                weights: F32, start_tiles: F64, start_light: F64, use_light: bool, smooth: bool, slopes: bool, last: bool,
                most_scale: float, per_px: float):  # fmt: skip
    n = uv.shape[0]
    seen = np.empty(n, np.float32)
    inside = np.empty(n, np.uint8)
    count = _look(picture, ignore, size, m, uv, smooth, seen, inside)
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
    ncc_inliers = ncc_all = 0.0
    if last:
        ncc_inliers = _correlation(values, seen, out, inside, light, uv)
        ncc_all = _correlation(values, seen, np.ones(n, np.float32), inside, light, uv)
    # Tukey weights make the weighted variance too small by about a third at this limit.
    variance = max(1.35 * spent / max(agree, 1e-9), 0.02)
    normal, right = _normals(uv, values, grad, residual, out, light[0], slopes)
    asked = np.zeros((1, ROWS))
    if last:
        asked = _asked(uv, tile, values, grad, residual, out, light[0], slopes)
    return (normal, right, asked, out, tiles, variance, light, ncc_inliers, ncc_all, held / max(detail, 1e-9), count / n, count,
            misfit / count)
