"""Texture fill: a hole continued with patches of its own surroundings."""

from __future__ import annotations

import cv2
import numba
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, FAST
from plonket.base.errors import BadInput
from plonket.image.membrane import rim_values, stretch

HALF = 3
"""Patches are 7 x 7."""
COARSEST_PX = 5.0
"""At the coarsest level no pixel of the hole is further from its rim."""
ROUNDS = (8, 6, 4)
"""How often patches are looked for and laid, from the coarsest level on; the last number serves all finer ones."""
FAR = 1e9
LEAST_SOURCES = 150
"""Whole patches that a level must have to take from."""

Bools = NDArray[np.bool_]
Fields = NDArray[np.int32]


def fill_texture(coded: F32, hole: Bools, *, seed: int = 1, barred: Bools | None = None) -> F32:
    """A picture with its hole filled by what plausibly goes on there.

    Coarse to fine, every patch that touches the hole is replaced by the likest one of the surroundings, and what
    overlapping patches say of a pixel is averaged; the rim is trusted more than the middle. The likest patches are found by
    spreading good finds to neighbours and trying at random.

    Parameters
    ----------
    coded : float32 (h, w, 3), display-coded, 0 to 255. hole : (h, w) what is filled.
    seed : another one gives another fill. barred : (h, w) where nothing may be taken from either.

    Raises
    ------
    BadInput
        When so little is known round the hole that there is nothing to take.

    Notes
    -----
    Y. Wexler, E. Shechtman and M. Irani, 2007, doi:10.1109/TPAMI.2007.60 (the coherence sought), with the random search of
    C. Barnes et al., 2009, doi:10.1145/1531326.1531330.
    """
    if not hole.any():
        return coded
    taken = hole if barred is None else hole | barred
    out = coded.copy()
    count, labels = cv2.connectedComponents(hole.astype(np.uint8), connectivity=8)
    for k in range(1, count):
        own = labels == k
        x0, y0, x1, y1 = _window(own)
        cut = np.s_[y0:y1, x0:x1]
        out[cut] = _synthesised(np.ascontiguousarray(out[cut]), own[cut].copy(), taken[cut].copy(), seed)
    return out


def _window(hole: Bools) -> tuple[int, int, int, int]:
    h, w = hole.shape
    ys, xs = np.nonzero(hole)
    side = max(int(np.ptp(ys)), int(np.ptp(xs))) + 1
    margin = int(np.clip(1.2 * side, 48, 220))
    return (max(0, int(xs.min()) - margin), max(0, int(ys.min()) - margin),
            min(w, int(xs.max()) + margin + 1), min(h, int(ys.max()) + margin + 1))  # fmt: skip


def _synthesised(coded: F32, hole: Bools, taken: Bools, seed: int) -> F32:
    levels = _levels(coded, hole, taken)
    rng = np.random.default_rng(seed)
    smallest, smallest_hole, smallest_taken = levels[-1]
    picture = stretch(rim_values(smallest, ~smallest_taken, 4.0), smallest_taken)
    picture = np.where(smallest_hole[..., None], picture, smallest).astype(np.float32)
    field: Fields | None = None
    for k, (base, inside, off) in enumerate(reversed(levels)):
        if k:
            picture = cv2.resize(picture, (base.shape[1], base.shape[0]), interpolation=cv2.INTER_CUBIC)
            picture = np.where(inside[..., None], picture, base).astype(np.float32)
        sources = _whole_patches(~off)
        if not sources.any():
            raise BadInput("texture.little", "There is too little round the hole to continue from. Make it smaller.")
        near = np.exp(-cv2.distanceTransform(inside.astype(np.uint8), cv2.DIST_L2, 3) / 12).astype(np.float32)
        targets = cv2.dilate(inside.astype(np.uint8), np.ones((2 * HALF + 1, 2 * HALF + 1), np.uint8)) > 0
        field = _started(field, base.shape[:2], sources, rng)
        if k:
            # The finds of the coarser level at this level's sharpness: an enlarged picture would ask for blurred patches.
            _vote(picture, near, inside, targets, field, np.ones(inside.shape, np.float32), np.float32(1.0))
        rounds = ROUNDS[min(k, len(ROUNDS) - 1)]
        for turn in range(rounds):
            worst = np.full(inside.shape, FAR, np.float32)
            _search(picture, near, targets, sources, field, worst, rng.integers(0, 2**31 - 1), 3)
            sharp = turn == rounds - 1 and k == len(levels) - 1
            known = worst[targets & (worst < FAR)]
            spread = max(float(np.quantile(known, 0.75)), 1.0) if len(known) else 1.0
            share = np.float32(spread * (0.1 if sharp else 0.3))
            if sharp:
                return _met(picture, near, inside, taken, targets, field, worst, share)
            _vote(picture, near, inside, targets, field, worst, share)
    return picture


