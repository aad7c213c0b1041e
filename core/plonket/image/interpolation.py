"""Frames between two frames: made by the movement of every pixel, each shown from where it is seen."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import cv2
import numba
import numpy as np

from plonket.base.conventions import F32, FAST, U8
from plonket.image.pair_flow import PairFlow

SEEN = 0.5
"""Share of a pixel that what moves there must cover to be seen there."""
FAINT = 1e-3
"""A weight that is not seen."""
SWERVES = 12.0
"""Pixels by which a movement may change from one frame to the next and be believed."""
UNSURE = 0.01
"""How much the movement of a pixel counts that the other picture does not show, beside one that both show."""
DOUBT = 18.0
"""Difference in 8-bit codes by which a pixel and where it is said to go contradict each other."""


def mixed(first: F32, second: F32, share: float) -> F32:
    """Two pictures of any shape mixed in linear light, so much of the second."""
    return np.asarray(cv2.addWeighted(first, 1 - share, second, share, 0), np.float32)


def interpolated(
    first: F32, second: F32, flow: PairFlow, share: float, before: PairFlow | None = None, after: PairFlow | None = None
) -> F32:
    """The picture so far on the way from one to the other, (h, w, 4) linear, premultiplied, without the border.

    Parameters
    ----------
    first, second : with a clear border of one pixel, at any one size. share : in [0, 1]. before, after : the movement to the
        first from the picture before it, and from the second on to the next: ways that bend are followed.

    Notes
    -----
    Both movements are laid out to the moment asked for: what is covered or uncovered on the way is reached from one side
    only and shown from there. Where both reach, the movement under which the pictures agree better counts. Across a cut
    it is the nearer of the two.
    """
    if flow.is_cut:
        return np.ascontiguousarray((first if share < 0.5 else second)[1:-1, 1:-1])
    moves, weights = _at_moment(flow, share)
    out = np.empty((first.shape[0] - 2, first.shape[1] - 2, 4), np.float32)
    scale = np.array([out.shape[1] / moves.shape[1], out.shape[0] / moves.shape[0]], np.float32)
    _laid_out(first, second, _looked_up(moves, _bend(flow, before, after, share), weights, np.float32(share), scale), out)
    return out


def _at_moment(flow: PairFlow, share: float) -> tuple[F32, F32]:
    """(h, w, 2) the whole movement of what is seen in each pixel at a moment, and (h, w) how much of it the first shows."""
    h, w = flow.first.shape
    laid = [np.zeros((h, w, 4), np.float32) for _ in range(2)]
    with ThreadPoolExecutor(2) as pool:
        ways = [(flow.there, flow.sure, flow.first, flow.second, np.float32(share), laid[0]),
                (flow.back, flow.sure_back, flow.second, flow.first, np.float32(1 - share), laid[1])]  # fmt: skip
        list(pool.map(lambda way: _project(*way), ways))
    near = [cv2.GaussianBlur(part, (5, 5), 1.0) for part in laid]
    # Movement spreads evenly into the few pixels that nothing reaches by chance.
    far = [cv2.resize(part, (max(w // 16, 1), max(h // 16, 1)), interpolation=cv2.INTER_AREA) for part in laid]
    found = [_candidate(n, f, flow.first, flow.second, np.float32(way), np.float32(share))
             for n, f, way in zip(near, far, (1, -1), strict=True)]  # fmt: skip
    costs = [cv2.blur(cost, (5, 5)) for _, cost in found]
    moves, weights = _chosen(found[0][0], found[1][0], costs[0], costs[1], near[0], near[1], np.float32(share))
    halves = [cv2.medianBlur(half, 5) for half in cv2.split(moves)]
    return np.asarray(cv2.merge(halves), np.float32), weights


def _bend(flow: PairFlow, before: PairFlow | None, after: PairFlow | None, share: float) -> F32:
    """(h, w, 2) how far the way through four pictures leads beside the straight one between two of them.

    Source: Newton's form of the cubic through four points; X. Xu et al., Quadratic video interpolation, 2019, arXiv:1911.00627.
    """
    h, w = flow.first.shape
    swerves = []
    if before is not None and before.first.shape == flow.first.shape:
        swerves.append(_swerve(flow.there, before.back, flow.sure, before.sure_back))
    if after is not None and after.first.shape == flow.first.shape:
        swerves.append(_swerve(flow.back, after.there, flow.sure_back, after.sure))
    if not swerves:
        return np.zeros((h, w, 2), np.float32)
    a, b = np.float32(2 - share), np.float32(1 + share)
    even = (a * swerves[0] + b * swerves[-1]) * np.float32(-share * (1 - share) / 6)
    return np.asarray(cv2.resize(even, (w, h), interpolation=cv2.INTER_LINEAR), np.float32)


def _swerve(there: F32, back: F32, sure: U8, sure_back: U8) -> F32:
    """(h / 4, w / 4, 2) how much faster everything leaves a picture on one side than it came on the other, evened out."""
    parts = cv2.GaussianBlur(_changes(there, back, sure, sure_back), (0, 0), 3)
    return np.asarray(parts[..., :2] / (parts[..., 2:] + np.float32(1e-3)), np.float32)


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _changes(there: F32, back: F32, sure: U8, sure_back: U8) -> F32:
    """(h / 4, w / 4, 3) sums over blocks: how the movement changes where it is known, and how often that is."""
    h, w = max(sure.shape[0] // 4, 1), max(sure.shape[1] // 4, 1)
    out = np.zeros((h, w, 3), np.float32)
    for y in numba.prange(h):
        for x in range(w):
            for j in range(min(4 * y, sure.shape[0]), min(4 * y + 4, sure.shape[0])):
                for i in range(min(4 * x, sure.shape[1]), min(4 * x + 4, sure.shape[1])):
                    u, v = there[j, i, 0] + back[j, i, 0], there[j, i, 1] + back[j, i, 1]
                    if sure[j, i] and sure_back[j, i] and abs(u) < SWERVES and abs(v) < SWERVES:
                        out[y, x, 0] += u
                        out[y, x, 1] += v
                        out[y, x, 2] += np.float32(1.0)
    return out


@numba.njit(cache=True, nogil=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _project(flow: F32, sure: U8, own: F32, other: F32, share: np.float32, out: F32) -> None:
    """Lay each pixel's movement where it is after a share of the way; `out` (h, w, 4): movement, its weight, and coverage."""
    h, w = own.shape
    for y in range(h):
        for x in range(w):
            u, v = flow[y, x, 0], flow[y, x, 1]
            ex, ey = int(min(max(x + u + 0.5, 0.0), w - 1.0)), int(min(max(y + v + 0.5, 0.0), h - 1.0))
            off = (own[y, x] - other[ey, ex]) / np.float32(DOUBT)
            trust = np.float32(UNSURE)
            if sure[y, x]:
                trust += np.float32(1.0) / (np.float32(1.0) + off * off * off * off)
            px, py = x + u * share, y + v * share
            ix, iy = int(np.floor(px)), int(np.floor(py))
            fx, fy = np.float32(px - ix), np.float32(py - iy)
            for j in range(2):
                yy = iy + j
                if yy < 0 or yy >= h:
                    continue
                wy = fy if j else np.float32(1.0) - fy
                for i in range(2):
                    xx = ix + i
                    if xx < 0 or xx >= w:
                        continue
                    part = wy * (fx if i else np.float32(1.0) - fx)
                    out[yy, xx, 0] += part * trust * u
                    out[yy, xx, 1] += part * trust * v
                    out[yy, xx, 2] += part * trust
                    out[yy, xx, 3] += part


