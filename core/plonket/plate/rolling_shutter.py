"""Rolling shutter: rows are exposed one after the other, so that a moving picture leans and stretches."""

from __future__ import annotations

import numpy as np

from plonket.base.conventions import F64
from plonket.base.homography import jacobian
from plonket.base.outlines import carry

LEANING = 1e-4
"""A movement that leans by less than this has no part of the shutter in it yet."""
STILL_PX = 1.0
"""Speed in pixels a frame (RMS, its slow part left out) below which nothing can be judged."""
SLOW_FR = 9


def rolled(moved: F64, readout: float, size: tuple[int, int]) -> F64:
    """(n, 3, 3) from each frame as it would be with all rows exposed at once, to the frame as it was filmed.

    A row at height y is read `readout` (y / h - 1/2) frames after the middle one, while the picture goes on moving. To
    first order that is an affine change: x' = x + readout (y / h - 1/2) v, with the picture's velocity v in pixels a frame.

    Parameters
    ----------
    moved : (n, 3, 3) a movement from its reference frame to every frame. readout : share of a frame's time that reading
        all rows takes. size : (width, height).

    Notes
    -----
    A movement that was measured with leaning and stretching of its own (a plane in perspective) has the shutter's part in it
    already: there the identity is returned. The model is the first-order part of P.-E. Forssen and E. Ringaby, 2010,
    doi:10.1109/CVPR.2010.5539932, with one velocity a frame.
    """
    eye = np.tile(np.eye(3), (len(moved), 1, 1))
    if readout <= 0 or len(moved) < 3 or _leans(moved):
        return eye
    slope = readout * _velocities(moved, size) / size[1]
    out = eye.copy()
    out[:, 0, 1], out[:, 0, 2] = slope[:, 0], -slope[:, 0] * size[1] / 2
    out[:, 1, 1], out[:, 1, 2] = 1 + slope[:, 1], -slope[:, 1] * size[1] / 2
    return out


def readout_of(moved: F64, size: tuple[int, int]) -> float | None:
    """The share of a frame's time that reading all rows takes, judged from a surface measured in perspective.

    What the movement leans and stretches in the middle of the picture goes with its speed; slow changes of both are real
    perspective and left out. The slope between the two (least squares, clipped to 0..1) is the readout. None where the
    movement is too calm to tell, or was measured without leaning.
    """
    if len(moved) < 2 * SLOW_FR or not _leans(moved):
        return None
    middle = np.array([size[0] / 2, size[1] / 2])
    bends = []
    for m in moved:
        a = jacobian(m, carry(middle[None], np.linalg.inv(m))[0])
        grown = np.sqrt(max(abs(np.linalg.det(a)), 1e-9))
        bends.append([(a[0, 1] + a[1, 0]) / grown, (a[1, 1] - a[0, 0]) / grown])
    bend = _quick(np.array(bends))
    speed = _quick(_velocities(moved, size))
    if float(np.sqrt((speed**2).mean())) < STILL_PX:
        return None
    return float(np.clip((bend * speed).sum() / (speed**2).sum() * size[1], 0, 1))


def _velocities(moved: F64, size: tuple[int, int]) -> F64:
    """(n, 2) how fast, in pixels a frame, the spot that is in the picture's middle moves through it."""
    middle = np.array([[size[0] / 2, size[1] / 2]])
    out = np.zeros((len(moved), 2))
    for i, m in enumerate(moved):
        held = carry(middle, np.linalg.inv(m))
        if 2 <= i < len(moved) - 2:
            # Five points: a quick shake is as short as a few frames.
            a, b, c, d = (carry(held, moved[i + k])[0] for k in (-2, -1, 1, 2))
            out[i] = (8 * (c - b) - (d - a)) / 12
        else:
            before, after = max(i - 1, 0), min(i + 1, len(moved) - 1)
            out[i] = (carry(held, moved[after])[0] - carry(held, moved[before])[0]) / (after - before)
    return out


def _quick(rows: F64) -> F64:
    """(n, 2) without its slow part: a running mean."""
    kernel = np.ones(SLOW_FR) / SLOW_FR
    padded = np.pad(rows, ((SLOW_FR // 2, SLOW_FR // 2), (0, 0)), mode="reflect")
    slow = np.stack([np.convolve(padded[:, k], kernel, mode="valid") for k in range(2)], axis=1)
    return np.asarray(rows - slow)


def _leans(moved: F64) -> bool:
    """Whether a movement has more in it than shift, turn and size."""
    skew = np.abs(moved[:, 0, 0] - moved[:, 1, 1]) + np.abs(moved[:, 0, 1] + moved[:, 1, 0])
    return bool((skew > LEANING).any() or (np.abs(moved[:, 2, :2]).sum(axis=1) > 1e-9).any())
