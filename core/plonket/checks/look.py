"""A look at a whole clip: what its camera does, by details followed through frames spread over all of it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64, U8
from plonket.base.errors import BadInput, Degenerate
from plonket.media.clip import Clip
from plonket.track.camera.details import Details, follow_details
from plonket.track.camera.initialise import evenly, solve_turns
from plonket.track.camera.solve import standing_details

MOST_LOOKS = 72
LOOKS_A_SECOND = 10.0
WIDTH = 640
COUNT = 320
SPACING_PX = 9.0
TURNS_PX = 0.3
"""Pixels of a look by which turns alone may be off, to explain all that stands."""
FLAT_PX = 1.2
"""The same of one flat surface."""
FLAT_SHARE = 0.85
EPIPOLAR_PX = 1.0
LEAST = 16
"""Details two looks must share to be compared."""

Camera = Literal["locked", "turns", "flat", "depth", "unclear"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Look:
    """What was looked at and followed.

    Attributes
    ----------
    frames : (n,) of the clip. pictures : n of 8-bit (h, w), reduced. scale : their size over the clip's.
    details : followed over the looks, in reduced pixels. standing : (details,) those that do not move at all; None unless it
        stands. camera : what it does: stands, only turns, moves before one flat surface or in a room.
    """

    frames: NDArray[np.int64]
    pictures: list[U8]
    scale: float
    details: Details
    camera: Camera
    standing: NDArray[np.bool_] | None

    @property
    def size(self) -> tuple[int, int]:
        return self.pictures[0].shape[1], self.pictures[0].shape[0]


def look_at(clip: Clip, start: int, stop: int) -> Look:
    """Look at frames start..stop-1. Raises `BadInput` for fewer than two frames."""
    if stop - start < 2:
        raise BadInput("advise.short", "One frame alone does not move; there is nothing to advise on.")
    step = max(1, round(float(clip.info.rate) / LOOKS_A_SECOND), -(-(stop - start) // MOST_LOOKS))
    frames = np.unique(np.r_[np.arange(start, stop, step), stop - 1]).astype(np.int64)
    scale = min(1.0, WIDTH / max(clip.info.size))
    size = (max(16, round(clip.info.width * scale)), max(16, round(clip.info.height * scale)))
    pictures = [np.asarray(cv2.resize(clip.luma(int(f)), size, interpolation=cv2.INTER_AREA), np.uint8) for f in frames]
    n = len(pictures)
    details = follow_details(lambda k: pictures[k], range(n), n, count=COUNT, spacing_px=SPACING_PX, least=1.2, again=False)
    every = np.flatnonzero(details.seen.sum(axis=0) >= 8)
    standing = standing_details(details, every, size) if len(every) >= 2 else None
    camera: Camera = "locked" if standing is not None else _camera(details, every, size)
    return Look(frames=frames, pictures=pictures, scale=scale, details=details, camera=camera, standing=standing)


def _camera(details: Details, every: NDArray[np.int64], size: tuple[int, int]) -> Camera:
    """What a camera that does not stand does."""
    if len(every) < 2 or len(details.xy) < LEAST:
        return "unclear"
    try:
        turned = solve_turns(details, evenly(every, 24), size, None).error
    except Degenerate:
        turned = np.inf
    if turned < TURNS_PX:
        return "turns"
    flat, epipolar = _shares(details)
    if flat > FLAT_SHARE:
        return "flat"
    return "depth" if epipolar > max(0.6, flat + 0.08) else "turns" if turned < 1.5 * TURNS_PX else "unclear"


def _shares(details: Details) -> tuple[float, float]:
    """Of details in pairs of looks far apart: how many one flat surface explains, and how many one rigid set."""
    flat, rigid = [], []
    for a, b in far_pairs(details):
        p, q = shared(details, a, b)
        _, near = cv2.findHomography(p, q, cv2.RANSAC, FLAT_PX)
        flat.append(float((near > 0).mean()) if near is not None else 0.0)
        _, fits = cv2.findFundamentalMat(p, q, cv2.USAC_MAGSAC, EPIPOLAR_PX, 0.999, 3000)
        rigid.append(float((fits > 0).mean()) if fits is not None else 0.0)
    return (float(np.median(flat)), float(np.median(rigid))) if flat else (0.0, 0.0)


def far_pairs(details: Details) -> list[tuple[int, int]]:
    """Pairs of looks as far apart as half of the details of the first live on, all over the clip."""
    n, out = details.frames, []
    for a in np.unique(np.linspace(0, max(n - 2, 0), 7).round().astype(int)):
        alive = (details.seen & details.seen[:, [a]]).sum(axis=0)[a:]
        enough = np.flatnonzero(alive >= max(LEAST, 0.5 * alive[0]))
        if len(enough) and enough[-1] >= 1:
            out.append((int(a), int(a + enough[-1])))
    return out


def shared(details: Details, a: int, b: int) -> tuple[F64, F64]:
    """Places (k, 2) in two looks of what both show."""
    both = details.seen[:, a] & details.seen[:, b]
    return details.xy[both, a], details.xy[both, b]
