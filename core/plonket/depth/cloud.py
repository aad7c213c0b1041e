"""The measured depth of a clip as a cloud of points in its room, in the colours of what was filmed."""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterable

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64, U8
from plonket.depth.frame_depth import UNSURE
from plonket.room.camera import RoomCamera
from plonket.track.depth.depth_track import DepthTrack

MOST_FRAMES = 24
SAMPLED = 40_000
"""So many places of each frame are looked at, evenly over it."""
FINE = 220
"""Cells along the longest side of the room: what falls into one is one point."""
FAR_OUT = (1.0, 99.0)
"""Per cent of the places between which, on each axis, the room's size is told."""
BEYOND = 0.5
"""So much of that size further out they are left away."""
AGREED = 2
"""What only so few frames show, where there are more of them, may be wrong; fewer than this are left out."""


def depth_cloud(
    track: DepthTrack, camera: RoomCamera, frames: Iterable[int], rgb: Callable[[int], U8], most: int = 60_000
) -> tuple[F32, U8]:
    """Places (n, 3) in the room, metres, and their colours (n, 3), sRGB codes; at most so many, those seen most often first.

    Parameters
    ----------
    frames : whose depth may be gone by. rgb : of a frame, (h, w, 3).
    """
    known = [f for f in frames if 0 <= f < track.frames and track.pictures[f]]
    if not known:
        return np.zeros((0, 3), np.float32), np.zeros((0, 3), np.uint8)
    some = sorted({known[int(k)] for k in np.linspace(0, len(known) - 1, MOST_FRAMES).round()})
    parts = [_of_frame(track, camera, f, rgb(f)) for f in some]
    places, colours = np.concatenate([p for p, _ in parts]), np.concatenate([c for _, c in parts])
    whose = np.repeat(np.arange(len(parts)), [len(p) for p, _ in parts])
    if not len(places):
        return places.astype(np.float32), colours
    low, high = (np.percentile(places, share, axis=0) for share in FAR_OUT)
    size = high - low
    near = ((places > low - BEYOND * size) & (places < high + BEYOND * size)).all(axis=1)
    places, colours, whose = places[near], colours[near], whose[near]
    return _thinned(places, colours, whose, float(size.max()) / FINE, AGREED if len(parts) > AGREED else 1, most)


def _of_frame(track: DepthTrack, camera: RoomCamera, frame: int, rgb: U8) -> tuple[F64, U8]:
    depth, sure = track.depth(frame), track.sure(frame)
    assert depth is not None and sure is not None
    h, w = depth.shape
    step = max(1, round(np.sqrt(h * w / SAMPLED)))
    # From frame to frame other pixels, so that their rows show no pattern.
    y, x = np.mgrid[frame * 7 % step : h : step, frame * 3 % step : w : step]
    there = (depth[y, x] > 0) & (sure[y, x] >= UNSURE)
    y, x = y[there], x[there]
    rays = camera.lens(frame).rays(np.stack([x, y], axis=-1) + 0.5)
    # Depth is in the camera's own units, the room in metres.
    local = rays / rays[:, 2:] * (depth[y, x, None] * camera.room.scale) * [1.0, -1.0, -1.0]
    return local @ camera.turn(frame).T + camera.eye(frame), rgb[y, x]


def _thinned(
    places: F64, colours: U8, whose: NDArray[np.int64], cell: float, agreed: int, most: int
) -> tuple[F32, U8]:
    """One point for each cell: the mean of what lies in it, where enough frames agree."""
    at = np.floor((places - places.min(axis=0)) / max(cell, 1e-9)).astype(np.int64)
    wide = at.max(axis=0) + 1
    name = (at[:, 0] * wide[1] + at[:, 1]) * wide[2] + at[:, 2]
    _, of, count = np.unique(name, return_inverse=True, return_counts=True)
    pairs = np.unique(of.astype(np.int64) * (int(whose.max()) + 1) + whose)
    seen = np.bincount(pairs // (int(whose.max()) + 1), minlength=len(count))
    kept = np.flatnonzero(seen >= agreed)
    kept = np.sort(kept[np.argsort(-seen[kept], kind="stable")[:most]])

    def mean(values: F64) -> F64:
        sums = [np.bincount(of, weights=values[:, k], minlength=len(count)) for k in range(3)]
        return np.asarray(np.stack(sums, axis=1)[kept] / count[kept, None])

    return mean(places).astype(np.float32), np.round(mean(colours.astype(np.float64))).astype(np.uint8)


def dump_cloud(places: F32, colours: U8) -> bytes:
    """How many as 32 bits, then all places as 32-bit floats, then all colours as bytes; little-endian."""
    return struct.pack("<I", len(places)) + places.astype("<f4").tobytes() + colours.tobytes()
