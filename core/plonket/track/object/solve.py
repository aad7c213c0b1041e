"""A rigid thing before a still camera, solved from its points: the same as a camera before a thing that stands still."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import BETWEEN_CAMERAS, F64
from plonket.base.errors import Degenerate
from plonket.base.progress import Work
from plonket.room.camera_track import CameraTrack
from plonket.room.lens import Lens
from plonket.track.camera.details import Details
from plonket.track.camera.fit import judged
from plonket.track.camera.scene import sightings
from plonket.track.camera.solve import SolveOptions, SolveResult, solve_given
from plonket.track.points.tracks import PointTracks

LEAST_POINTS = 8


def solve_object(
    tracks: PointTracks, size: tuple[int, int], *, focal: float | None = None, work: Work | None = None
) -> CameraTrack:
    """Solve an object's movement from eight points on it or more; points may be lost and found again.

    Returns
    -------
    CameraTrack whose positions (n, 3) and rotations (n, 3, 3) lead from the object's space to the camera's (x right, y up,
    looking along -z), and whose points lie in the object's space: its origin is their middle, its axes are the camera's on
    the first frame that is solved, its unit is the distance to the camera then.

    Raises
    ------
    Degenerate
        Too few points, or movement that no rigid thing makes.
    """
    seen = np.array([tracks.known(k) for k in range(len(tracks.ids))], bool).reshape(-1, tracks.frames)
    return solve_rigid(tracks.xy, seen, size, focal=focal, work=work)


def solve_rigid(
    xy: F64, seen: NDArray[np.bool_], size: tuple[int, int], *, focal: float | None = None, work: Work | None = None
) -> CameraTrack:
    """The same from paths (m, n, 2) and where they are known (m, n)."""
    if (seen.sum(axis=1) >= 3).sum() < LEAST_POINTS:
        raise Degenerate(
            "object.points", "An object needs eight points that are followed on it, or more. Mark and follow further ones."
        )
    details = Details(xy=np.where(seen[..., None], xy, np.nan), seen=seen)
    solved = solve_given(details, size, SolveOptions(focal=focal, distortion=False, readout=False), least=6, work=work)
    return _track(solved, details, size)


def _track(solved: SolveResult, details: Details, size: tuple[int, int]) -> CameraTrack:
    bundle = solved.bundle
    middle = bundle.points[solved.kept].mean(axis=0)
    first = bundle.rotation[0]
    # The object's axes are the camera's on the first frame; its origin the middle of its points.
    depth = float((first @ middle + bundle.shift[0])[2])
    points = ((bundle.points - middle) @ first.T) @ BETWEEN_CAMERAS / depth
    turn = BETWEEN_CAMERAS @ bundle.rotation @ first.T @ BETWEEN_CAMERAS
    place = (np.einsum("nij,j->ni", bundle.rotation, middle) + bundle.shift) @ BETWEEN_CAMERAS / depth
    sight = sightings(details.xy, details.seen, bundle.frames, size)
    count, n = details.seen.shape
    facts, at = judged(bundle, sight, solved.kept, n), bundle.frames
    position, rotation = np.zeros((n, 3)), np.tile(np.eye(3), (n, 1, 1))
    position[at], rotation[at] = place, turn
    sure = np.zeros(n, np.float32)
    sure[at] = np.clip(1.1 - facts.error_px[at] / 1.5, 0.05, 1)
    return CameraTrack(
        size=size, kind="full", locked=False, position=position, rotation=rotation, focal=np.full(n, bundle.focal),
        distortion=(0.0, 0.0, 0.0, 0.0, 0.0), readout=0.0,
        state=facts.state, reason=facts.reason, confidence=sure, error_px=facts.error_px,
        seen=facts.seen, ids=np.arange(count), points=points, point_error=solved.error.astype(np.float32),
        angle=np.degrees(solved.angle).astype(np.float32), kept=solved.kept, strong=np.ones(count, bool),
        xy=details.xy.astype(np.float32), noise=solved.noise, focal_doubt=solved.focal_doubt, followed="",
        warnings=solved.warnings,
    )  # fmt: skip


def seen_through(track: CameraTrack, frame: int, lens: Lens) -> F64:
    """(m, 2) pixels of an object's points in a frame."""
    local = track.points @ track.rotation[frame].T + track.position[frame]
    return lens.pixels(local @ BETWEEN_CAMERAS)
