"""A form followed from frame to frame by what is seen on its surface."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from plonket.base.conventions import F32, F64, U8
from plonket.track.form.fit import FormPose
from plonket.track.form.surface import LEVELS, Levels, Places, compared

LEAST_PLACES = 60
"""Places that must be seen of a form to follow it."""
STEPS = 14
SETTLED_PX = 0.004
FLOW_POINTS = 260


@dataclass(frozen=True, slots=True, kw_only=True)
class Followed:
    """Where a form was found: likeness from -1 to 1 of what is seen with what it should look like; `noise_px` how far the
    form's corners may be off in the picture, RMS; how many places were compared."""

    stood: FormPose
    likeness: float
    noise_px: float
    places: int


def follow(
    places: Places, levels: Levels, start: FormPose, *, coarsest: int = LEVELS - 1, reach_px: float = 40.0,
    ignored: NDArray[np.bool_] | None = None,
) -> Followed | None:  # fmt: skip
    """The pose that explains a frame best, from a start nearby; None where too little of the form is to be seen.

    `ignored` (h, w): pixels in which nothing is compared.
    """
    stood = start
    seen = places.seen(stood, ignored)
    if seen.sum() < LEAST_PLACES:
        return None
    likeness, noise, used = 0.0, 0.0, 0
    middle = places.at.mean(axis=0)
    a, b = np.empty((6, 6)), np.empty(6)
    for level in range(coarsest, -1, -1):
        if level == 0:
            seen = places.seen(stood, ignored)
            if seen.sum() < LEAST_PLACES:
                return None
        at, look = np.ascontiguousarray(places.at[seen] - middle), np.ascontiguousarray(places.look[seen, level])
        picture = levels.pictures[level]
        scale = 0.5**level
        focal = places.focal * scale
        cx, cy = places.size[0] * scale / 2, places.size[1] * scale / 2
        off, weight = np.zeros(len(at), np.float32), np.zeros(len(at), np.float32)
        turn, place = stood.turn, stood.place + stood.turn @ middle
        gain, width = 1.0, 1e9
        depth = max(float(place[2]), 1e-6)
        radius = float(np.sqrt((at**2).sum(axis=1).mean()))
        damp = 1e-4
        for _ in range(STEPS):
            compared(picture, at, look, turn, place, focal, cx, cy, gain, width, a, b, off, weight)
            shown = (off + np.float32(gain) * look).astype(np.float32)
            gain, width = _light(shown, look, off, weight)
            step = np.linalg.solve(a + damp * np.diag(np.diag(a)) + 1e-9 * np.eye(6), b)
            turn = np.asarray(Rotation.from_rotvec(step[:3]).as_matrix()) @ turn
            place = place + step[3:]
            moved = focal * (radius * float(np.linalg.norm(step[:3])) + float(np.linalg.norm(step[3:]))) / depth
            if moved < SETTLED_PX:
                break
        if place[2] <= 0 or not np.isfinite(place).all():
            return None
        shift = np.linalg.norm(place - (start.place + start.turn @ middle)) * places.focal / depth
        if shift > 4 * reach_px:
            return None
        stood = FormPose(turn=turn, place=place - turn @ middle)
        mse = compared(picture, at, look, turn, place, focal, cx, cy, gain, width, a, b, off, weight)
        likeness = _likeness((off + np.float32(gain) * look).astype(np.float32), look)
        used = len(at)
        spread = np.linalg.inv(a + 1e-12 * np.trace(a) * np.eye(6)) * mse
        noise = _doubt(places, turn, place, spread, middle)
    return Followed(stood=stood, likeness=likeness, noise_px=noise, places=used)


