"""Grain of one picture, from its calm places: all that a still tells, or a clip in which nothing moves."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.interpolate import CubicSpline
from scipy.special import ndtr

from plonket.base.conventions import F32, F64
from plonket.image.grain import BANDS, RINGS, GrainProfile, power_over

BLOCK = 32
"""Side in pixels of the blocks in which grain is looked for."""
CALM = 0.22
"""Share of a brightness band's blocks that is taken for calm."""
LEAST_BLOCKS = 12
ENOUGH_BLOCKS = 500
"""So many tell a spectrum well enough."""
TAIL = 1.0
"""How much rougher than the mean, in SDs of chance, a block of pure grain may be and still count."""
ROUNDS = 16


def grain_of(code: F32, where: NDArray[np.bool_] | None = None) -> GrainProfile | None:
    """Grain of a picture (h, w, 3) in 8-bit display codes, from its calm blocks in each brightness band.

    What varies slowly over a block is not grain: a surface of second degree is taken off first. What stands out at single
    frequencies is texture, not grain. Returns None where nothing is calm enough to tell.
    """
    blocks, level = _blocks(code, where)
    if len(blocks) < LEAST_BLOCKS:
        return None
    left = _flattened(blocks)
    grey = level.mean(axis=1)
    band = np.clip(np.searchsorted((BANDS[:-1] + BANDS[1:]) / 2, grey), 0, len(BANDS) - 1)
    power = np.asarray(np.abs(np.fft.fft2(left, axes=(1, 2))) ** 2 / BLOCK**2, np.float32)
    variance = power.mean(axis=(1, 2)).astype(np.float64)
    rough = variance.mean(axis=1)
    plain = ~_textured(power)
    first = np.full((len(BANDS), 3), np.nan)
    chosen: list[NDArray[np.int_]] = []
    for k in range(len(BANDS)):
        mine = np.flatnonzero((band == k) & plain)
        if len(mine) >= LEAST_BLOCKS:
            order = mine[np.argsort(rough[mine])]
            count = max(LEAST_BLOCKS // 2, int(CALM * len(order)))
            # The very calmest are calm by chance as well: as many are left out at that end.
            chosen.append(order[count // 6 : count])
            first[k] = np.sqrt(variance[chosen[-1]].mean(axis=0))
    if not chosen:
        return None
    known = np.flatnonzero(~np.isnan(first[:, 0]))
    table = np.stack([np.interp(BANDS, BANDS[known], first[known, c]) for c in range(3)], axis=1)
    calm = np.concatenate(chosen)
    for _ in range(2):
        some = calm[:: len(calm) // ENOUGH_BLOCKS + 1]
        spectrum, kept, uneven = _spectrum(_through_window(left[some]))
        alike = _alike(left[some])
        spread = np.sqrt(2 * uneven * (1 + 2 * alike**2) / 3) / BLOCK
        table, calm = _strengths(table, variance, level, plain & np.isin(band, known), spread)
    table = table / np.sqrt(kept)
    return GrainProfile(strength=[(float(a), float(b), float(c)) for a, b, c in table], spectrum=spectrum, alike=alike)


def _through_window(left: F32) -> F32:
    """Power (n, b, b, 3) seen through a soft window, which keeps the strong coarse part from spilling into the fine one."""
    window = np.sin(np.pi * (np.arange(BLOCK) + 0.5) / BLOCK).astype(np.float32)
    soft = left * (window[:, None] * window[None, :])[None, :, :, None]
    return np.asarray(np.abs(np.fft.fft2(soft, axes=(1, 2))) ** 2 / (BLOCK**2 * float((window**2).mean()) ** 2), np.float32)


def _strengths(table: F64, variance: F64, level: F64, able: NDArray[np.bool_], spread: float) -> tuple[F64, NDArray[np.int_]]:
    """SD (bands, 3) at which most blocks agree, and the blocks that do.

    A block agrees that is no rougher, for its own brightness, than chance makes grain of that strength (`spread` is the SD of
    a block's variance, of its mean). What has texture is rougher, so only the calm side tells; what is cut off above is put
    right by the mean of a normal distribution that is cut off there.
    """
    blocks = np.flatnonzero(able)
    basis = np.stack([CubicSpline(BANDS, np.eye(len(BANDS)), bc_type="natural")(np.clip(level[blocks, c], BANDS[0], BANDS[-1]))
                      for c in range(3)])  # fmt: skip
    # Where few blocks tell, the ratio to what was there before is the neighbouring band's.
    level_out = np.diff(np.eye(len(BANDS)), axis=0)
    before = np.maximum(table, 0.05)
    table = before.copy()
    low = 1 - spread * np.exp(-0.5 * TAIL**2) / np.sqrt(2 * np.pi) / ndtr(TAIL)
    agree = np.zeros(len(blocks), bool)
    for k in range(ROUNDS):
        told = np.stack([np.maximum(basis[c] @ table[:, c], 0.05) ** 2 for c in range(3)], axis=1)
        ratio = (variance[blocks] / told).mean(axis=1)
        # What is calm by chance comes first and is too low: at the beginning more may agree.
        agree = ratio < 1 + max(TAIL * spread, 0.3 * 0.7**k)
        if agree.sum() < LEAST_BLOCKS // 2:
            break
        for c in range(3):
            # Each block counts by how well it is known, which goes with its own strength.
            weight = 1 / np.sqrt(told[agree, c])
            wanted = np.sqrt(variance[blocks[agree], c] / low)
            rows = np.concatenate([basis[c][agree] * weight[:, None], level_out / before[:, c]])
            told_by = np.concatenate([wanted * weight, np.zeros(len(level_out))])
            table[:, c] = np.maximum(np.linalg.lstsq(rows, told_by, rcond=None)[0], 0)
    return table, blocks[agree]


def _textured(power: F32) -> NDArray[np.bool_]:
    """(n,) blocks in which single frequencies stand out: chance does not gather so much power in one place."""
    total = power.mean(axis=3)
    ring = _rings()
    shape = np.ones_like(total[0])
    for k in range(1, RINGS):
        inside = ring == k
        if inside.any():
            shape[inside] = max(float(np.quantile(total[:, inside].mean(axis=1), 0.2)), 1e-6)
    peak = (total / shape)[:, (ring >= 1) & (ring < RINGS)]
    mean = np.maximum(peak.mean(axis=1), 1e-9)
    return np.asarray((peak.max(axis=1) / mean > 15) & (total.mean(axis=(1, 2)) > 0.05))


def _rings() -> NDArray[np.int_]:
    f = np.fft.fftfreq(BLOCK)
    return np.asarray((np.hypot(f[:, None], f[None, :]) / (0.5 / RINGS)).astype(int))


def _blocks(code: F32, where: NDArray[np.bool_] | None) -> tuple[F32, F64]:
    """Blocks (n, b, b, 3) that lie wholly where they may, half over each other; brightness (n, 3) of each, 0 to 1."""
    b, step = BLOCK, BLOCK // 2
    h, w = code.shape[:2]
    if h < b or w < b:
        return np.zeros((0, b, b, 3), np.float32), np.zeros((0, 3))
    views = np.lib.stride_tricks.sliding_window_view(code, (b, b), axis=(0, 1))[::step, ::step]
    blocks = views.reshape(-1, 3, b, b).transpose(0, 2, 3, 1)
    ok = (blocks.max(axis=(1, 2, 3)) < 253) & (blocks.min(axis=(1, 2, 3)) > 2)
    if where is not None:
        inside = np.lib.stride_tricks.sliding_window_view(where, (b, b))[::step, ::step]
        ok &= inside.all(axis=(2, 3)).reshape(-1)
    blocks = np.ascontiguousarray(blocks[ok], np.float32)
    return blocks, blocks.mean(axis=(1, 2)).astype(np.float64) / 255


def _surfaces() -> F64:
    """Orthonormal surfaces (b * b, 6) of second degree over a block."""
    y, x = np.mgrid[0:BLOCK, 0:BLOCK] / BLOCK - 0.5
    return np.linalg.qr(np.stack([np.ones_like(x), x, y, x * x, y * y, x * y], axis=-1).reshape(-1, 6))[0]


def _flattened(blocks: F32) -> F32:
    """Blocks less the surface of second degree that fits each best."""
    n, b = len(blocks), BLOCK
    q = _surfaces().astype(np.float32)
    flat = blocks.reshape(n, b * b, 3)
    return np.asarray((flat - q @ (q.T @ flat)).reshape(n, b, b, 3), np.float32)


def _spectrum(seen: F32) -> tuple[list[float], float, float]:
    """Power in rings of spatial frequency, its mean 1.

    Also the share of all power that was left when the slow part was taken off, and how unevenly it is spread over frequencies
    (1 for white noise): fewer pixels are then independent.
    """
    ring = np.minimum(_rings(), RINGS - 1)
    # Few places of a small block fall into a ring: its mean stands for their mean radius, not for the ring's middle.
    f = np.fft.fftfreq(BLOCK)
    radius = np.hypot(f[:, None], f[None, :])
    bare = np.array([seen.mean(axis=(0, 3))[ring == k].mean() for k in range(RINGS)])
    places = np.array([radius[ring == k].mean() for k in range(RINGS)])
    out = np.exp(np.interp((np.arange(RINGS) + 0.5) * 0.5 / RINGS, places, np.log(np.maximum(bare, 1e-9))))
    for _ in range(3):
        out = out * (out / np.maximum(_smeared(out), 1e-9))
    # The coarsest went with the surface that was taken off: as the trend of the next ones tells.
    # Noise that was made soft falls off as a bell: its logarithm goes with the square of the frequency.
    squares = (np.arange(RINGS) + 0.5) ** 2
    fall = np.log(max(float(out[2]), 1e-9) / max(float(out[4]), 1e-9)) / (squares[4] - squares[2])
    for k in (1, 0):
        told = float(out[2]) * float(np.exp(np.clip(fall * (squares[2] - squares[k]), -0.25, 0.6)))
        out[k] = max(float(out[k]), told) if k else told
    n = 4 * BLOCK
    full = power_over(list(out), n)
    went = np.abs(np.fft.fft2(_surfaces().T.reshape(6, BLOCK, BLOCK), s=(n, n))) ** 2
    kept = 1 - float((went.sum(axis=0) * full).mean() / (BLOCK**2 * full.mean()))
    uneven = float((full**2).mean() / max(full.mean() ** 2, 1e-12))
    return [float(v) for v in out / max(float(out.mean()), 1e-12)], kept, uneven


def _smeared(spectrum: F64) -> F64:
    """What a block's window makes of a spectrum (`RINGS`): each frequency spills a little into its neighbours."""
    n = 4 * BLOCK
    f = np.fft.fftfreq(n)
    middles = (np.arange(RINGS) + 0.5) * 0.5 / RINGS
    power = power_over(list(spectrum), n)
    window = np.zeros(n)
    window[:BLOCK] = np.sin(np.pi * (np.arange(BLOCK) + 0.5) / BLOCK)
    own = np.fft.ifft(np.abs(np.fft.fft(window)) ** 2).real
    seen = np.fft.fft2(np.fft.ifft2(power).real * np.outer(own, own) / own[0] ** 2).real
    return np.interp(middles, f[: n // 2], seen[0, : n // 2])


def _alike(left: F32) -> float:
    """How much of the variance the channels share."""
    covariance = np.cov(left.reshape(-1, 3).T)
    scale = np.sqrt(np.outer(np.diag(covariance), np.diag(covariance)))
    return float(np.clip((covariance / np.maximum(scale, 1e-9))[np.triu_indices(3, 1)].mean(), 0, 1))
