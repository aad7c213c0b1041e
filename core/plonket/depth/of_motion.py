"""Measuring the depth of a clip as a motion: frame by frame, what was told before kept."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

import numpy as np

from plonket.base.conventions import U8
from plonket.base.errors import Degenerate
from plonket.base.states import LOST, NO_MATCH, TRACKED
from plonket.depth.measure import NO_PARALLAX, QUALITY, DepthMaker
from plonket.room.camera_track import CameraTrack
from plonket.track.context import MeasureContext
from plonket.track.depth.depth_track import DepthTrack
from plonket.track.depth.settings import DepthMotion
from plonket.track.request import MeasureRequest

VERSION = 2
"""Goes up whenever the same clip and camera would give another depth."""


@dataclass(frozen=True, slots=True, kw_only=True)
class DepthPartial:
    """A frame whose depth is known, and all of it so far."""

    frame: int
    track: DepthTrack


def measure_depth(motion: DepthMotion, request: MeasureRequest) -> DepthTrack:
    """The depth of the frames that are asked for; those made before from the same camera and mattes are kept.

    Raises
    ------
    Degenerate
        The camera is not solved, only turns, or does not move from its place.
    """
    clip, work = request.clip, request.work
    camera = request.context.solved(motion.camera)
    if camera is None:
        raise Degenerate("depth.camera", "The camera is not measured yet. Measure it first: depth goes by where it was.")
    if camera.kind != "full":
        raise Degenerate("depth.parallax", NO_PARALLAX)
    n, size = clip.info.frames, clip.info.size
    before = request.previous
    fits = isinstance(before, DepthTrack) and (before.frames, before.size) == (n, size)
    track = before if fits else DepthTrack.empty(size, n)

    def covered(frame: int) -> U8 | None:
        return ignored_in(motion, request.context, frame)

    def rgb(frame: int) -> U8:
        work.check_cancelled()
        return clip.rgb(frame)

    by = digest_of(motion, camera)
    wanted = {f: made_by(by, covered(f)) for f in range(request.start, request.end)}
    frames = [f for f in wanted if track.made_by[f] != wanted[f]]
    maker = DepthMaker(rgb, camera, QUALITY[motion.quality], covered)
    why: Degenerate | None = None
    work.progress(0, max(len(frames), 1))
    for k, f in enumerate(frames):
        work.check_cancelled()
        try:
            told = maker.depth(f)
        except Degenerate as error:
            why = why or error
            track = track.with_frame(f, None, None, wanted[f], LOST, NO_MATCH)
        else:
            track = track.with_frame(f, told.depth, told.sure, wanted[f], TRACKED)
        work.partial(DepthPartial(frame=f, track=track))
        work.progress(k + 1, len(frames))
    if why is not None and not track.known().any():
        raise why
    return track


def ignored_in(motion: DepthMotion, context: MeasureContext, frame: int) -> U8 | None:
    """8-bit (h, w), white where mattes that are ignored cover anything in a frame; None: there are none."""
    every = [one for m in motion.ignored if (one := context.picked(m, frame)) is not None]
    return np.asarray(np.max(every, axis=0), np.uint8) if every else None


def is_fresh(track: DepthTrack, motion: DepthMotion, camera: CameraTrack, context: MeasureContext, frame: int) -> bool:
    """Whether a frame's depth is what would be measured now."""
    return track.made_by[frame] == made_by(digest_of(motion, camera), ignored_in(motion, context, frame))


def digest_of(motion: DepthMotion, camera: CameraTrack) -> str:
    """What all frames depend on: the camera, and how well it is done."""
    sha = hashlib.sha256(repr((VERSION, motion.quality, camera.size, camera.readout)).encode())
    for part in (camera.position, camera.rotation, camera.focal, camera.distortion, camera.state):
        sha.update(np.ascontiguousarray(part, np.float64).tobytes())
    return sha.hexdigest()


def made_by(digest: str, covered: U8 | None) -> str:
    """What a frame depends on: that, and what moves there by itself."""
    more = b"" if covered is None else np.ascontiguousarray(covered).tobytes()
    return hashlib.sha256(digest.encode() + more).hexdigest()[:16]
