"""Which frames tell a frame's depth, and between which distances all of it lies."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from plonket.base.conventions import F64
from plonket.depth.from_flow import flows, triangulated
from plonket.depth.straight import Straight

ANGLES = (0.07, 0.14)
"""Shares of the middle distance by which the camera should have moved: near enough to look alike, far enough to tell."""
LEAST_ANGLE = 0.008
"""Less than that tells nothing."""
LEAST_POINTS = 12
MOST_TURN = 0.35
"""Of the field of view, what may have gone out of it."""
NEARER, FARTHER = 0.5, 2.5
"""Times the nearest and the farthest of what is known, between which all is taken to lie."""
TRIED = (3, 6, 12, 24)
"""Frames apart from which distances are guessed where a camera comes without points."""
GUESS_SCALE = 0.5
"""Of the pictures for that."""
SURE_PX = 0.08
"""Views agree that well where a guess is believed."""


@dataclass(frozen=True, slots=True)
class Distances:
    """Of what a frame shows, in the camera's units."""

    near: float
    middle: float
    far: float


def distances(straight: Straight, frame: int) -> Distances | None:
    """By the solved details that a frame shows, or else by how it moves; None where neither tells."""
    track = straight.track
    local = (track.points[track.kept] - track.position[frame]) @ track.rotation[frame]
    ahead = -local[:, 2]
    focal = track.focal[frame]
    inside = (ahead > 1e-6) & (np.abs(local[:, 0]) * focal < 0.6 * track.size[0] * ahead)
    inside &= np.abs(local[:, 1]) * focal < 0.6 * track.size[1] * ahead
    found = np.sort(ahead[inside])
    if len(found) < LEAST_POINTS:
        found = _guessed(straight, frame)
    if len(found) < LEAST_POINTS:
        return None
    near, middle, far = (float(np.percentile(found, p)) for p in (1, 50, 99))
    return Distances(NEARER * near, middle, FARTHER * far)


def _guessed(straight: Straight, frame: int) -> F64:
    """(k,) sorted distances by dense movement to frames further and further away."""
    known = straight.track.known()
    out = [np.zeros(0)]
    size = (max(2, round(straight.size[0] * GUESS_SCALE)), max(2, round(straight.size[1] * GUESS_SCALE)))
    for apart in TRIED:
        others = [k for k in (frame - apart, frame + apart) if 0 <= k < len(known) and known[k]]
        if len(others) < 2:
            others = [k for k in (*others, frame - 2 * apart, frame + 2 * apart) if 0 <= k < len(known) and known[k]][:2]
        if not others:
            break
        codes = [np.asarray(straight.grey(k) + 0.5, np.uint8) for k in (frame, *others)]
        small = [np.asarray(cv2.resize(one, size, interpolation=cv2.INTER_AREA)) for one in codes]
        lies = [straight.lies(frame, k).reduced(straight.size, size) for k in others]
        inverse, off = triangulated(flows(small[0], small[1:]), lies, 1e-9, np.inf)
        sure = (off < SURE_PX) & (inverse > 1e-6)
        out.append(np.sort(1 / inverse[sure]))
        middle = float(np.median(out[-1])) if len(out[-1]) else np.inf
        position = straight.track.position
        if np.linalg.norm(position[others[0]] - position[frame]) > ANGLES[0] * middle:
            break
    # Farther apart they are told better, as long as much is still found.
    good = [one for one in out if len(one) > 0.1 * size[0] * size[1]]
    return np.asarray(good[-1] if good else out[-1], np.float64)


def beside(straight: Straight, frame: int, middle: float, count: int = 4) -> list[int]:
    """Frames, up to `count`, from which this one is seen from suitable other places; none where the camera stands."""
    track = straight.track
    known = np.flatnonzero(track.known())
    moved = np.linalg.norm(track.position[known] - track.position[frame], axis=1) / middle
    turned = np.arccos(np.clip(track.rotation[known][:, :, 2] @ track.rotation[frame][:, 2], -1, 1))
    field = 2 * np.arctan(track.size[0] / 2 / track.focal[frame])
    usable = (moved > LEAST_ANGLE) & (turned < MOST_TURN * field) & (known != frame)
    out: list[int] = []
    for angle in ANGLES:
        for side in (-1, 1):
            here = usable & (np.sign(known - frame) == side) & ~np.isin(known, out)
            if here.any():
                out.append(int(known[here][int(np.argmin(np.abs(np.log(moved[here] / angle))))]))
    rest = usable & ~np.isin(known, out)
    while len(out) < count and rest.any():
        k = int(np.argmin(np.where(rest, np.abs(np.log(np.maximum(moved, 1e-9) / ANGLES[1])), np.inf)))
        out.append(int(known[k]))
        rest[max(0, k - 2) : k + 3] = False
    return out[:count]
