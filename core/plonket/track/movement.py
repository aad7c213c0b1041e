"""Movements: homographies over time, made from what was measured, bridged and smoothed as chosen."""

from __future__ import annotations

from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.interpolate import PchipInterpolator
from scipy.ndimage import gaussian_filter1d

from plonket.base.conventions import F64
from plonket.base.outlines import carry
from plonket.base.resampled import between_rows
from plonket.document.bases import MotionBase
from plonket.document.kinds import MOTIONS
from plonket.room.camera import camera_movement
from plonket.room.camera_track import CameraTrack
from plonket.track.depth.depth_track import DepthTrack
from plonket.track.matte.matte_track import MatteTrack
from plonket.track.plane.correct import corrected, quad_homography
from plonket.track.plane.settings import PlaneMotion
from plonket.track.plane.track import PlaneTrack
from plonket.track.points.settings import PointMotion
from plonket.track.points.tracks import PointTracks

Measured = PointTracks | PlaneTrack | CameraTrack | MatteTrack | DepthTrack
Gaps = Literal["line", "curve"]


def bridge(values: F64, known: NDArray[np.bool_], gaps: Gaps = "line") -> F64:
    """Fill unknown frames of (n, k) values from known neighbours; hold the ends.

    ``curve`` goes through the gap with the speed that is known on either side (monotone cubic:
    F. Fritsch and R. Carlson, 1980, doi:10.1137/0717021), ``line`` straight.
    """
    frames = np.arange(len(values))
    at = frames[known]
    if gaps == "curve" and len(at) >= 3:
        inside = np.clip(frames, at[0], at[-1])
        return np.asarray(PchipInterpolator(at, values[known], axis=0)(inside))
    return np.stack([np.interp(frames, at, values[known, k]) for k in range(values.shape[1])], axis=1)


def smoothed(values: F64, frames_sd: float) -> F64:
    """Values over time (n, ...) with small shakes left out (Gaussian; the ends are mirrored about their value)."""
    if frames_sd <= 0 or len(values) < 3:
        return values
    # Odd reflection keeps a steady move steady up to its ends.
    pad = min(len(values) - 1, int(4 * frames_sd) + 1)
    before = 2 * values[0] - values[pad:0:-1]
    after = 2 * values[-1] - values[-2 : -pad - 2 : -1]
    out = gaussian_filter1d(np.concatenate([before, values, after]), frames_sd, axis=0, mode="nearest")
    return np.asarray(out[pad : pad + len(values)])


def point_paths(motion: PointMotion, tracks: PointTracks) -> dict[str, F64]:
    """Each point's path (n, 2) in pixels, gaps bridged and smoothed as the motion says; unknown points are left out."""
    out = {}
    for k, point_id in enumerate(tracks.ids):
        known = tracks.known(k)
        if known.any():
            out[point_id] = smoothed(bridge(tracks.xy[k], known, motion.gaps), motion.smooth)
    return out


def point_movement(motion: PointMotion, tracks: PointTracks, reference: int) -> F64:
    """Least-squares movement of a point motion: (n, 3, 3) from frame `reference` to every frame.

    One point gives shift; two or more give shift, turn and size; four or more give perspective when
    the motion asks for it. Frames on which a point is lost are bridged, so that nothing that follows
    jumps; the trust strip says where.

    Source: S. Umeyama, 1991, doi:10.1109/34.88573, eqs. 34-42 (restricted to two dimensions).
    """
    tracks = tracks.only(tuple(p.id for p in motion.points))
    n = tracks.frames
    out = np.tile(np.eye(3), (n, 1, 1))
    paths = list(point_paths(motion, tracks).values())
    if not paths:
        return out
    xy = np.stack(paths)  # (points, frames, 2)
    base = xy[:, min(reference, n - 1)]
    if motion.gives == "perspective" and len(xy) >= 4:
        solved = [cv2.findHomography(base, np.ascontiguousarray(xy[:, i]), 0)[0] for i in range(n)]
        return np.stack([np.eye(3) if m is None else m / m[2, 2] for m in solved])
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


def plane_movement(motion: PlaneMotion, track: PlaneTrack, reference: int) -> F64:
    """Movement of a plane with its stakes: (n, 3, 3) from frame `reference` to every frame; lost frames are bridged."""
    h = corrected(motion, track)
    known = track.known()
    if not known.all() or motion.smooth > 0:
        quad = np.array(motion.quad, np.float64)
        paths = np.stack([carry(quad, m).ravel() for m in h])
        sound = known & np.isfinite(paths).all(axis=1)
        paths = smoothed(_bridged_corners(motion, np.nan_to_num(paths), sound), motion.smooth)
        h = homographies(quad, paths.reshape(-1, 4, 2), h, only=None if motion.smooth > 0 else ~known)
    return from_frame(h, reference)


def _bridged_corners(motion: PlaneMotion, paths: F64, sound: NDArray[np.bool_]) -> F64:
    """Corners (n, 8) with lost frames filled: through the stakes there, and from the known frames on either side."""
    out = paths.copy()
    for k in range(4):
        known, corner = sound.copy(), paths[:, 2 * k : 2 * k + 2].copy()
        for stake in motion.stakes:
            at = stake.corners[k]
            if at is not None and stake.frame < len(sound) and not sound[stake.frame]:
                known[stake.frame], corner[stake.frame] = True, at
        if known.any():
            out[:, 2 * k : 2 * k + 2] = bridge(corner, known, motion.gaps)
    return out


def homographies(quad: F64, corners: F64, otherwise: F64, only: NDArray[np.bool_] | None = None) -> F64:
    """(n, 3, 3) that take a quad (4, 2) to its corners (n, 4, 2); where that fails, or not asked, `otherwise`."""
    out = otherwise.copy()
    for i in range(len(corners)):
        if only is None or only[i]:
            found = quad_homography(quad, corners[i])
            if found is not None:
                out[i] = found
    return out


def from_frame(h: F64, reference: int) -> F64:
    """A movement (n, 3, 3) restated from another frame."""
    out = h @ np.linalg.inv(h[min(reference, len(h) - 1)])
    return np.asarray(out / out[:, 2:, 2:])


def room_movement(motion: MotionBase, track: CameraTrack, reference: int) -> F64:
    """Of what solves a room: how things at the details' usual depth move, (n, 3, 3)."""
    return camera_movement(track, reference)


def movement_of(motion: MotionBase, measured: Measured, reference: int) -> F64:
    """(n, 3, 3) from frame `reference` to every frame, whatever the kind of motion."""
    entry = MOTIONS.of(motion)
    assert isinstance(measured, entry.track)
    return np.asarray(entry.movement(motion, measured, reference))


def steadied(movement: F64, reference: int, frames_sd: float, size: tuple[int, int]) -> F64:
    """A movement (n, 3, 3) with small shakes left out, still the identity on its reference frame."""
    if frames_sd <= 0:
        return movement
    w, h = size
    quad = np.array([[0, 0], [w, 0], [w, h], [0, h]], np.float64)
    corners = np.stack([carry(quad, m) for m in movement])
    if not np.isfinite(corners).all():
        return movement
    return from_frame(homographies(quad, smoothed(corners, frames_sd), movement), reference)


def inverted(movement: F64) -> F64:
    """The opposite movement, (n, 3, 3)."""
    out = np.linalg.inv(movement)
    return np.asarray(out / out[:, 2:, 2:], np.float64)


def between(movement: F64, frame: float) -> F64:
    """A movement (n, 3, 3) at a fractional frame."""
    return between_rows(movement, frame)
