"""Measuring a camera motion: details followed, the camera solved, the room put straight."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation, Slerp

from plonket.base.conventions import BETWEEN_CAMERAS, F64
from plonket.base.errors import BadInput
from plonket.base.progress import Work
from plonket.base.states import TRACKED
from plonket.media.clip import Clip
from plonket.media.gyroscope import Gyroscope
from plonket.room.alignment import suggested
from plonket.room.camera_track import CameraTrack
from plonket.track.camera.details import Details, follow_details
from plonket.track.camera.fit import judged
from plonket.track.camera.joined import solve_stretches, turns_recorded
from plonket.track.camera.scene import sightings
from plonket.track.camera.settings import CameraMotion
from plonket.track.camera.solve import SolveOptions, SolveResult
from plonket.track.camera.upright import upright
from plonket.track.context import MeasureContext
from plonket.track.plane.region_masks import pixels_ignored
from plonket.track.request import MeasureRequest

LONGEST = 3000
"""Frames that are solved at the most."""
CARRIED = "{} frames show too little: how the camera turned there is what its gyroscope recorded."
CARRIED_SURE = 0.5
"""How far a frame is to be trusted on which only a gyroscope tells how the camera turned."""


def measure_camera(motion: CameraMotion, request: MeasureRequest) -> CameraTrack:
    """Follow details through a clip and solve the camera from them.

    Parameters
    ----------
    request : the motion's own range limits its range further. Of an earlier track details that were followed by the same
        settings are taken. Its context gives the points set by hand that stand still in the set.

    Raises
    ------
    BadInput
        An empty range. Degenerate: too little detail, or movement that fits nothing.
    """
    clip, work, previous, context = request.clip, request.work, request.previous, request.context
    info = clip.info
    first = max(request.start, motion.first or 0)
    last = min(request.end, info.frames if motion.last is None else motion.last + 1)
    if last - first < 2:
        raise BadInput("camera.range", "A camera needs at least two frames. Widen the range that is measured.")
    if last - first > LONGEST:
        raise BadInput("camera.long", f"A camera is solved over at most {LONGEST} frames. Shorten the range.")
    frames = range(first, last)
    followed = _followed(motion, info.size, frames, context)
    total = 3 * len(frames)
    if previous is not None and previous.followed == followed and previous.frames == info.frames:
        own = ~previous.strong
        details = Details(xy=previous.xy[own].astype(np.float64), seen=np.isfinite(previous.xy[own, :, 0]))
        work.progress(2 * len(frames), total)
    else:
        # What is to be ignored and what is known outside the shot are asked frame by frame.
        following = Work(
            on_progress=lambda done, _: work.progress(done, total), is_cancelled=_asker(work), on_partial=work.partial
        )
        details = follow_details(
            clip.luma, frames, info.frames, count=int(motion.count),
            spacing_px=motion.spacing / 100 * max(info.size), least=motion.strength,
            ignored=pixels_ignored(motion, clip, context), work=following,
        )  # fmt: skip
    solving = Work(
        on_progress=lambda done, all_: work.progress(2 * len(frames) + done * len(frames) // all_, total),
        is_cancelled=_asker(work), on_partial=work.partial,
    )  # fmt: skip
    ids = _numbers(details)
    used = Details(xy=details.xy, seen=details.seen & ~np.isin(ids, motion.set_aside)[:, None])
    given = np.zeros(len(ids), bool)
    strong = context.control_points(motion)
    if strong:
        xy = np.stack([path for path, _ in strong.values()])
        seen = np.stack([known for _, known in strong.values()])
        seen[:, : frames.start], seen[:, frames.stop :] = False, False
        used = Details(xy=np.concatenate([used.xy, xy]), seen=np.concatenate([used.seen, seen]))
        given = np.concatenate([given, np.ones(len(xy), bool)])
        ids = np.concatenate([ids, -1 - np.arange(len(xy))])
    asked = SolveOptions(focal=motion.focal(info.size), zoom=motion.zoom, distortion=motion.distortion, readout=motion.rolling)
    record = context.gyroscope()
    solved = solve_stretches(used, info.size, asked, given=given, record=record, work=solving)
    everything = Details(xy=np.concatenate([details.xy, used.xy[len(details.xy) :]]),
                         seen=np.concatenate([details.seen, used.seen[len(details.seen) :]]))  # fmt: skip
    out = _track(solved, everything, used, clip, ids, given, followed, record, frames)
    work.progress(total, total)
    return out


def _asker(work: Work) -> Callable[[], bool]:
    def asked() -> bool:
        work.check_cancelled()
        return False

    return asked


def _followed(motion: CameraMotion, size: tuple[int, int], frames: range, context: MeasureContext) -> str:
    """Hash of what the details depend on."""
    record: dict[str, Any] = {
        "count": motion.count, "spacing": motion.spacing, "strength": motion.strength, "matte": motion.ignore_matte,
        "ignored": {one: context.measurement(one) for one in sorted(motion.ignored)},
        "regions": [r.model_dump(mode="json", exclude={"name"}) for r in motion.regions],
        "size": size, "frames": [frames.start, frames.stop],
    }  # fmt: skip
    rides = {r.follow.removeprefix("motion:") for r in motion.regions if r.follow.startswith("motion:")}
    for one in sorted(rides):
        path = context.movement(one, motion.reference_frame)
        record[one] = None if path is None else hashlib.sha256(np.round(path, 6).tobytes()).hexdigest()
    return hashlib.sha256(json.dumps(record, sort_keys=True).encode()).hexdigest()


def _numbers(details: Details) -> NDArray[np.int64]:
    """A number for each detail that stays the same as long as it is found in the same place."""
    if len(details.xy) == 0:
        return np.zeros(0, np.int64)
    first = details.seen.argmax(axis=1)
    at = np.round(details.xy[np.arange(len(first)), first]).astype(np.int64)
    return np.asarray((first.astype(np.int64) << 28) + (at[:, 0] << 14) + at[:, 1])


def _track(
    solved: SolveResult, details: Details, used: Details, clip: Clip, ids: NDArray[np.int64], given: NDArray[np.bool_],
    followed: str, record: Gyroscope | None, frames_asked: range,
) -> CameraTrack:  # fmt: skip
    bundle, size, frames = solved.bundle, clip.info.size, clip.info.frames
    eye = -np.einsum("nji,nj->ni", bundle.rotation, bundle.shift)
    turn = np.swapaxes(bundle.rotation, 1, 2) @ BETWEEN_CAMERAS
    kept = solved.kept
    full = solved.kind == "full"
    points = bundle.points if full else bundle.points / np.maximum(np.linalg.norm(bundle.points, axis=1), 1e-12)[:, None]
    stands = upright(clip.luma, bundle.frames, turn, np.exp(bundle.shared[0] + bundle.zoom))
    if full:
        room = suggested(points[kept], turn, eye, stands.up, stands.sure)
        points, eye, turn = room.points(points), room.points(eye), room.turns(turn)
    else:
        # Seen from one spot: the camera stands upright at the origin, points lie a metre away.
        level = suggested(np.zeros((0, 3)), turn, eye, stands.up).matrix()
        points, eye, turn = points @ level.T, np.zeros_like(eye), level @ turn
    seen = sightings(used.xy, used.seen, bundle.frames, size)
    facts = judged(bundle, seen, kept, frames)
    at = bundle.frames
    sure = np.zeros(frames, np.float32)
    # Few details or large errors: less to trust.
    sure[at] = np.clip(1.1 - facts.error_px[at] / 1.5, 0.05, 1) * np.clip(facts.seen[at] / 40, 0.1, 1)
    every = np.arange(frames)
    position = np.stack([np.interp(every, at, eye[:, k]) for k in range(3)], axis=1)
    rotation, state, reason, warnings = _filled(every, at, turn), facts.state, facts.reason, solved.warnings
    if not solved.locked:
        turns, told = turns_recorded(record, at, turn, frames_asked)
        filled = np.flatnonzero(told) + frames_asked.start
        rotation[filled] = turns[told]
        if len(filled) and not full:
            # Without places to be told, that is all there is of the camera.
            state[filled], reason[filled], sure[filled] = TRACKED, 0, CARRIED_SURE
        if len(filled):
            warnings = (*warnings, CARRIED.format(len(filled)))
    return CameraTrack(
        size=size, kind=solved.kind, locked=solved.locked, position=position, rotation=rotation,
        focal=np.interp(every, at, np.exp(bundle.shared[0] + bundle.zoom)),
        distortion=(float(bundle.shared[1]), float(bundle.shared[2]), 0.0, 0.0, 0.0), readout=float(bundle.shared[3]),
        state=state, reason=reason, confidence=sure, error_px=facts.error_px, seen=facts.seen,
        ids=ids, points=points,
        point_error=solved.error.astype(np.float32), angle=np.degrees(solved.angle).astype(np.float32), kept=kept,
        strong=given, xy=np.where(details.seen[..., None], details.xy, np.nan).astype(np.float32), noise=solved.noise,
        focal_doubt=solved.focal_doubt, followed=followed, warnings=warnings,
    )  # fmt: skip


def _filled(every: NDArray[np.int64], at: NDArray[np.int64], turn: F64) -> F64:
    if len(at) == 1:
        return np.tile(turn, (len(every), 1, 1))
    return np.asarray(Slerp(at, Rotation.from_matrix(turn))(np.clip(every, at[0], at[-1])).as_matrix())
