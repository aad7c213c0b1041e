"""Measuring a form: from each stake to the next by its surface, what does not agree spread between them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import BETWEEN_CAMERAS, F64, U8
from plonket.base.errors import BadInput, Degenerate
from plonket.base.states import COVERED, GIVEN, LEFT, LOST, NO_MATCH, NONE, TRACKED
from plonket.media.clip import Clip
from plonket.room.camera_track import CameraTrack
from plonket.room.meshes.forms import Surface, model_form, unit_form
from plonket.track.form.fit import FormPose, focal_of
from plonket.track.form.follow import LEAST_PLACES, Followed, by_flow, carried_on, follow, mixed
from plonket.track.form.settings import FormMotion
from plonket.track.form.surface import Levels, Places
from plonket.track.plane.region_masks import pixels_ignored
from plonket.track.request import MeasureRequest

Direction = Literal["forward", "backward", "both", "gap"]
LEARN_EVERY = 4
SURE = 0.7
"""Likeness from which a frame may add to what is known of the surface."""
LOST_ABOVE_PX = 1.0
"""Expected error of its corners from which a form is called lost: a strip of it does not tell where the rest is."""
TELL_EVERY = 8
TRIES = ((0, 0), (1, 0), (-1, 0), (0, 1), (0, -1), (0.7, 0.7), (-0.7, 0.7), (0.7, -0.7), (-0.7, -0.7))
"""Where a lost form is looked for, in times its reach."""


@dataclass(frozen=True, slots=True, kw_only=True)
class FormPartial:
    """What `measure_form` reports after each frame: where the form was found, or why not; now and then the track so far."""

    frame: int
    stood: FormPose | None
    sure: float
    reason: int
    track: CameraTrack | None


@dataclass(slots=True)
class _Paths:
    """What passes found, frame by frame."""

    stood: dict[int, FormPose] = field(default_factory=dict)
    sure: dict[int, float] = field(default_factory=dict)
    off: dict[int, float] = field(default_factory=dict)
    places: dict[int, int] = field(default_factory=dict)
    reason: dict[int, int] = field(default_factory=dict)


def form_surface(motion: FormMotion, model: Callable[[str], str] | None) -> Surface:
    """The form at its size in metres. `model` gives the path of a model's file. Raises `BadInput`."""
    if motion.shape != "model":
        return unit_form(motion.shape).scaled(motion.size)
    if model is None or motion.asset is None:
        raise BadInput("form.model", f"{motion.name} is a model that is not here.")
    return model_form(model(motion.asset)).scaled(motion.size)


def measure_form(motion: FormMotion, request: MeasureRequest) -> CameraTrack:
    """Follow a form through a clip from the frames on which tugs say where it is.

    Parameters
    ----------
    request : it goes out from the stakes; from an `origin` only the last stake at or before it counts (forward), or the first
        at or after it (backward). Of an earlier track poses are kept while size and lens are the same. Its context gives the
        model that the form is.

    Returns
    -------
    CameraTrack whose room is the form's own: it stands on the origin, y up, in metres.

    Raises
    ------
    BadInput
        No stake, an empty range. Degenerate: too little of the form, or nothing on it to hold on to.
    """
    clip, work, start, stop, frames = request.clip, request.work, request.start, request.end, request.clip.info.frames
    if not 0 <= start < stop <= frames:
        raise BadInput("form.range", f"The range {start}-{stop - 1} does not lie within the clip.")
    stakes = {s.frame: FormPose.of(s.pose) for s in motion.stakes if s.tugs and start <= s.frame < stop}
    if not stakes:
        raise BadInput("form.tugs", f"{motion.name} is not put in place yet. Drag its corners to where they are seen.")
    size, focal = clip.info.size, focal_of(motion, clip.info.size)
    surface = form_surface(motion, request.context.model)
    plans = _plans(sorted(stakes), request.direction, start, stop, request.origin)
    total = sum(len(p) - 1 for _, p in plans)
    if total == 0 and len(stakes) < 2 and stop - start > 1:
        raise BadInput("form.range", "There is nothing to measure in that direction from here.")
    out = _Track(motion, size, focal, frames, stakes, request.previous)
    ignored = pixels_ignored(motion, clip, request.context)
    done = 0
    for way, plan in plans:
        run = _FormTracker(motion, clip, surface, focal, stakes[plan[0]], plan[0], ignored)
        found = out.forward if way > 0 else out.backward
        for frame in plan[1:]:
            work.check_cancelled()
            run.visit(frame, found)
            done += 1
            track = out.track() if done % TELL_EVERY == 0 else None
            work.partial(FormPartial(frame=frame, stood=found.stood.get(frame), sure=found.sure.get(frame, 0.0),
                                     reason=found.reason.get(frame, 0), track=track))  # fmt: skip
            work.progress(done, total)
    return out.track()


