"""Following: what a motion does to the things that follow it."""

from __future__ import annotations

import numpy as np
from pydantic import Field

from plonket.conventions import F64
from plonket.fields import Identifier, Model, switch
from plonket.motion.points.tracks import PointTracks
from plonket.motion.states import NONE


class Follow(Model):
    """What is followed, from which frame, and which parts of the movement."""

    motion: Identifier | None = None
    reference_frame: int = Field(default=0, ge=0)
    shift: bool = switch(True, label="Shift", group="Follow")
    turn: bool = switch(True, label="Turn", group="Follow")
    size: bool = switch(True, label="Size", group="Follow")


def carried(follow: Follow, matrices: F64 | None, frame: int, at: F64) -> tuple[F64, F64]:
    """Where a spot goes and how things on it turn and scale.

    Parameters
    ----------
    matrices : (n, 3, 3) from the reference frame to each frame, or None.
    at : (2,) pixel in the reference frame.

    Returns
    -------
    place : (2,) pixel in `frame`. linear : (2, 2) turn and scale of what sits there.
    """
    if matrices is None:
        return at, np.eye(2)
    m = matrices[min(frame, len(matrices) - 1)]
    moved = m @ np.array([at[0], at[1], 1.0])
    place = moved[:2] / moved[2] if follow.shift else at
    a, b = m[0, 0], m[1, 0]
    size = float(np.hypot(a, b)) if follow.size else 1.0
    angle = float(np.arctan2(b, a)) if follow.turn else 0.0
    c, s = np.cos(angle) * size, np.sin(angle) * size
    return place, np.array([[c, -s], [s, c]])


def point_matrices(tracks: PointTracks, reference: int) -> F64:
    """Least-squares movement of a point motion: (n, 3, 3) from frame `reference` to every frame.

    One point gives shift; two or more give shift, turn and size. Frames on which a point is lost
    are bridged in a straight line between its neighbours and held at the ends, so that nothing
    that follows jumps; the trust strip says where.

    Source: S. Umeyama, 1991, doi:10.1109/34.88573, eqs. 34-42 (restricted to two dimensions).
    """
    n = tracks.frames
    out = np.tile(np.eye(3), (n, 1, 1))
    bridged = [bridge(tracks.xy[k], tracks.known(k)) for k in range(len(tracks.names)) if tracks.known(k).any()]
    if not bridged:
        return out
    xy = np.stack(bridged)  # (points, frames, 2)
    base = xy[:, min(reference, n - 1)]
    centre, base_centre = xy.mean(axis=0), base.mean(axis=0)
    linear = np.tile(np.eye(2), (n, 1, 1))
    if len(xy) >= 2:
        p = base - base_centre
        q = xy - centre
        norm = float((p**2).sum())
        if norm > 1e-6:
            a = (p[:, None, 0] * q[..., 0] + p[:, None, 1] * q[..., 1]).sum(axis=0) / norm
            b = (p[:, None, 0] * q[..., 1] - p[:, None, 1] * q[..., 0]).sum(axis=0) / norm
            linear = np.stack([np.stack([a, -b], -1), np.stack([b, a], -1)], axis=-2)
    out[:, :2, :2] = linear
    out[:, :2, 2] = centre - linear @ base_centre
    return out


def bridge(xy: F64, known: np.ndarray) -> F64:
    """Fill unknown frames of a (n, 2) track linearly from known neighbours; hold the ends."""
    frames = np.arange(len(xy))
    return np.stack([np.interp(frames, frames[known], xy[known, k]) for k in range(2)], axis=1)


__all__ = ["NONE", "Follow", "bridge", "carried", "point_matrices"]
