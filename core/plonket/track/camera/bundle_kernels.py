"""Compiled loops of bundle adjustment. Blocks: 7 unknowns a camera (turn, shift, zoom), 4 shared, 3 a point."""

from __future__ import annotations

from typing import Any

import numba
import numpy as np

CAMERA = 7
SHARED = 4
FAR_BEHIND = 1e6
"""Squared residual that stands for a point behind its camera."""
LEAST_DEPTH = 1e-4


@numba.njit(inline="always")  # type: ignore[misc]
def _place(rotation: Any, shift: Any, zoom: float, shared: Any, point: Any, speed: Any, row: float) -> Any:
    """A point before a camera, the same before the read-out moved it, its flat coordinates, radius and scale."""
    ax = rotation[0, 0] * point[0] + rotation[0, 1] * point[1] + rotation[0, 2] * point[2]
    ay = rotation[1, 0] * point[0] + rotation[1, 1] * point[1] + rotation[1, 2] * point[2]
    az = rotation[2, 0] * point[0] + rotation[2, 1] * point[1] + rotation[2, 2] * point[2]
    # While the sensor is read, the camera goes on turning and shifting.
    sx = speed[1] * az - speed[2] * ay + speed[3]
    sy = speed[2] * ax - speed[0] * az + speed[4]
    sz = speed[0] * ay - speed[1] * ax + speed[5]
    late = shared[3] * row
    x, y, z = ax + shift[0] + late * sx, ay + shift[1] + late * sy, az + shift[2] + late * sz
    return x, y, z, ax, ay, az, sx, sy, sz


@numba.njit(cache=True, parallel=True)  # type: ignore[misc]
def cost_of(
    rotation: Any, shift: Any, zoom: Any, shared: Any, points: Any, speeds: Any, camera: Any, point: Any, xy: Any,
    row: Any, weight: Any, width: float, out: Any,
) -> float:  # fmt: skip
    """Half the robust sum of squares; `out` is filled with residuals (n, 2), nan behind the camera."""
    total = 0.0
    bend = width * width
    for k in numba.prange(camera.shape[0]):
        c, p = camera[k], point[k]
        x, y, z, _, _, _, _, _, _ = _place(rotation[c], shift[c], zoom[c], shared, points[p], speeds[c], row[k])
        if z < LEAST_DEPTH:
            out[k, 0], out[k, 1] = np.nan, np.nan
            total += 0.5 * weight[k] * bend * np.log1p(FAR_BEHIND / bend)
            continue
        u, v = x / z, y / z
        r2 = u * u + v * v
        f = np.exp(shared[0] + zoom[c]) * (1 + r2 * (shared[1] + r2 * shared[2]))
        out[k, 0], out[k, 1] = f * u - xy[k, 0], f * v - xy[k, 1]
        square = out[k, 0] ** 2 + out[k, 1] ** 2
        total += 0.5 * weight[k] * bend * np.log1p(square / bend)
    return total


@numba.njit(cache=True)  # type: ignore[misc]
def derivatives(
    rotation: Any, shift: Any, zoom: float, shared: Any, point: Any, speed: Any, row: float, jc: Any, js: Any, jp: Any
) -> Any:
    """Place (2,) of a point less the principal point, whether it lies before the camera, and its derivatives.

    `jc` (2, 7) to a turn on the left, a shift and the log of the zoom; `js` (2, 4) to what is shared; `jp` (2, 3).
    """
    x, y, z, ax, ay, az, sx, sy, sz = _place(rotation, shift, zoom, shared, point, speed, row)
    if z < LEAST_DEPTH:
        return 0.0, 0.0, False
    u, v = x / z, y / z
    r2 = u * u + v * v
    f0 = np.exp(shared[0] + zoom)
    radial = 1 + r2 * (shared[1] + r2 * shared[2])
    slope = shared[1] + 2 * r2 * shared[2]
    f = f0 * radial
    # d(place) / d(u, v), then / d(x, y, z).
    uu, uv, vv = f0 * (radial + 2 * u * u * slope), f0 * 2 * u * v * slope, f0 * (radial + 2 * v * v * slope)
    jx0, jy0 = uu / z, uv / z
    jz0 = -(uu * u + uv * v) / z
    jx1, jy1 = uv / z, vv / z
    jz1 = -(uv * u + vv * v) / z
    # d(x, y, z) / d(turn) is -[a]x; the read-out's own turn of it is of second order and left out.
    jc[0, 0], jc[0, 1], jc[0, 2] = -jy0 * az + jz0 * ay, jx0 * az - jz0 * ax, -jx0 * ay + jy0 * ax
    jc[1, 0], jc[1, 1], jc[1, 2] = -jy1 * az + jz1 * ay, jx1 * az - jz1 * ax, -jx1 * ay + jy1 * ax
    jc[0, 3], jc[0, 4], jc[0, 5] = jx0, jy0, jz0
    jc[1, 3], jc[1, 4], jc[1, 5] = jx1, jy1, jz1
    jc[0, 6], jc[1, 6] = f * u, f * v
    js[0, 0], js[1, 0] = f * u, f * v
    js[0, 1], js[1, 1] = f0 * r2 * u, f0 * r2 * v
    js[0, 2], js[1, 2] = f0 * r2 * r2 * u, f0 * r2 * r2 * v
    js[0, 3] = row * (jx0 * sx + jy0 * sy + jz0 * sz)
    js[1, 3] = row * (jx1 * sx + jy1 * sy + jz1 * sz)
    for q in range(3):
        jp[0, q] = jx0 * rotation[0, q] + jy0 * rotation[1, q] + jz0 * rotation[2, q]
        jp[1, q] = jx1 * rotation[0, q] + jy1 * rotation[1, q] + jz1 * rotation[2, q]
    return f * u, f * v, True


