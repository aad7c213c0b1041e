"""Measuring a matte: from the frames that were clicked, carried both ways, with soft edges."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import cv2
import numpy as np

from plonket.base.colour import linear_from_codes
from plonket.base.conventions import U8
from plonket.base.errors import Degenerate
from plonket.base.states import COVERED, GIVEN, LEFT, LOST, TRACKED
from plonket.matting.first_cut import clicked
from plonket.matting.pick import VERSION, Picked
from plonket.matting.soft_edges import soft_edges
from plonket.track.matte.matte_track import MatteTrack
from plonket.track.matte.settings import MatteMotion
from plonket.track.request import MeasureRequest

FIRM = 0.4
"""How much the bare cut counts against the colours beside a soft edge."""
RIM_SHARE = 0.04
"""What was seen last so near the picture's rim, of its width, has left it."""


@dataclass(frozen=True, slots=True, kw_only=True)
class MattePartial:
    """A frame whose matte is known, and all of it so far."""

    frame: int
    track: MatteTrack


def measure_matte(motion: MatteMotion, request: MeasureRequest) -> MatteTrack:
    """The matte in the frames that are asked for; frames whose clicks are those it was made from before are kept.

    Raises
    ------
    Degenerate
        Nothing was clicked, or nothing stands out there.
    """
    clip = request.clip
    if not motion.staked():
        raise Degenerate("pick.nothing", "Click on what is meant first, or draw a box round it.")
    n, size, work = clip.info.frames, clip.info.size, request.work
    # Only a track of the same clip can be gone on from.
    before = request.previous
    fits = isinstance(before, MatteTrack) and (before.frames, before.size) == (n, size)
    track = before if fits else MatteTrack.empty(size, n)

    def rgb(frame: int) -> U8:
        # Between stakes far apart the first frame is carried a long way.
        work.check_cancelled()
        return clip.rgb(frame)

    picked = picker(motion, rgb, n, clip.info.width)
    wanted = {f: made_by(motion, f) for f in range(n)}
    frames = [f for f in _asked(request, picked.staked) if track.made_by[f] != wanted[f]]
    total = len(frames)
    work.progress(0, max(total, 1))
    with ThreadPoolExecutor(1) as pool:
        ahead = None
        done = 0
        for f in [*frames, None]:
            # While one frame's edge is told, the next is carried.
            mask = None if f is None else picked.mask(f)
            if ahead is not None:
                frame, edged = ahead
                track = _added(track, frame, edged.result(), picked, wanted[frame], motion)
                done += 1
                work.partial(MattePartial(frame=frame, track=track))
                work.progress(done, total)
            if f is not None and mask is not None:
                ahead = f, pool.submit(matte_of, motion, clip.rgb(f), mask)
    return track


def picker(motion: MatteMotion, rgb: Callable[[int], U8], frames: int, width: int) -> Picked:
    """What finds the rough mask of a matte."""
    return Picked(rgb, frames, clicked(motion.clicks, width), motion.boxes, strict=True)


def matte_of(motion: MatteMotion, rgb: U8, mask: U8) -> U8 | None:
    """8-bit (h, w), the matte of a frame (h, w, 3) under a rough mask; None: nothing of it is seen."""
    if motion.edge == "hard":
        if not (mask > 127).any():
            return None
        big = cv2.resize(mask, (rgb.shape[1], rgb.shape[0]), interpolation=cv2.INTER_CUBIC)
        return np.where(big > 127, 255, 0).astype(np.uint8)
    mix = soft_edges(linear_from_codes(rgb), mask, motion.band, FIRM)
    return None if mix is None else np.asarray(mix.alpha * 255 + 0.5, np.uint8)


def _asked(request: MeasureRequest, staked: Sequence[int]) -> list[int]:
    """The frames that are to be measured, onwards from the first that says what is meant, then back from there."""
    start, end = request.start, request.end
    first = min(max(staked[0], start), end - 1)
    order = [*range(first, end), *range(first - 1, start - 1, -1)]
    origin = request.origin
    if origin is None:
        return order
    if request.direction == "forward":
        return [f for f in order if f >= origin]
    if request.direction == "backward":
        return [f for f in order if f <= origin]
    if request.direction == "gap":
        low = max((s for s in staked if s <= origin), default=start)
        high = min((s for s in staked if s > origin), default=end - 1)
        return [f for f in order if low <= f <= high]
    return order


def made_by(motion: MatteMotion, frame: int) -> str:
    """What a frame's matte depends on: what was given on the stakes beside it, and on what is passed on the way to them."""
    staked = motion.staked()
    before = max((s for s in staked if s <= frame), default=None)
    after = min((s for s in staked if s > frame), default=None)
    if before == frame or before is None or after is None:
        sides = [s for s in (before if before is not None else after,) if s is not None]
    else:
        sides = [before, after]
    low, high = min([frame, *sides]), max([frame, *sides])
    given = [c.model_dump_json() for c in motion.clicks if low <= c.frame <= high]
    given += [b.model_dump_json() for b in motion.boxes if low <= b.frame <= high]
    text = repr((VERSION, motion.edge, motion.band, sides, given))
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def _added(
    track: MatteTrack, frame: int, alpha: U8 | None, picked: Picked, made: str, motion: MatteMotion
) -> MatteTrack:
    if alpha is not None and (alpha > 127).any():
        state = GIVEN if frame in motion.staked() else TRACKED
        return track.with_frame(frame, alpha, made, picked.sureness(frame), state)
    return track.with_frame(frame, None, made, 0.0, LOST, _gone_why(track, frame))


def _gone_why(track: MatteTrack, frame: int) -> int:
    """Whether a thing that is not seen has left the picture, or is covered."""
    known = np.flatnonzero(track.known())
    last = track.alpha(int(known[np.argmin(np.abs(known - frame))])) if len(known) else None
    if last is None:
        return COVERED
    ys, xs = np.nonzero(last > 127)
    rim = RIM_SHARE * track.size[0]
    near = xs.min() < rim or xs.max() > track.size[0] - rim or ys.min() < rim or ys.max() > track.size[1] - rim
    return LEFT if near else COVERED
