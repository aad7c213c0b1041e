"""Stakes on a plane: corners put right by hand, their correction spread over time."""

from __future__ import annotations

import numpy as np

from plonket.base.conventions import F64
from plonket.base.outlines import carry
from plonket.track.plane.settings import PlaneMotion
from plonket.track.plane.track import PlaneTrack


def quad_homography(a: F64, b: F64) -> F64 | None:
    """The (3, 3) homography that takes the four corners `a` (4, 2) to `b` (4, 2); None when degenerate.

    Source: R. Hartley and A. Zisserman, Multiple View Geometry, 2004, algorithm 4.1 with normalisation.
    """
    ta, tb = _normaliser(a), _normaliser(b)
    p, q = carry(a, ta), carry(b, tb)
    rows = []
    for (x, y), (u, v) in zip(p, q, strict=True):
        rows.append([-x, -y, -1, 0, 0, 0, u * x, u * y, u])
        rows.append([0, 0, 0, -x, -y, -1, v * x, v * y, v])
    try:
        _, sizes, vt = np.linalg.svd(np.array(rows))
    except np.linalg.LinAlgError:
        return None
    if sizes[-1] < 1e-9 * sizes[0] or not np.isfinite(sizes).all():
        return None
    h = np.linalg.inv(tb) @ vt[-1].reshape(3, 3) @ ta
    if abs(h[2, 2]) < 1e-12 * np.abs(h).max():
        return None
    h = h / h[2, 2]
    ends = np.hstack([a, np.ones((4, 1))]) @ h.T
    return None if (ends[:, 2] <= 1e-9).any() else np.asarray(h)


def _normaliser(xy: F64) -> F64:
    centre = xy.mean(axis=0)
    size = max(float(np.hypot(*(xy - centre).T).mean()), 1e-9) / np.sqrt(2)
    return np.array([[1 / size, 0, -centre[0] / size], [0, 1 / size, -centre[1] / size], [0, 0, 1.0]])


def corner_offsets(motion: PlaneMotion, track: PlaneTrack) -> F64:
    """How far stakes move each corner, (n, 4, 2) in reference-frame pixels.

    A corner's correction is exact on its stakes, nought on the reference frame, straight in between
    and held beyond the last stake on either side. Stakes on frames where the surface is lost correct
    nothing elsewhere: they are places for the bridge to go through.
    """
    n = track.frames
    sound = track.known()
    quad = np.array(motion.quad, np.float64)
    out = np.zeros((n, 4, 2))
    frames = np.arange(n)
    for k in range(4):
        known: dict[int, F64] = {track.reference_frame: np.zeros(2)}
        for stake in motion.stakes:
            corner = stake.corners[k]
            if corner is None or stake.frame >= n or not sound[stake.frame]:
                continue
            back = carry(np.array([corner], np.float64), np.linalg.inv(track.homography[stake.frame]))[0]
            if np.isfinite(back).all():
                known[stake.frame] = back - quad[k]
        at = sorted(known)
        for axis in range(2):
            out[:, k, axis] = np.interp(frames, at, [known[f][axis] for f in at])
    return out


def corrected(motion: PlaneMotion, track: PlaneTrack) -> F64:
    """Homographies (n, 3, 3) from the reference frame to every frame, with the stakes' corrections."""
    if not motion.stakes:
        return track.homography
    quad = np.array(motion.quad, np.float64)
    offsets = corner_offsets(motion, track)
    out = track.homography.copy()
    for i in range(track.frames):
        if np.abs(offsets[i]).max() < 1e-9:
            continue
        moved = quad_homography(quad, quad + offsets[i])
        if moved is not None:
            out[i] = out[i] @ moved
            out[i] /= out[i][2, 2]
    return out


__all__ = ["corner_offsets", "corrected", "quad_homography"]
