"""How much of each pixel is the subject, told by which colours subjects have.

One colour difference takes the subject for neutral, so that a warm veil comes out too dense and a saturated arm too solid.
Here each pixel between sure cloth and the solid subject is explained as a mix I = a F + (1 - a) C of the known cloth C with a
colour F that is likely: what the subject shows nearby, the dark of hair, or what things are coloured like at large. Light is
told along three axes: brightness; warm to cool, along which daylight, skin, wood and cloth differ most; green to magenta, along
which they hardly do. Each kind of colour is a normal distribution on these axes, so a's likeliest value has a closed form for
given spreads and is found in a few steps (after the Bayesian matting of Y.-Y. Chuang, B. Curless, D. Salesin and R. Szeliski,
2001, doi:10.1109/CVPR.2001.990970, with the cloth known and the subject's colours from a table).
"""

from __future__ import annotations

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, FAST
from plonket.keying.cloth import Cloth, block_means

B = NDArray[np.bool_]

SOLID = 0.985
"""Matte from which a pixel may be the solid subject."""
INSIDE_PX = 9
"""Deep enough inside that no edge is left, whatever the subject's colour makes of it: the width of what must be solid."""
REDUCED = 4
"""What the subject shows nearby changes slowly: worked out in a picture so many times smaller."""
NEARBY_PX = (5.0, 16.0)
DARK = 0.02
"""The dark of hair, of the cloth's light."""
DARK_TRUST = 0.6
MISFIT = 0.12
"""How far, of the cloth's light, a mix may be off and still explain a pixel."""
ABROAD = 0.15
"""How much of the difference between subject and cloth, squared, is allowed besides."""
LEAST_NOISE = 0.05
"""SD of a pixel's light, of the cloth's: coding and weave, where hardly any noise is seen."""
SOLID_ODDS = 0.65
"""How likely something that is no cloth is solid, far from all that is; beside the solid subject likelier by `SOLID_BESIDE`."""
SOLID_BESIDE = 0.34
ENCLOSED = 1 / 20
"""What has the solid subject on all sides, so much of the picture's width across, is as likely solid as what lies beside it."""
BARE_ODDS = 0.02
"""How likely a pixel that is not surely cloth is bare cloth all the same."""
UNEVEN = 0.08
"""How much lighter or darker than it was taken for bare cloth may be."""
STEPS = 4
"""Until the share and the spread that it leaves agree."""

AXES = np.array([[1, 1, 1], [1, 0, -1], [-1, 2, -1]], np.float32) / np.sqrt(np.array([[3], [2], [6]], np.float32))
"""Brightness, warm to cool, green to magenta: orthonormal, of linear light."""


def _kinds() -> F32:
    """(n, 7) kinds of colours: mean along the three axes, variance along them, and how common they are.

    Neutral to warm ones from dark to bright, little along green to magenta; and saturated reds to oranges, on which magenta and
    warm light fall as well.
    """
    rows = []
    for level, common in ((0.02, 0.2), (0.1, 0.3), (0.3, 0.3), (0.7, 0.2)):
        rows.append((level, (1.1, 1.0, 0.9), (0.6, 0.25, 0.05), common))
    rows.append((0.15, (2.08, 0.69, 0.23), (0.8, 0.15, 0.15), 1.5))
    table = []
    for level, tint, spreads, common in rows:
        mean = AXES @ (level * np.array(tint))
        table.append([*mean, *((level * np.sqrt(3) * np.array(spreads)) ** 2), common])
    return np.array(table, np.float32)


KINDS = _kinds()


def told_apart(light: F32, cloth: Cloth, alpha: F32) -> tuple[F32, B]:
    """A matte (h, w) of linear light (h, w, 3), put right between sure cloth and the solid subject; and where that is.

    Parameters
    ----------
    alpha : (h, w) the matte by colour difference alone, which errs towards solid.
    """
    seen = cv2.GaussianBlur(alpha, (5, 5), 0.8)
    dense = (seen > SOLID).astype(np.uint8)
    solid = cv2.erode(dense, np.ones((INSIDE_PX, INSIDE_PX), np.uint8)) > 0
    between = ~solid & ~cloth.sure
    if not between.any():
        return alpha, between
    nearby = _nearby(light, solid)
    size = (nearby.shape[2], nearby.shape[1])
    beside = cv2.resize(cv2.erode(dense, np.ones((3, 3), np.uint8)) * np.uint8(255), size, interpolation=cv2.INTER_AREA)
    across = max(3, round(ENCLOSED * light.shape[1] / REDUCED)) | 1
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (across, across))
    enclosed = cv2.morphologyEx(beside, cv2.MORPH_CLOSE, disc)
    beside = np.maximum(cv2.GaussianBlur(beside, (0, 0), 0.5), enclosed)
    beside = np.asarray(beside, np.float32) / np.float32(255)
    level = float(cloth.light[::REDUCED, ::REDUCED].mean())
    noise = max(_misfit(light, cloth.light, cloth.sure), LEAST_NOISE * level)
    out = alpha.copy()
    _explained(light, cloth.light, alpha, between, nearby, beside, KINDS, AXES, np.float32(noise**2), out)
    return out, between


