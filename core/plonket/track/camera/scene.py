"""What is seen of the details, and points made from it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64
from plonket.room.lens import Lens
from plonket.track.camera.bundle import Bundle, Observations, point_starts
from plonket.track.camera.bundle_kernels import meet, settle


def sightings(
    xy: F64, seen: NDArray[np.bool_], frames: NDArray[np.int64], size: tuple[int, int], weight: F64 | None = None
) -> Observations:
    """What of tracks (n, frames, 2) is seen on chosen frames; cameras count along `frames`, points along the tracks."""
    point, camera = np.nonzero(seen[:, frames])
    at = xy[point, frames[camera]]
    width, height = size
    return Observations(
        camera=camera.astype(np.int64), point=point.astype(np.int64),
        xy=np.ascontiguousarray(at - np.array([width / 2, height / 2])), row=at[:, 1] / height - 0.5,
        weight=np.ones(len(point)) if weight is None else weight[point],
    )  # fmt: skip


def lens_of(bundle: Bundle, size: tuple[int, int], camera: int = 0) -> Lens:
    """A camera's lens as the bundle has it."""
    return Lens(
        focal=float(np.exp(bundle.shared[0] + bundle.zoom[camera])), principal=(size[0] / 2, size[1] / 2),
        k1=float(bundle.shared[1]), k2=float(bundle.shared[2]),
    )  # fmt: skip


def rays_of(bundle: Bundle, seen: Observations) -> F64:
    """(n, 3) directions from the cameras, z = 1."""
    focal = np.exp(bundle.shared[0] + bundle.zoom[seen.camera])
    lens = Lens(focal=1.0, principal=(0.0, 0.0), k1=float(bundle.shared[1]), k2=float(bundle.shared[2]))
    return lens.rays(seen.xy / focal[:, None])


def triangulated(bundle: Bundle, seen: Observations, points: int, *, width_px: float = 2.0) -> tuple[F64, F64]:
    """Points (points, 3) where their sightings meet, and the widest angle between two rays in radians (points,)."""
    starts = point_starts(seen, points)
    out, angle = np.zeros((points, 3)), np.zeros(points)
    meet(starts, seen.camera, rays_of(bundle, seen), bundle.rotation, bundle.shift, out, angle)
    tolerance(bundle, seen, out, width_px=width_px)
    return out, angle


def tolerance(bundle: Bundle, seen: Observations, points: F64, *, width_px: float) -> None:
    """Move each point by itself to where it fits best; `points` (n, 3) is changed."""
    speeds = bundle.speeds() if bundle.shared[3] else np.zeros((len(bundle.rotation), 6))
    settle(bundle.rotation, bundle.shift, bundle.zoom, bundle.shared, speeds, point_starts(seen, len(points)),
           seen.camera, seen.xy, seen.row, seen.weight, width_px, points)  # fmt: skip


def depths(bundle: Bundle, seen: Observations) -> F64:
    """(n,) how far before its camera each sighting's point lies."""
    axis = bundle.rotation[seen.camera, 2]
    return np.asarray((axis * bundle.points[seen.point]).sum(axis=1) + bundle.shift[seen.camera, 2])
