"""What a file says of a camera, and how it is laid over a clip: from which frame, at what rate, with how many points."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64, matrix_to_quaternion, quaternion_to_matrix
from plonket.base.errors import FormatError
from plonket.base.states import GIVEN
from plonket.formats.registry import FORMATS, Coming, FileFacts, FormatEntry, Going, Timing
from plonket.room.camera_track import CameraTrack
from plonket.track.camera.settings import CameraMotion

MANY_POINTS = 3000
"""Of more it is asked how many are wanted."""
SAME_RATE = 0.002
SAME_SHAPE = 0.01


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class CameraPath:
    """A camera as a file has it.

    Attributes
    ----------
    frames : (k > 0,) rising, of the file's own counting. position : (k, 3). rotation : (k, 3, 3) local-to-world. focal : (k,)
    pixels of a picture of `size`; None: of the clip's. rate : frames a second; None: it does not say. points : (m, 3), in the
    same world; ids, point_error : (m,) of them. distortion, readout, solved, locked : as `CameraTrack` has them.
    """

    frames: F64
    position: F64
    rotation: F64
    focal: F64
    size: tuple[int, int] | None = None
    rate: float | None = None
    points: F64 = field(default_factory=lambda: np.zeros((0, 3)))
    ids: NDArray[np.int64] | None = None
    point_error: F64 | None = None
    distortion: tuple[float, float, float, float, float] = (0.0, 0.0, 0.0, 0.0, 0.0)
    readout: float = 0.0
    solved: str = "full"
    locked: bool = False

    def __post_init__(self) -> None:
        numbers = (self.frames, self.position, self.rotation, self.focal, self.points, self.distortion)
        whole = all(np.isfinite(values).all() for values in numbers)
        if not whole or not (self.focal > 0).all() or self.focal.max() > 1e6 or (np.diff(self.frames) <= 0).any():
            raise FormatError("camera.numbers", "The camera file has numbers that no camera can have.")

    def fits(self, frames: int, rate: float) -> bool:
        """Whether it can be laid over a clip, frame by frame, without a question."""
        return bool(
            self.frames[0] > -0.5 and self.frames[-1] < frames - 0.5 and len(self.points) <= MANY_POINTS
            and (self.rate is None or abs(self.rate / rate - 1) < SAME_RATE)
        )  # fmt: skip

    def timing(self, frames: int, rate: float) -> Timing:
        """How it is laid over a clip where nobody says."""
        if self.fits(frames, rate):
            return Timing(first=0.0, step=1.0, points=MANY_POINTS)
        return Timing(first=float(self.frames[0]), step=(self.rate or rate) / rate, points=MANY_POINTS)


def laid_over(path: CameraPath, frames: int, size: tuple[int, int], timing: Timing) -> CameraTrack:
    """The path on the frames of a clip. Raises `FormatError` where its picture is of another shape or it says nothing of the
    clip."""
    shape = path.size or size
    if abs(shape[0] * size[1] / (shape[1] * size[0]) - 1) > SAME_SHAPE:
        raise FormatError("camera.size", f"The camera file is for {shape[0]} x {shape[1]}; the clip is {size[0]} x {size[1]}.")
    at = path.frames
    wanted = timing.first + timing.step * np.arange(frames)
    after = np.clip(np.searchsorted(at, wanted - 1e-3), 0, len(at) - 1)
    before = np.maximum(after - 1, 0)
    exact = np.abs(at[after] - wanted) < 2e-3
    between = ~exact & (wanted > at[0]) & (wanted < at[-1]) & (at[after] - at[before] < 1.5)
    known = exact | between
    if not known.any():
        raise FormatError("camera.frames", "None of this camera's frames lies on one of the clip's.")
    wide = np.where(exact | (after == before), 1.0, at[after] - at[before])
    share = np.clip(np.where(exact, 1.0, (wanted - at[before]) / wide), 0, 1)
    gain = size[0] / shape[0]
    points, ids, errors = _fewer(path, timing.points)
    n, m = frames, len(points)
    state = np.where(known, GIVEN, 0).astype(np.uint8)
    return CameraTrack(
        size=size, kind=path.solved, locked=path.locked,
        position=path.position[before] + share[:, None] * (path.position[after] - path.position[before]),
        rotation=_turned(path.rotation, before, after, share),
        focal=gain * (path.focal[before] + share * (path.focal[after] - path.focal[before])),
        distortion=path.distortion, readout=path.readout * min(1.0, timing.step) if timing.step else path.readout,
        state=state, reason=np.zeros(n, np.uint8), confidence=(state == GIVEN).astype(np.float32),
        error_px=np.zeros(n, np.float32), seen=np.zeros(n, np.int32), ids=ids, points=points,
        point_error=errors, angle=np.full(m, 90, np.float32), kept=np.ones(m, bool), strong=np.zeros(m, bool),
        xy=np.full((m, n, 2), np.nan, np.float32), noise=0.0, focal_doubt=0.0, followed="", warnings=(),
    )  # fmt: skip


def _turned(turns: F64, before: NDArray[np.int64], after: NDArray[np.int64], share: F64) -> F64:
    """(n, 3, 3) so far from one turn to the other, the short way."""
    every = np.stack([matrix_to_quaternion(turn) for turn in turns])
    a, b = every[before], every[after]
    b = np.where((a * b).sum(axis=1, keepdims=True) < 0, -b, b)
    angle = np.arccos(np.clip((a * b).sum(axis=1), -1, 1))[:, None]
    sine, t = np.sin(angle), share[:, None]
    near = sine < 1e-6
    safe = np.where(near, 1.0, sine)
    mixed = np.where(near, a + t * (b - a), (np.sin((1 - t) * angle) * a + np.sin(t * angle) * b) / safe)
    return quaternion_to_matrix(mixed)


def _fewer(path: CameraPath, most: int) -> tuple[F64, NDArray[np.int64], np.ndarray]:
    """So many of its points at most, evenly among all; their numbers and errors."""
    count = len(path.points)
    keep = np.unique(np.linspace(0, count - 1, min(most, count)).round().astype(int)) if count and most else np.zeros(0, int)
    ids = np.arange(count, dtype=np.int64) if path.ids is None else path.ids
    errors = np.zeros(count) if path.point_error is None else path.point_error
    return path.points[keep], ids[keep], errors[keep].astype(np.float32)


def add_camera_format(
    kind: str, *, order: int, label: str, mime: str, write: Callable[[Going], str | bytes],
    path: Callable[[Coming], CameraPath], recognises: Callable[[Coming], bool],
) -> None:  # fmt: skip
    """Announce a format that cameras are written to and read from."""

    def look(coming: Coming) -> FileFacts:
        found, clip = path(coming), coming.footage
        timing = found.timing(clip.frames, float(clip.fps))
        return FileFacts(kind="camera", fits=found.fits(clip.frames, float(clip.fps)), first=float(found.frames[0]),
                         last=float(found.frames[-1]), rate=found.rate, points=len(found.points), timing=timing)  # fmt: skip

    def read(coming: Coming) -> tuple[CameraMotion, CameraTrack]:
        found, clip = path(coming), coming.footage
        timing = coming.timing or found.timing(clip.frames, float(clip.fps))
        track = laid_over(found, clip.frames, (clip.width, clip.height), timing)
        known = np.flatnonzero(track.known())
        focal = float(np.clip(np.median(track.focal[known]), 50, 100000))
        return CameraMotion(id=coming.motion_id, name=coming.name, reference_frame=int(known[0]), knows="pixels",
                            focal_px=focal), track  # fmt: skip

    FORMATS.add(FormatEntry(
        kind=kind, order=order, label=label, mime=mime, track="camera", write=write, recognises=recognises, read=read,
        look=look,
    ))  # fmt: skip


def numbers_of(row: Any, names: tuple[str, ...]) -> list[float]:
    """So many named numbers of a table's row."""
    return [float(row[name]) for name in names]
