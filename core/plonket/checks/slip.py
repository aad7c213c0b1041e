"""Slip: how many pixels an attached thing swims against the plate.

The plate round the thing is registered against the reference frame, starting from where the
thing's motion puts it. What the registration adds to the motion is the slip: had the motion been
right, nothing would have been added.
"""

from __future__ import annotations

import io
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64
from plonket.base.errors import BadInput, FormatError
from plonket.base.fields import value_at
from plonket.base.outlines import carry, fill
from plonket.base.progress import Work
from plonket.document.perch import Perch
from plonket.document.shot import Shot
from plonket.layers.common import box_of
from plonket.layers.pin import PinLayer
from plonket.layers.sources import Sources
from plonket.layers.still import StillLayer, frame_from_still
from plonket.media.clip import Clip
from plonket.track.plane.register import FrameLevels, register
from plonket.track.plane.settings import FREEDOMS, PlaneMotion
from plonket.track.plane.template import cut_template

RIM = 0.3
"""The plate is looked at this much beyond the thing on every side, as a share of its size."""
LEAST_SIDE_PX = 56
FOOT_PX = 40
"""Half the width of the ground that is looked at under what stands in a room."""
NEEDS_LOOK_PX = 0.5
"""Slip from which an edge is seen to swim in motion."""
WORST = 6


@dataclass(frozen=True, slots=True, kw_only=True)
class Slip:
    """How a follower holds.

    Attributes
    ----------
    px : (n,) float32 pixels of swim in each frame; NaN where the plate round it could not be judged.
    reference_frame : where slip is nought by definition. rms_px : over the frames judged.
    """

    px: F32
    reference_frame: int
    rms_px: float

    def worst(self) -> list[tuple[int, int, float]]:
        """Runs of frames (first, last, pixels) that need a look, the worst first."""
        bad: NDArray[np.bool_] = np.nan_to_num(self.px, nan=0.0) > NEEDS_LOOK_PX
        runs: list[tuple[int, int, float]] = []
        for i in np.nonzero(bad)[0]:
            if runs and runs[-1][1] == i - 1:
                a, _, most = runs[-1]
                runs[-1] = (a, int(i), max(most, float(self.px[i])))
            else:
                runs.append((int(i), int(i), float(self.px[i])))
        return sorted(runs, key=lambda r: -r[2])[:WORST]

    def to_bytes(self) -> bytes:
        """Serialised arrays."""
        out = io.BytesIO()
        np.savez(out, kind=np.array("slip"), px=self.px, reference=np.array(self.reference_frame), rms=np.array(self.rms_px))
        return out.getvalue()

    @staticmethod
    def from_bytes(data: bytes) -> Slip:
        """What `to_bytes` wrote. Raises `FormatError`."""
        try:
            with np.load(io.BytesIO(data), allow_pickle=False) as z:
                return Slip(px=z["px"], reference_frame=int(z["reference"]), rms_px=float(z["rms"]))
        except (OSError, ValueError, KeyError) as error:
            raise FormatError("slip.unreadable", "A stored check is damaged. Check again.") from error


@dataclass(frozen=True, slots=True, kw_only=True)
class _Seat:
    """Where a follower is: corners (4, 2) on its reference frame, and its movement from there.

    What stands in a room is judged by the ground it stands on: what lies behind it is elsewhere.
    """

    corners: F64
    reference: int
    freedom: int
    ground: Perch | None = None


def measure_slip(
    shot: Shot, sources: Sources, clip: Clip, layer_id: str, *, start: int, stop: int, work: Work | None = None
) -> Slip:
    """Register the plate round a follower, frame by frame.

    Raises
    ------
    BadInput
        When the layer follows nothing, or its motion is not measured.
    Degenerate
        When the plate round it has nothing to register.
    """
    work = work or Work()
    layer = next((one for one in shot.layers if one.id == layer_id), None)
    if not isinstance(layer, StillLayer | PinLayer):
        raise BadInput("slip.layer", "Slip can be measured for pictures that are placed or pinned.")
    seat = _seat(shot, sources, layer)
    luma = clip.luma(seat.reference)
    h, w = luma.shape
    looked_at = _widened(seat.corners)
    mask = fill(looked_at, (w, h))
    template = cut_template(luma, mask, detail=1.0)
    inside = np.clip(seat.corners, [0, 0], [w, h])
    px = np.full(clip.info.frames, np.nan, np.float32)
    px[seat.reference] = 0.0
    frames = [i for i in range(start, stop) if i != seat.reference]
    noise = np.inf
    for done, i in enumerate(frames):
        work.check_cancelled()
        moved = _moved(sources, layer, seat, i)
        place = carry(looked_at, moved)
        if np.isfinite(place).all():
            low, high = place.min(axis=0) - 40, place.max(axis=0) + 40
            window = (int(low[0]), int(low[1]), int(high[0]), int(high[1]))
            if high[0] > 8 and high[1] > 8 and low[0] < w - 8 and low[1] < h - 8:
                found = register(
                    template, FrameLevels(clip.luma(i), window, None), moved, freedom=seat.freedom, coarsest=1
                )
                noise = min(noise, found.variance)
                if found.coverage > 0.3 and found.inside > 0.3 and (found.ncc_inliers > 0.6 or found.variance < 2 * noise):
                    off = carry(inside, found.homography) - carry(inside, moved)
                    px[i] = np.sqrt((off**2).sum(axis=1).mean())
        work.progress(done + 1, len(frames))
    judged = px[start:stop][np.isfinite(px[start:stop])]
    rms = float(np.sqrt(np.mean(judged.astype(np.float64) ** 2))) if len(judged) > 1 else float("nan")
    return Slip(px=px, reference_frame=seat.reference, rms_px=rms)