@numba.njit(cache=True, parallel=True)  # type: ignore[misc]
def normal_equations(
    rotation: Any, shift: Any, zoom: Any, shared: Any, points: Any, speeds: Any, starts: Any, camera: Any, xy: Any,
    row: Any, weight: Any, width: float, h_camera: Any, h_mixed: Any, h_shared: Any, b_camera: Any, b_shared: Any,
    h_point: Any, b_point: Any, cross: Any,
) -> None:  # fmt: skip
    """Fill the blocks of the normal equations; the first axis of camera and shared blocks is the accumulator."""
    parts = h_camera.shape[0]
    count = points.shape[0]
    bend = width * width
    for part in numba.prange(parts):
        jc = np.zeros((2, CAMERA))
        js = np.zeros((2, SHARED))
        jp = np.zeros((2, 3))
        for p in range(part * count // parts, (part + 1) * count // parts):
            for k in range(starts[p], starts[p + 1]):
                c = camera[k]
                px, py, ahead = derivatives(
                    rotation[c], shift[c], zoom[c], shared, points[p], speeds[c], row[k], jc, js, jp
                )
                if not ahead:
                    continue
                rx, ry = px - xy[k, 0], py - xy[k, 1]
                w = weight[k] / (1 + (rx * rx + ry * ry) / bend)
                for i in range(CAMERA):
                    for j in range(CAMERA):
                        h_camera[part, c, i, j] += w * (jc[0, i] * jc[0, j] + jc[1, i] * jc[1, j])
                    for j in range(SHARED):
                        h_mixed[part, c, i, j] += w * (jc[0, i] * js[0, j] + jc[1, i] * js[1, j])
                    for j in range(3):
                        cross[k, i, j] = w * (jc[0, i] * jp[0, j] + jc[1, i] * jp[1, j])
                    b_camera[part, c, i] -= w * (jc[0, i] * rx + jc[1, i] * ry)
                for i in range(SHARED):
                    for j in range(SHARED):
                        h_shared[part, i, j] += w * (js[0, i] * js[0, j] + js[1, i] * js[1, j])
                    for j in range(3):
                        cross[k, CAMERA + i, j] = w * (js[0, i] * jp[0, j] + js[1, i] * jp[1, j])
                    b_shared[part, i] -= w * (js[0, i] * rx + js[1, i] * ry)
                for i in range(3):
                    for j in range(3):
                        h_point[p, i, j] += w * (jp[0, i] * jp[0, j] + jp[1, i] * jp[1, j])
                    b_point[p, i] -= w * (jp[0, i] * rx + jp[1, i] * ry)


@numba.njit(cache=True, parallel=True, fastmath=True, error_model="numpy")  # type: ignore[misc]
def inverted(h: Any, damping: float, out: Any) -> None:
    """Inverses of the points' own blocks (points, 3, 3), their diagonals raised by a share and a little."""
    for p in numba.prange(h.shape[0]):
        least = 1e-9 * max(h[p, 0, 0], h[p, 1, 1], h[p, 2, 2]) + 1e-12
        a = h[p, 0, 0] * (1 + damping) + least
        d = h[p, 1, 1] * (1 + damping) + least
        f = h[p, 2, 2] * (1 + damping) + least
        b, c, e = h[p, 0, 1], h[p, 0, 2], h[p, 1, 2]
        aa, ab, ac = d * f - e * e, c * e - b * f, b * e - c * d
        scale = 1 / (a * aa + b * ab + c * ac)
        out[p, 0, 0], out[p, 0, 1], out[p, 0, 2] = aa * scale, ab * scale, ac * scale
        out[p, 1, 0], out[p, 1, 1], out[p, 1, 2] = ab * scale, (a * f - c * c) * scale, (b * c - a * e) * scale
        out[p, 2, 0], out[p, 2, 1], out[p, 2, 2] = ac * scale, (b * c - a * e) * scale, (a * d - b * b) * scale


@numba.njit(cache=True, parallel=True, fastmath=True)  # type: ignore[misc]
def eliminate(
    starts: Any, camera: Any, cross: Any, inverse: Any, b_point: Any, out: Any, right: Any, cameras: int
) -> None:
    """Sum over points of what is taken off the reduced system and its right-hand side, into accumulators (parts, ...).

    Of the symmetric matrix only what lies right of the diagonal's blocks, and they, are filled. A point's cameras rise; where
    they follow one another, as frames of a track do, their columns are one run that is added at once.
    """
    parts = out.shape[0]
    count = inverse.shape[0]
    at = cameras * CAMERA
    most = 0
    for p in range(count):
        most = max(most, starts[p + 1] - starts[p])
    for part in numba.prange(parts):
        b0, b1, b2 = np.empty(most * CAMERA), np.empty(most * CAMERA), np.empty(most * CAMERA)
        ends = np.empty(most, np.int64)
        shared = np.empty((SHARED, 3))
        for p in range(part, count, parts):
            first, last = starts[p], starts[p + 1]
            n = last - first
            if n == 0:
                continue
            shared[:] = 0.0
            for k in range(n):
                for i in range(CAMERA):
                    b0[k * CAMERA + i] = cross[first + k, i, 0]
                    b1[k * CAMERA + i] = cross[first + k, i, 1]
                    b2[k * CAMERA + i] = cross[first + k, i, 2]
                for i in range(SHARED):
                    for j in range(3):
                        shared[i, j] += cross[first + k, CAMERA + i, j]
            # Where the run that each sighting is part of ends.
            for k in range(n - 1, -1, -1):
                runs = k < n - 1 and camera[first + k + 1] == camera[first + k] + 1
                ends[k] = ends[k + 1] if runs else k + 1
            i00, i01, i02 = inverse[p, 0, 0], inverse[p, 0, 1], inverse[p, 0, 2]
            i11, i12, i22 = inverse[p, 1, 1], inverse[p, 1, 2], inverse[p, 2, 2]
            for i in range(SHARED):
                x, y, z = shared[i, 0], shared[i, 1], shared[i, 2]
                a0, a1, a2 = x * i00 + y * i01 + z * i02, x * i01 + y * i11 + z * i12, x * i02 + y * i12 + z * i22
                for j in range(SHARED):
                    out[part, at + i, at + j] += a0 * shared[j, 0] + a1 * shared[j, 1] + a2 * shared[j, 2]
                right[part, at + i] += a0 * b_point[p, 0] + a1 * b_point[p, 1] + a2 * b_point[p, 2]
            for k in range(n):
                row = camera[first + k] * CAMERA
                for i in range(CAMERA):
                    x, y, z = b0[k * CAMERA + i], b1[k * CAMERA + i], b2[k * CAMERA + i]
                    a0, a1, a2 = x * i00 + y * i01 + z * i02, x * i01 + y * i11 + z * i12, x * i02 + y * i12 + z * i22
                    right[part, row + i] += a0 * b_point[p, 0] + a1 * b_point[p, 1] + a2 * b_point[p, 2]
                    line = out[part, row + i]
                    for j in range(SHARED):
                        line[at + j] += a0 * shared[j, 0] + a1 * shared[j, 1] + a2 * shared[j, 2]
                    q = k
                    while q < n:
                        end = ends[q]
                        column = camera[first + q] * CAMERA
                        size = (end - q) * CAMERA
                        into = line[column : column + size]
                        c0 = b0[q * CAMERA : q * CAMERA + size]
                        c1 = b1[q * CAMERA : q * CAMERA + size]
                        c2 = b2[q * CAMERA : q * CAMERA + size]
                        for m in range(size):
                            into[m] += a0 * c0[m] + a1 * c1[m] + a2 * c2[m]
                        q = end


@numba.njit(cache=True, parallel=True)  # type: ignore[misc]
def back_substitute(
    starts: Any, camera: Any, cross: Any, inverse: Any, b_point: Any, delta: Any, cameras: int, out: Any
) -> None:
    """Each point's own step, once the cameras' and the lens's are known."""
    at = cameras * CAMERA
    for p in numba.prange(inverse.shape[0]):
        r0, r1, r2 = b_point[p, 0], b_point[p, 1], b_point[p, 2]
        for k in range(starts[p], starts[p + 1]):
            row = camera[k] * CAMERA
            for i in range(CAMERA):
                d = delta[row + i]
                r0 -= cross[k, i, 0] * d
                r1 -= cross[k, i, 1] * d
                r2 -= cross[k, i, 2] * d
            for i in range(SHARED):
                d = delta[at + i]
                r0 -= cross[k, CAMERA + i, 0] * d
                r1 -= cross[k, CAMERA + i, 1] * d
                r2 -= cross[k, CAMERA + i, 2] * d
        for i in range(3):
            out[p, i] = inverse[p, i, 0] * r0 + inverse[p, i, 1] * r1 + inverse[p, i, 2] * r2


@numba.njit(cache=True, parallel=True)  # type: ignore[misc]
def meet(starts: Any, camera: Any, rays: Any, rotation: Any, shift: Any, out: Any, angle: Any) -> None:
    """Where each point's rays come nearest to each other, and the widest angle between two of them.

    `rays` (n, 3) lead from each camera, z forward; `out` (points, 3); `angle` (points,) radians.
    """
    for p in numba.prange(starts.shape[0] - 1):
        first, last = starts[p], starts[p + 1]
        n = last - first
        angle[p] = 0.0
        out[p] = 0.0
        if n < 2:
            continue
        m = np.zeros((3, 3))
        b = np.zeros(3)
        ways = np.empty((n, 3))
        for k in range(n):
            c = camera[first + k]
            length = 0.0
            eye = np.empty(3)
            for i in range(3):
                ways[k, i] = (
                    rotation[c, 0, i] * rays[first + k, 0]
                    + rotation[c, 1, i] * rays[first + k, 1]
                    + rotation[c, 2, i] * rays[first + k, 2]
                )
                eye[i] = -(
                    rotation[c, 0, i] * shift[c, 0] + rotation[c, 1, i] * shift[c, 1] + rotation[c, 2, i] * shift[c, 2]
                )
                length += ways[k, i] ** 2
            ways[k] /= np.sqrt(length)
            for i in range(3):
                for j in range(3):
                    q = (1.0 if i == j else 0.0) - ways[k, i] * ways[k, j]
                    m[i, j] += q
                    b[i] += q * eye[j]
        least = 1.0
        stride = max(1, n // 12)
        for k in range(0, n, stride):
            for q in range(k + stride, n, stride):
                along = ways[k, 0] * ways[q, 0] + ways[k, 1] * ways[q, 1] + ways[k, 2] * ways[q, 2]
                least = min(least, along)
        angle[p] = np.arccos(max(-1.0, min(1.0, least)))
        for i in range(3):
            m[i, i] += 1e-12
        out[p] = np.linalg.solve(m, b)


@numba.njit(cache=True, parallel=True)  # type: ignore[misc]
def settle(
    rotation: Any, shift: Any, zoom: Any, shared: Any, speeds: Any, starts: Any, camera: Any, xy: Any, row: Any,
    weight: Any, width: float, points: Any,
) -> None:  # fmt: skip
    """Move each point by itself to where its sightings fit best, the cameras held; `points` is changed."""
    bend = width * width
    for p in numba.prange(points.shape[0]):
        jc = np.zeros((2, CAMERA))
        js = np.zeros((2, SHARED))
        jp = np.zeros((2, 3))
        damping = 1e-3
        best = np.inf
        kept = points[p].copy()
        at = points[p].copy()
        for _ in range(15):
            h = np.zeros((3, 3))
            b = np.zeros(3)
            total = 0.0
            for k in range(starts[p], starts[p + 1]):
                c = camera[k]
                px, py, ahead = derivatives(rotation[c], shift[c], zoom[c], shared, at, speeds[c], row[k], jc, js, jp)
                if not ahead:
                    total += weight[k] * bend * np.log1p(FAR_BEHIND / bend)
                    continue
                rx, ry = px - xy[k, 0], py - xy[k, 1]
                square = rx * rx + ry * ry
                total += weight[k] * bend * np.log1p(square / bend)
                w = weight[k] / (1 + square / bend)
                for i in range(3):
                    for j in range(3):
                        h[i, j] += w * (jp[0, i] * jp[0, j] + jp[1, i] * jp[1, j])
                    b[i] -= w * (jp[0, i] * rx + jp[1, i] * ry)
            if total < best:
                if best - total < 1e-6 * total:
                    kept[:] = at
                    break
                best = total
                kept[:] = at
                damping = max(damping / 5, 1e-7)
            else:
                damping *= 10
                if damping > 1e4:
                    break
            for i in range(3):
                h[i, i] += damping * h[i, i] + 1e-12
            at = kept + np.linalg.solve(h, b)
        points[p] = kept