def _doubt(places: Places, turn: F64, place: F64, spread: F64, middle: F64) -> float:
    """What a pose's covariance (6, 6) makes of the form's far corners: RMS pixels."""
    low, high = places.surface.vertices.min(axis=0) - middle, places.surface.vertices.max(axis=0) - middle
    corners = np.stack(np.meshgrid(*np.stack([low, high], axis=1)), axis=-1).reshape(8, 3)
    total = 0.0
    for c in corners @ turn.T:
        x, y, z = c + place
        z = max(float(z), 1e-6)
        lens = np.array([[1 / z, 0, -x / z**2], [0, 1 / z, -y / z**2]]) * places.focal
        cross = np.array([[0, c[2], -c[1]], [-c[2], 0, c[0]], [c[1], -c[0], 0]])
        j = lens @ np.column_stack([cross, np.eye(3)])
        total += float(np.trace(j @ spread @ j.T))
    return float(np.sqrt(total / len(corners)))


def _light(shown: F32, look: F32, off: F32, weight: F32) -> tuple[float, float]:
    """How much stronger the surface shows than it should, and where residuals stop counting."""
    w = np.maximum(weight, 1e-3)
    gain = float((w * shown * look).sum() / max(float((w * look * look).sum()), 1e-6))
    spread = float(np.median(np.abs(off))) * 1.4826
    return float(np.clip(gain, 0.25, 4.0)), max(4.0 * spread, 2.5)


def _likeness(shown: F32, look: F32) -> float:
    a, b = shown - shown.mean(), look - look.mean()
    return float((a * b).sum() / max(float(np.sqrt((a * a).sum() * (b * b).sum())), 1e-9))


def by_flow(
    places: Places, before: U8, after: U8, stood: FormPose, reach_px: float, ignored: NDArray[np.bool_] | None = None
) -> FormPose | None:
    """Where the form went between two frames, from how its details flowed: a start for fast moves.

    `ignored` (h, w): pixels of the frame before that are not followed.
    """
    seen = np.flatnonzero(places.seen(stood, ignored))
    if len(seen) < 20:
        return None
    chosen = seen[np.linspace(0, len(seen) - 1, min(FLOW_POINTS, len(seen))).astype(int)]
    at = places.at[chosen]
    was = stood.seen(at, places.focal, places.size).astype(np.float32)
    depth = max(1, int(np.ceil(np.log2(max(reach_px, 8) / 8))))
    now, ok, _ = cv2.calcOpticalFlowPyrLK(before, after, was.reshape(-1, 1, 2), None, winSize=(17, 17), maxLevel=depth)  # type: ignore[call-overload]
    good = ok.ravel() > 0
    if good.sum() < 12:
        return None
    k = np.array([[places.focal, 0, places.size[0] / 2], [0, places.focal, places.size[1] / 2], [0, 0, 1.0]])
    turn0, place0 = Rotation.from_matrix(stood.turn).as_rotvec(), stood.place.copy()
    found, turn, place, inliers = cv2.solvePnPRansac(
        np.ascontiguousarray(at[good]), now.reshape(-1, 2)[good].astype(np.float64), k, None, turn0.reshape(3, 1).copy(),
        place0.reshape(3, 1).copy(), useExtrinsicGuess=True, reprojectionError=2.5, iterationsCount=120,
    )  # fmt: skip
    if not found or inliers is None or len(inliers) < 10:
        return None
    turned = np.asarray(Rotation.from_rotvec(turn.ravel()).as_matrix())
    return FormPose(turn=turned, place=np.asarray(place, np.float64).ravel())


def carried_on(before: FormPose, last: FormPose) -> FormPose:
    """The pose after `last` if it goes on as it did since `before`."""
    turn = last.turn @ before.turn.T @ last.turn
    u, _, vt = np.linalg.svd(turn)
    return FormPose(turn=np.asarray(u @ vt), place=2 * last.place - before.place)


def mixed(a: FormPose, b: FormPose, share: float) -> FormPose:
    """Between two poses: `share` of the way to the second."""
    way = Rotation.from_matrix(b.turn @ a.turn.T).as_rotvec() * share
    return FormPose(turn=np.asarray(Rotation.from_rotvec(way).as_matrix() @ a.turn),
                 place=np.asarray(a.place + (b.place - a.place) * share))  # fmt: skip