def _met(
    picture: F32, near: F32, hole: Bools, taken: Bools, targets: Bools, field: Fields, worst: F32, spread: np.float32
) -> F32:
    """The last vote, with what differs along the rim spread over the hole: light changes slowly across it."""
    voted = picture.copy()
    _vote(voted, near, targets, targets, field, worst, spread)
    rim = targets & ~taken
    off = stretch(rim_values(picture - voted, rim, 4.0), hole) if rim.any() else np.zeros_like(picture)
    return np.where(hole[..., None], voted + off, picture).astype(np.float32)


def _levels(coded: F32, hole: Bools, taken: Bools) -> list[tuple[F32, Bools, Bools]]:
    """Halvings of the picture, of the hole and of what may not be taken from, until the hole is thin."""
    out = [(coded, hole, taken)]
    while True:
        base, inside, off = out[-1]
        depth = float(cv2.distanceTransform(np.pad(inside, 1).astype(np.uint8), cv2.DIST_L2, 3).max())
        small = (base.shape[1] // 2, base.shape[0] // 2)
        if depth <= COARSEST_PX or min(small) < 6 * HALF:
            return out
        share = cv2.resize((~off).astype(np.float32), small, interpolation=cv2.INTER_AREA)
        mean = cv2.resize(base * (~off)[..., None].astype(np.float32), small, interpolation=cv2.INTER_AREA)
        reduced = (mean / np.maximum(share, 1e-6)[..., None]).astype(np.float32)
        lesser = cv2.resize(inside.astype(np.float32), small, interpolation=cv2.INTER_AREA) > 0.3
        bar = (share < 0.5) | lesser
        if _whole_patches(~bar).sum() < LEAST_SOURCES:
            # Reduced further, nothing whole would be left to take from.
            return out
        out.append((reduced, lesser, bar))


def _whole_patches(known: Bools) -> Bools:
    """Where a patch lies in what is known altogether."""
    inner = cv2.erode(known.astype(np.uint8), np.ones((2 * HALF + 1, 2 * HALF + 1), np.uint8), borderValue=0) > 0
    inner[:HALF], inner[-HALF:], inner[:, :HALF], inner[:, -HALF:] = False, False, False, False
    return np.asarray(inner)


def _started(before: Fields | None, shape: tuple[int, int], sources: Bools, rng: np.random.Generator) -> Fields:
    """Where each patch is taken from at first: what the coarser level found, else anywhere."""
    h, w = shape
    ys, xs = np.nonzero(sources)
    pick = rng.integers(0, len(ys), size=(h, w))
    anywhere = np.stack([ys[pick], xs[pick]], axis=2).astype(np.int32)
    if before is None:
        return anywhere
    y, x = np.mgrid[0:h, 0:w]
    cy, cx = np.minimum(y // 2, before.shape[0] - 1), np.minimum(x // 2, before.shape[1] - 1)
    found = before[cy, cx] * 2 + np.stack([y % 2, x % 2], axis=2)
    found[..., 0] = np.clip(found[..., 0], 0, h - 1)
    found[..., 1] = np.clip(found[..., 1], 0, w - 1)
    fits = sources[found[..., 0], found[..., 1]]
    return np.where(fits[..., None], found, anywhere).astype(np.int32)


@numba.njit(cache=True, fastmath=FAST)  # type: ignore[misc]
def _apart(picture: F32, near: F32, ty: int, tx: int, sy: int, sx: int, limit: float) -> float:
    """Weighted squared difference of two patches per pixel; it stops once it is above the limit."""
    h, w = near.shape
    total, weights = 0.0, 0.0
    for dy in range(-HALF, HALF + 1):
        y = ty + dy
        if y < 0 or y >= h:
            continue
        for dx in range(-HALF, HALF + 1):
            x = tx + dx
            if x < 0 or x >= w:
                continue
            weight = near[y, x]
            a = picture[y, x, 0] - picture[sy + dy, sx + dx, 0]
            b = picture[y, x, 1] - picture[sy + dy, sx + dx, 1]
            c = picture[y, x, 2] - picture[sy + dy, sx + dx, 2]
            total += weight * (a * a + b * b + c * c)
            weights += weight
        # No patch weighs more than all of its pixels do.
        if total > limit * (2 * HALF + 1) ** 2:
            return 1e9
    return total / weights


@numba.njit(cache=True, fastmath=FAST)  # type: ignore[misc]
def _tried(
    picture: F32, near: F32, sources: Bools, field: Fields, y: int, x: int, sy: int, sx: int, best: float
) -> float:
    """Take a patch's source from here if that is likelier; the difference then."""
    h, w = near.shape
    if sy < 0 or sx < 0 or sy >= h or sx >= w or not sources[sy, sx]:
        return best
    found = _apart(picture, near, y, x, sy, sx, best)
    if found >= best:
        return best
    field[y, x, 0], field[y, x, 1] = sy, sx
    return found


@numba.njit(cache=True, fastmath=FAST)  # type: ignore[misc]
def _search(picture: F32, near: F32, targets: Bools, sources: Bools, field: Fields, worst: F32, seed: int, rounds: int) -> None:
    np.random.seed(seed)
    h, w = near.shape
    for turn in range(rounds):
        back = turn % 2 == 1
        step = -1 if back else 1
        for i in range(h):
            y = h - 1 - i if back else i
            for j in range(w):
                x = w - 1 - j if back else j
                if not targets[y, x]:
                    continue
                if turn == 0:
                    worst[y, x] = _apart(picture, near, y, x, field[y, x, 0], field[y, x, 1], 1e9)
                best = worst[y, x]
                for side in range(2):
                    ny, nx = (y - step, x) if side == 0 else (y, x - step)
                    if ny < 0 or nx < 0 or ny >= h or nx >= w or not targets[ny, nx]:
                        continue
                    sy, sx = field[ny, nx, 0] + (y - ny), field[ny, nx, 1] + (x - nx)
                    best = _tried(picture, near, sources, field, y, x, sy, sx, best)
                radius = max(h, w)
                while radius >= 1:
                    sy = field[y, x, 0] + np.random.randint(-radius, radius + 1)
                    sx = field[y, x, 1] + np.random.randint(-radius, radius + 1)
                    radius //= 2
                    best = _tried(picture, near, sources, field, y, x, sy, sx, best)
                worst[y, x] = best


@numba.njit(cache=True, fastmath=FAST)  # type: ignore[misc]
def _vote(picture: F32, near: F32, inside: Bools, targets: Bools, field: Fields, worst: F32, spread: float) -> None:
    """Every pixel of the hole as the patches over it say, the likest ones counting most."""
    h, w = near.shape
    out = picture.copy()
    for y in range(h):
        for x in range(w):
            if not inside[y, x]:
                continue
            r, g, b, total = 0.0, 0.0, 0.0, 0.0
            for dy in range(-HALF, HALF + 1):
                for dx in range(-HALF, HALF + 1):
                    ty, tx = y - dy, x - dx
                    if ty < 0 or tx < 0 or ty >= h or tx >= w or not targets[ty, tx]:
                        continue
                    weight = near[ty, tx] * np.exp(-worst[ty, tx] / (2 * spread)) + 1e-9
                    sy, sx = field[ty, tx, 0] + dy, field[ty, tx, 1] + dx
                    r += weight * picture[sy, sx, 0]
                    g += weight * picture[sy, sx, 1]
                    b += weight * picture[sy, sx, 2]
                    total += weight
            if total > 0:
                out[y, x, 0], out[y, x, 1], out[y, x, 2] = r / total, g / total, b / total
    picture[:] = out