def _seat(shot: Shot, sources: Sources, layer: StillLayer | PinLayer) -> _Seat:
    if isinstance(layer, PinLayer):
        motion = shot.motion(layer.plane)
        assert isinstance(motion, PlaneMotion)
        if motion.measurement is None:
            raise BadInput("slip.unmeasured", f"{motion.name} is not measured yet.")
        return _Seat(corners=np.array(motion.quad), reference=motion.reference_frame, freedom=len(FREEDOMS) - 1)
    if layer.follow.target is None:
        raise BadInput("slip.free", f"{layer.name} follows nothing, so it cannot slip.")
    reference = _root_reference(shot, layer)
    ground = _ground_of(shot, layer)
    if ground is not None:
        foot = sources.spaces.perch(ground, reference)
        at = carry(np.zeros((1, 2)), foot)[0]
        half = np.array([FOOT_PX, FOOT_PX * 0.6])
        corners = at + half * np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]])
        return _Seat(corners=corners, reference=reference, freedom=FREEDOMS.index("translation"), ground=ground)
    corners = carry(box_of(layer), frame_from_still(layer, sources.spaces, reference))
    freedom = FREEDOMS.index("perspective" if layer.follow.perspective else "similarity")
    return _Seat(corners=corners, reference=reference, freedom=freedom)


def _ground_of(shot: Shot, layer: StillLayer) -> Perch | None:
    """The spot of a room on which a layer stands, laid flat; None when it stands in none."""
    perches = {p.id: p for p in shot.perches}
    at = layer.follow.target
    for _ in perches:
        perch = perches.get(at or "")
        if perch is None:
            return None
        if perch.spot is not None:
            lying = perch.spot.model_copy(update={"faces": "still", "tilt": 90.0, "heading": 0.0})
            return perch.model_copy(update={"id": f"{perch.id}.ground", "spot": lying, "x": 0.0, "y": 0.0, "turn": 0.0,
                                            "size": 100.0})  # fmt: skip
        at = perch.follow.target
    return None


def _root_reference(shot: Shot, layer: StillLayer) -> int:
    """The reference frame of the motion at the bottom of a chain of perches."""
    follow = layer.follow
    perches = {p.id: p for p in shot.perches}
    while follow.target in perches:
        follow = perches[follow.target].follow
    if follow.target is None:
        raise BadInput("slip.free", f"{layer.name} follows nothing, so it cannot slip.")
    if shot.motion(follow.target).measurement is None:
        raise BadInput("slip.unmeasured", f"{shot.motion(follow.target).name} is not measured yet.")
    return follow.reference_frame


def _moved(sources: Sources, layer: StillLayer | PinLayer, seat: _Seat, frame: int) -> F64:
    """(3, 3) from the reference frame's pixels to where the thing's motion puts them."""
    if isinstance(layer, PinLayer):
        return sources.on_plane(layer.plane, frame)
    if seat.ground is not None:
        lies = sources.spaces.perch(seat.ground, frame)
        return np.asarray(lies @ np.linalg.inv(sources.spaces.perch(seat.ground, seat.reference)))
    # A place that is keyed moves on purpose: only the movement of what it sits on counts.
    at = np.array([value_at(layer.x, seat.reference), value_at(layer.y, seat.reference)])
    now = sources.spaces.placed(layer.follow, frame, at)
    then = sources.spaces.placed(layer.follow, seat.reference, at)
    return np.asarray(now @ np.linalg.inv(then))


def _widened(corners: F64) -> F64:
    """The thing's outline, widened by its rim and to the least size that can be registered."""
    hull = cv2.convexHull(corners.astype(np.float32)).reshape(-1, 2).astype(np.float64)
    middle = hull.mean(axis=0)
    side = max(float(np.min(hull.max(axis=0) - hull.min(axis=0))), 1.0)
    grow = max(1 + 2 * RIM, LEAST_SIDE_PX / side)
    return np.asarray(middle + (hull - middle) * min(grow, 12.0))