def _nearby(light: F32, solid: B) -> F32:
    """(2, h/4, w/4, 4) colours that the solid subject shows close by and further off, and how much they are to be trusted."""
    h, w = solid.shape
    small = (max(1, w // REDUCED), max(1, h // REDUCED))
    out = np.zeros((len(NEARBY_PX), small[1], small[0], 4), np.float32)
    if solid.any():
        reduced = block_means(light, solid, small)
        share, mean = reduced[..., 3], np.ascontiguousarray(reduced[..., :3])
        for k, sigma in enumerate(NEARBY_PX):
            there = cv2.GaussianBlur(share, (0, 0), sigma / REDUCED)
            out[k, ..., :3] = cv2.GaussianBlur(mean, (0, 0), sigma / REDUCED) / np.maximum(there, 1e-6)[..., None]
            out[k, ..., 3] = np.clip(there * 20, 0, 1)
    return out


@numba.njit(parallel=True, cache=True)  # type: ignore[misc]
def _misfit(light: F32, cloth: F32, sure: B) -> float:
    """SD of a channel about the clean cloth where cloth is sure: noise, coding and weave. Every third row and column."""
    rows = (sure.shape[0] + 2) // 3
    sums = np.zeros((rows, 2))
    for j in numba.prange(rows):
        for x in range(0, sure.shape[1], 3):
            if sure[3 * j, x]:
                for c in range(3):
                    d = light[3 * j, x, c] - cloth[3 * j, x, c]
                    sums[j, 0] += d * d
                sums[j, 1] += 3
    n = sums[:, 1].sum()
    return np.sqrt(sums[:, 0].sum() / n) if n > 0 else 0.0


@numba.njit(cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _likely(p: F32, c: F32, guess: F32, solid: F32, kinds: F32, noise2: np.float32, out: F32) -> None:
    """The share that the subject has in pixels which are off the cloth c by p, both (3, n) along the axes.

    Parameters
    ----------
    guess : (n,) shares to begin with. solid : (n,) how likely each is solid.
    """
    one, half, n = np.float32(1.0), np.float32(0.5), p.shape[1]
    total, best, a, size = np.empty(n, np.float32), np.zeros(n, np.float32), np.empty(n, np.float32), np.empty(n, np.float32)
    for i in range(n):
        # Bare cloth may be somewhat lighter or darker than it was taken for: sharpened edges, small folds.
        cloth2 = c[0, i] ** 2 + c[1, i] ** 2 + c[2, i] ** 2
        lighter = (p[0, i] * c[0, i] + p[1, i] * c[1, i] + p[2, i] * c[2, i]) / (cloth2 + noise2 / np.float32(UNEVEN**2))
        off = (p[0, i] - lighter * c[0, i]) ** 2 + (p[1, i] - lighter * c[1, i]) ** 2 + (p[2, i] - lighter * c[2, i]) ** 2
        bare = np.exp(-half * (off / noise2 + (lighter / np.float32(UNEVEN)) ** 2)) / (noise2 * np.sqrt(noise2))
        total[i] = np.float32(BARE_ODDS) * bare
    for z in range(kinds.shape[0]):
        k0, k1, k2, v0, v1, v2 = kinds[z, 0], kinds[z, 1], kinds[z, 2], kinds[z, 3], kinds[z, 4], kinds[z, 5]
        for i in range(n):
            a[i] = max(guess[i], np.float32(0.02))
        for _ in range(STEPS):
            for i in range(n):
                m0, m1, m2, square = k0 - c[0, i], k1 - c[1, i], k2 - c[2, i], a[i] * a[i]
                w0, w1, w2 = one / (square * v0 + noise2), one / (square * v1 + noise2), one / (square * v2 + noise2)
                size[i] = w0 * m0 * m0 + w1 * m1 * m1 + w2 * m2 * m2
                fit = (w0 * p[0, i] * m0 + w1 * p[1, i] * m1 + w2 * p[2, i] * m2) / size[i]
                a[i] = min(max(fit, np.float32(0.0)), one)
        # How likely this kind shows what is seen, over all shares near the likeliest, and as something solid.
        s0, s1, s2 = one / (v0 + noise2), one / (v1 + noise2), one / (v2 + noise2)
        firm = kinds[z, 6] * np.sqrt(s0 * s1 * s2)
        for i in range(n):
            m0, m1, m2, square = k0 - c[0, i], k1 - c[1, i], k2 - c[2, i], a[i] * a[i]
            w0, w1, w2 = one / (square * v0 + noise2), one / (square * v1 + noise2), one / (square * v2 + noise2)
            off = w0 * (p[0, i] - a[i] * m0) ** 2 + w1 * (p[1, i] - a[i] * m1) ** 2 + w2 * (p[2, i] - a[i] * m2) ** 2
            wide = min(np.sqrt(np.float32(2 * np.pi) / size[i]), one)
            mixed = kinds[z, 6] * (one - solid[i]) * np.exp(-half * off) * np.sqrt(w0 * w1 * w2) * wide
            off = s0 * (p[0, i] - m0) ** 2 + s1 * (p[1, i] - m1) ** 2 + s2 * (p[2, i] - m2) ** 2
            whole = firm * solid[i] * np.exp(-half * off)
            total[i] += mixed + whole
            best[i] += mixed * a[i] + whole
    for i in range(n):
        out[i] = best[i] / total[i] if total[i] > np.float32(1e-20) else guess[i]


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _explained(
    light: F32, cloth: F32, alpha: F32, between: B, nearby: F32, beside: F32, kinds: F32, axes: F32, noise2: np.float32,
    out: F32,
) -> None:
    """The matte where something is mixed, by what explains each pixel best; a row at a time."""
    zero, one = np.float32(0.0), np.float32(1.0)
    sh, sw = nearby.shape[1:3]
    for y in numba.prange(alpha.shape[0]):
        sy = min(y // REDUCED, sh - 1)
        at = np.nonzero(between[y])[0]
        n = len(at)
        if n == 0:
            continue
        p, c = np.empty((3, n), np.float32), np.empty((3, n), np.float32)
        guess, solid, likely = np.empty(n, np.float32), np.empty(n, np.float32), np.empty(n, np.float32)
        for i in range(n):
            x = at[i]
            cr, cg, cb = cloth[y, x, 0], cloth[y, x, 1], cloth[y, x, 2]
            dr, dg, db = light[y, x, 0] - cr, light[y, x, 1] - cg, light[y, x, 2] - cb
            for k in range(3):
                p[k, i] = axes[k, 0] * dr + axes[k, 1] * dg + axes[k, 2] * db
                c[k, i] = axes[k, 0] * cr + axes[k, 1] * cg + axes[k, 2] * cb
            guess[i] = alpha[y, x]
            solid[i] = np.float32(SOLID_ODDS) + np.float32(SOLID_BESIDE) * beside[sy, min(x // REDUCED, sw - 1)]
        _likely(p, c, guess, solid, kinds, noise2, likely)
        for i in range(n):
            x = at[i]
            # What things are coloured like at large counts as much as a colour nearby that explains the pixel.
            total, best = one, likely[i]
            cr, cg, cb = cloth[y, x, 0], cloth[y, x, 1], cloth[y, x, 2]
            dr, dg, db = light[y, x, 0] - cr, light[y, x, 1] - cg, light[y, x, 2] - cb
            level = (cr + cg + cb) / np.float32(3.0)
            dark, sx = np.float32(DARK) * level, min(x // REDUCED, sw - 1)
            for k in range(3):
                trust = nearby[k, sy, sx, 3] if k < 2 else np.float32(DARK_TRUST)
                if trust <= zero:
                    continue
                wr = (nearby[k, sy, sx, 0] if k < 2 else dark) - cr
                wg = (nearby[k, sy, sx, 1] if k < 2 else dark) - cg
                wb = (nearby[k, sy, sx, 2] if k < 2 else dark) - cb
                size = wr * wr + wg * wg + wb * wb
                a = min(max((dr * wr + dg * wg + db * wb) / max(size, np.float32(1e-6)), zero), one)
                off = (a * wr - dr) ** 2 + (a * wg - dg) ** 2 + (a * wb - db) ** 2
                # What is allowed grows with the light there is: a bright subject's noise and shading are larger too.
                weight = trust * np.exp(-off / (np.float32(MISFIT * MISFIT) * (level * level + np.float32(ABROAD) * size)))
                best += weight * a
                total += weight
            out[y, x] = best / total