def _plans(
    stakes: Sequence[int], direction: Direction, start: int, stop: int, origin: int | None
) -> list[tuple[int, list[int]]]:
    """Passes: (way, frames from a stake on). Between two stakes both ways meet, so each goes as far as the other."""
    ends = [*stakes, None]
    out = []
    for k, stake in enumerate(stakes):
        after, before = ends[k + 1], stakes[k - 1] if k else None
        last = stop - 1 if after is None else after
        first = start if before is None else before
        if direction != "backward" and (origin is None or direction != "forward" or last > origin):
            out.append((1, list(range(stake, last + 1))))
        if direction != "forward" and (origin is None or direction != "backward" or first < origin):
            out.append((-1, list(range(stake, first - 1, -1))))
    return out


class _FormTracker:
    """One way from one stake."""

    def __init__(
        self, motion: FormMotion, clip: Clip, surface: Surface, focal: float, stood: FormPose, frame: int,
        ignored: Callable[[int], NDArray[np.bool_]] | None,
    ) -> None:  # fmt: skip
        self.motion, self.clip = motion, clip
        self.ignored = ignored
        self.hidden = self._ignored(frame)
        self.places = Places(surface, focal, clip.info.size, motion.detail / 100)
        luma = clip.luma(frame)
        self.places.learn(Levels.of(luma), stood, self.hidden)
        if len(self.places.at) < LEAST_PLACES:
            raise Degenerate(
                "form.plain",
                f"Too little of {motion.name} is seen on frame {frame}, or nothing is on its surface to hold on to. "
                "Put it right on a frame that shows more of it.",
            )
        self.last, self.before, self.luma = stood, stood, luma
        self.known, self.steps, self.missed = True, 0, 0

    def visit(self, frame: int, into: _Paths) -> None:
        luma = self.clip.luma(frame)
        levels = Levels.of(luma)
        hidden = self._ignored(frame)
        found = self._found(levels, luma, hidden)
        limit = self.motion.strictness / 100
        if found is None or found.likeness < limit or not found.noise_px < LOST_ABOVE_PX:
            into.reason[frame] = LEFT if found is None else (COVERED if found.likeness > 0.5 * limit else NO_MATCH)
            self.known, self.missed = False, self.missed + 1
            return
        self.steps += 1
        self.before = self.last if self.known else found.stood
        self.last, self.luma, self.known, self.missed, self.hidden = found.stood, luma, True, 0, hidden
        if self.steps % LEARN_EVERY == 0 and found.likeness > SURE:
            self.places.learn(levels, found.stood, hidden)
        into.stood[frame], into.off[frame], into.places[frame] = found.stood, found.noise_px, found.places
        into.sure[frame] = float(np.clip((found.likeness - 0.2) / 0.75, 0.05, 1))

    def _ignored(self, frame: int) -> NDArray[np.bool_] | None:
        return None if self.ignored is None else self.ignored(frame)

    def _found(self, levels: Levels, luma: U8, hidden: NDArray[np.bool_] | None) -> Followed | None:
        reach = self.motion.reach_px
        starts: list[FormPose] = []
        if self.known:
            flowed = by_flow(self.places, self.luma, luma, self.last, reach, self.hidden)
            starts += [s for s in (flowed, carried_on(self.before, self.last)) if s is not None]
        else:
            # It may have come back somewhere else: looked for further and further off.
            far = min(1.0 + 0.5 * self.missed, 4.0) * reach * float(self.last.place[2]) / self.places.focal
            starts += [FormPose(turn=self.last.turn, place=self.last.place + far * np.array([x, y, 0.0])) for x, y in TRIES]
        best: Followed | None = None
        for start in starts:
            found = follow(self.places, levels, start, reach_px=reach * (1 if self.known else 4), ignored=hidden)
            if found is not None and (best is None or found.likeness > best.likeness):
                best = found
            if best is not None and best.likeness > 0.9:
                break
        return best