@numba.njit(cache=True, fastmath=FAST, inline="always", error_model="numpy")  # type: ignore[misc]
def _grey_at(grey: F32, x: float, y: float) -> float:
    h, w = grey.shape
    x, y = min(max(x, 0.0), w - 1.001), min(max(y, 0.0), h - 1.001)
    ix, iy = int(x), int(y)
    u, v = x - ix, y - iy
    top = grey[iy, ix] * (1 - u) + grey[iy, ix + 1] * u
    low = grey[iy + 1, ix] * (1 - u) + grey[iy + 1, ix + 1] * u
    return top * (1 - v) + low * v


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _candidate(near: F32, far: F32, first: F32, second: F32, way: np.float32, share: np.float32) -> tuple[F32, F32]:
    """(h, w, 2) the movement from what is laid out near each pixel, and (h, w) how differently the two pictures show it."""
    h, w = first.shape
    moves = np.empty((h, w, 2), np.float32)
    cost = np.empty((h, w), np.float32)
    fh, fw = far.shape[:2]
    little = np.float32(1e-6)
    for y in numba.prange(h):
        fy = min(y * fh // h, fh - 1)
        for x in range(w):
            fx = min(x * fw // w, fw - 1)
            whole = (near[y, x, 2] + little * far[fy, fx, 2] + np.float32(1e-12)) * way
            u = (near[y, x, 0] + little * far[fy, fx, 0]) / whole
            v = (near[y, x, 1] + little * far[fy, fx, 1]) / whole
            moves[y, x, 0], moves[y, x, 1] = u, v
            a = _grey_at(first, x - share * u, y - share * v)
            b = _grey_at(second, x + (1 - share) * u, y + (1 - share) * v)
            cost[y, x] = abs(a - b)
    return moves, cost


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _chosen(v0: F32, v1: F32, cost0: F32, cost1: F32, near0: F32, near1: F32, share: np.float32) -> tuple[F32, F32]:
    """Of two candidates (h, w, 2) the one that counts, and the first picture's weight, by what is laid out near each pixel."""
    h, w = cost0.shape
    moves = np.empty((h, w, 2), np.float32)
    weights = np.empty((h, w), np.float32)
    low, one = np.float32(0.01), np.float32(1.0)
    for y in numba.prange(h):
        for x in range(w):
            a, b = min(near0[y, x, 3], one), min(near1[y, x, 3], one)
            first = cost0[y, x] <= cost1[y, x] if min(a, b) > SEEN else a >= b
            for c in range(2):
                moves[y, x, c] = v0[y, x, c] if first else v1[y, x, c]
            of_first = min(max((a - np.float32(SEEN / 2)) / np.float32(1 - SEEN), low), one)
            of_second = min(max((b - np.float32(SEEN / 2)) / np.float32(1 - SEEN), low), one)
            of_first, of_second = (one - share) * of_first * of_first, share * of_second * of_second
            weights[y, x] = of_first / (of_first + of_second)
    return moves, weights


@numba.njit(cache=True, fastmath=FAST, inline="always", error_model="numpy")  # type: ignore[misc]
def _add_sample(source: F32, x: np.float32, at: np.float32, weight: np.float32, into: F32) -> None:
    """Add a Catmull-Rom sample of a bordered picture at array indices, which lie within the border; its edge goes on beyond."""
    h, w = source.shape[:2]
    ix, iy = int(x), int(at)
    u, v = x - np.float32(ix), at - np.float32(iy)
    half, one, two, more = np.float32(0.5), np.float32(1.0), np.float32(1.5), np.float32(2.5)
    a0, a1 = u * (-half + u * (one - half * u)), one + u * u * (two * u - more)
    a2, a3 = u * (half + u * (np.float32(2.0) - two * u)), u * u * (-half + half * u)
    b0, b1 = v * (-half + v * (one - half * v)), one + v * v * (two * v - more)
    b2, b3 = v * (half + v * (np.float32(2.0) - two * v)), v * v * (-half + half * v)
    # Unsigned places are not looked at for being counted from the end; four sums by name stay in registers.
    x0, x1, x2, x3 = np.uintp(max(ix - 1, 1)), np.uintp(ix), np.uintp(min(ix + 1, w - 2)), np.uintp(min(ix + 2, w - 2))
    red = green = blue = cover = np.float32(0.0)
    for j in range(4):
        y = np.uintp(min(max(iy - 1 + j, 1), h - 2))
        part = b0 if j == 0 else b1 if j == 1 else b2 if j == 2 else b3
        red += part * (a0 * source[y, x0, 0] + a1 * source[y, x1, 0] + a2 * source[y, x2, 0] + a3 * source[y, x3, 0])
        green += part * (a0 * source[y, x0, 1] + a1 * source[y, x1, 1] + a2 * source[y, x2, 1] + a3 * source[y, x3, 1])
        blue += part * (a0 * source[y, x0, 2] + a1 * source[y, x1, 2] + a2 * source[y, x2, 2] + a3 * source[y, x3, 2])
        cover += part * (a0 * source[y, x0, 3] + a1 * source[y, x1, 3] + a2 * source[y, x2, 3] + a3 * source[y, x3, 3])
    # The sharpening lobes may leave the valid range at hard edges.
    zero = np.float32(0.0)
    into[0] += weight * max(red, zero)
    into[1] += weight * max(green, zero)
    into[2] += weight * max(blue, zero)
    into[3] += weight * max(cover, zero)


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _looked_up(moves: F32, bend: F32, weights: F32, share: np.float32, scale: F32) -> F32:
    """(h, w, 5) how far from a pixel it is looked up in the first picture and in the second, in their pixels, and the first's
    weight."""
    h, w = weights.shape
    out = np.empty((h, w, 5), np.float32)
    for y in numba.prange(h):
        for x in range(w):
            for c in range(2):
                out[y, x, c] = (-bend[y, x, c] - share * moves[y, x, c]) * scale[c]
                out[y, x, 2 + c] = (-bend[y, x, c] + (np.float32(1.0) - share) * moves[y, x, c]) * scale[c]
            out[y, x, 4] = weights[y, x]
    return out


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _laid_out(first: F32, second: F32, places: F32, out: F32) -> None:
    """Both pictures sampled along the movement and weighed; beyond the edge of one the other counts."""
    h, w = out.shape[:2]
    mh, mw = places.shape[:2]
    half, zero, one = np.float32(0.5), np.float32(0.0), np.float32(1.0)
    kx, ky = np.float32(mw / w), np.float32(mh / h)
    last_x, last_y = np.float32(w - 1), np.float32(h - 1)
    for y in numba.prange(h):
        qy = min(max((y + half) * ky - half, zero), np.float32(mh - 1.001))
        iy = int(qy)
        fy = np.float32(qy - iy)
        at = np.empty(5, np.float32)
        for x in range(w):
            qx = min(max((np.float32(x) + half) * kx - half, zero), np.float32(mw - 1.001))
            ix = int(qx)
            fx = qx - np.float32(ix)
            c00, c01 = (one - fx) * (one - fy), fx * (one - fy)
            c10, c11 = (one - fx) * fy, fx * fy
            for c in range(5):
                at[c] = (c00 * places[iy, ix, c] + c01 * places[iy, ix + 1, c] + c10 * places[iy + 1, ix, c]
                         + c11 * places[iy + 1, ix + 1, c])  # fmt: skip
            px, py = np.float32(x), np.float32(y)
            ax, ay, bx, by, own = px + at[0], py + at[1], px + at[2], py + at[3], at[4]
            a_in = zero <= ax <= last_x and zero <= ay <= last_y
            b_in = zero <= bx <= last_x and zero <= by <= last_y
            if a_in and not b_in:
                own = one
            elif b_in and not a_in:
                own = zero
            for c in range(4):
                out[y, x, c] = zero
            # The border takes up the first index, and is not looked into.
            if own > np.float32(FAINT):
                _add_sample(first, min(max(ax, zero), last_x) + one, min(max(ay, zero), last_y) + one, own, out[y, x])
            if own < np.float32(1 - FAINT):
                _add_sample(second, min(max(bx, zero), last_x) + one, min(max(by, zero), last_y) + one, one - own, out[y, x])
            out[y, x, 3] = min(out[y, x, 3], one)