class _Track:
    """What both ways found, put together."""

    def __init__(
        self, motion: FormMotion, size: tuple[int, int], focal: float, frames: int, stakes: dict[int, FormPose],
        previous: CameraTrack | None,
    ) -> None:  # fmt: skip
        self.motion, self.size, self.focal, self.frames, self.stakes = motion, size, focal, frames, stakes
        self.forward, self.backward = _Paths(), _Paths()
        self.lens = f"{focal:.4f} {motion.shape} {motion.asset} " + " ".join(f"{v:.6f}" for v in motion.size)
        self.previous = previous if previous is not None and previous.followed == self.lens else None

    def track(self) -> CameraTrack:
        n = self.frames
        marks = sorted(self.stakes)
        stood: dict[int, FormPose] = {}
        state, reason = np.full(n, NONE, np.uint8), np.zeros(n, np.uint8)
        sure, error, seen = np.zeros(n, np.float32), np.zeros(n, np.float32), np.zeros(n, np.int32)
        if self.previous is not None:
            stood = {k: stood_in(self.previous, k) for k in np.flatnonzero(self.previous.known()).tolist()}
            state, reason, sure = self.previous.state.copy(), self.previous.reason.copy(), self.previous.confidence.copy()
            error, seen = self.previous.error_px.copy(), self.previous.seen.copy()
            state[state == GIVEN] = TRACKED
        for i in range(n):
            here = self._here(i, marks)
            visited = i in self.forward.reason or i in self.backward.reason
            if here is not None:
                stood[i] = here
                one = self.forward if i in self.forward.stood else self.backward
                state[i], reason[i] = TRACKED, 0
                sure[i] = max(self.forward.sure.get(i, 0.0), self.backward.sure.get(i, 0.0))
                error[i], seen[i] = one.off.get(i, 0.0), one.places.get(i, 0)
            elif visited:
                stood.pop(i, None)
                state[i], reason[i], sure[i] = LOST, self.forward.reason.get(i, self.backward.reason.get(i, NO_MATCH)), 0
        for i in marks:
            stood[i] = self.stakes[i]
            state[i], reason[i], sure[i], error[i] = GIVEN, 0, 1, 0
        at = np.array(sorted(stood))
        position, rotation = _bridged(at, [stood[int(i)] for i in at], n)
        none = np.zeros(0)
        followed = state == TRACKED
        return CameraTrack(
            size=self.size, kind="full", locked=False, position=position, rotation=rotation, focal=np.full(n, self.focal),
            distortion=(0.0, 0.0, 0.0, 0.0, 0.0), readout=0.0, state=state, reason=reason, confidence=sure, error_px=error,
            seen=seen, ids=none.astype(np.int64), points=np.zeros((0, 3)), point_error=none.astype(np.float32),
            angle=none.astype(np.float32), kept=none.astype(bool), strong=none.astype(bool),
            xy=np.zeros((0, n, 2), np.float32),
            noise=float(np.median(error[followed])) if followed.any() else 0.0,
            focal_doubt=0.0, followed=self.lens, warnings=(),
        )  # fmt: skip

    def _here(self, i: int, marks: Sequence[int]) -> FormPose | None:
        """The pose in a frame: what each way found, so drifts of both are spread between the stakes."""
        before = max((m for m in marks if m <= i), default=None)
        after = min((m for m in marks if m > i), default=None)
        on, back = self.forward.stood.get(i), self.backward.stood.get(i)
        if before is None or after is None:
            return on or back
        share = (i - before) / (after - before)
        if on is not None and back is not None:
            return mixed(on, back, share)
        one, mark = (on, after) if on is not None else (back, before)
        if one is None:
            return None
        path = self.forward if on is not None else self.backward
        arrived = path.stood.get(mark)
        if arrived is None:
            return one
        # One way only: what it is off by at the stake it arrives at is taken off little by little.
        part = share if on is not None else 1 - share
        fix = mixed(arrived, self.stakes[mark], part)
        turn = fix.turn @ arrived.turn.T
        return FormPose(turn=turn @ one.turn, place=one.place + (fix.place - arrived.place))


def stood_in(track: CameraTrack, frame: int) -> FormPose:
    """Where a measured form is in a frame."""
    turn = BETWEEN_CAMERAS @ track.rotation[frame].T
    return FormPose(turn=turn, place=-turn @ track.position[frame])


def _bridged(at: NDArray[np.int64], stood: Sequence[FormPose], n: int) -> tuple[F64, F64]:
    """Camera places (n, 3) and turns (n, 3, 3) in the form's room; frames between known ones are bridged as the form moves."""
    position, rotation = np.empty((n, 3)), np.empty((n, 3, 3))
    for i in range(n):
        k = int(np.searchsorted(at, i))
        if k < len(at) and at[k] == i:
            here = stood[k]
        elif k == 0:
            here = stood[0]
        elif k == len(at):
            here = stood[-1]
        else:
            here = mixed(stood[k - 1], stood[k], (i - at[k - 1]) / (at[k] - at[k - 1]))
        rotation[i] = here.turn.T @ BETWEEN_CAMERAS
        position[i] = -here.turn.T @ here.place
    return position, rotation
