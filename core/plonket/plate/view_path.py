"""The view: how the clip's frames lie in the finished picture, frame by frame."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from plonket.base.conventions import F64
from plonket.base.outlines import carry
from plonket.base.resampled import between_rows
from plonket.document.bases import TreatmentBase
from plonket.document.kinds import TREATMENTS


@dataclass(frozen=True, slots=True, kw_only=True)
class ViewPath:
    """Where each frame of the clip lies in the finished picture.

    The two parts are kept apart, so that another frame can be seen as this one is: frame j in picture i
    is ``picture_from_held[i] @ held_from_clip[j]``.

    Attributes
    ----------
    picture_from_held : (n, 3, 3) from what is held (the reference frame's pixels) to picture i's pixels, full resolution.
    held_from_clip : (n, 3, 3) from frame i's pixels to what is held.
    zoom : (n,) how much larger the picture is than the clip, to keep its borders out.
    before, after : (n, 2) the path of the held spot in the clip, and in the steadied picture before zooming.
    donors : frames that fill the borders of the others.
    says : what a creator should know, in plain words; empty when all is well.
    held : (n, 3, 3) from frame i's pixels to the held picture that was worked on, where the movement is given back; None:
        what is worked on is the finished picture itself.
    """

    picture_from_held: F64
    held_from_clip: F64
    zoom: F64
    before: F64
    after: F64
    donors: tuple[int, ...] = ()
    says: str = ""
    held: F64 | None = None

    @staticmethod
    def untouched(frames: int, size: tuple[int, int]) -> ViewPath:
        eye, middle = np.tile(np.eye(3), (frames, 1, 1)), np.tile([size[0] / 2, size[1] / 2], (frames, 1))
        return ViewPath(picture_from_held=eye, held_from_clip=eye, zoom=np.ones(frames), before=middle, after=middle)

    def matrix(self, moment: float) -> F64:
        """(3, 3) from the clip's pixels to the picture's, at a moment of the clip."""
        m = self.picture_at(moment) @ between_rows(self.held_from_clip, self._within(moment))
        return np.asarray(m / m[2, 2])

    def picture_at(self, moment: float) -> F64:
        """(3, 3) from what is held to the picture's pixels, at a moment of the clip."""
        return between_rows(self.picture_from_held, self._within(moment))

    def _within(self, moment: float) -> float:
        return min(max(moment, 0.0), len(self.picture_from_held) - 1.0)

    def matrices(self) -> F64:
        """(n, 3, 3): `matrix` of every frame."""
        m = self.picture_from_held @ self.held_from_clip
        return np.asarray(m / m[:, 2:, 2:])

    def screen(self, moment: float) -> F64:
        """(3, 3) from the clip's pixels to where things that follow nothing stay put."""
        return self.matrix(moment) if self.held is None else between_rows(self.held, self._within(moment))

    def given_back(self) -> ViewPath:
        """The same with the movement given back: the clip lies as it was filmed, what was worked held rides on it."""
        n = len(self.picture_from_held)
        eye = np.tile(np.eye(3), (n, 1, 1))
        return replace(self, picture_from_held=eye, held_from_clip=eye, zoom=np.ones(n), donors=(), held=self.matrices())

    def carried_on(self, further: F64, zoom: F64, says: str = "") -> ViewPath:
        """The same with a further movement (n, 3, 3) of the finished picture."""
        told = " ".join(part for part in (self.says, says) if part)
        return replace(self, picture_from_held=further @ self.picture_from_held, zoom=self.zoom * zoom, says=told)


@dataclass(frozen=True, slots=True, kw_only=True)
class PlateContext:
    """What a treatment may ask of the shot.

    Attributes
    ----------
    size : (width, height) of the clip. fps : frames per second. start, stop : the shot's range.
    movement : (motion id, reference frame) -> (n, 3, 3) from that frame to every frame; None: not measured.
    places : (motion id, frame) -> (k, 2) spots of the motion's surface or points in that frame.
    """

    size: tuple[int, int]
    fps: float
    start: int
    stop: int
    movement: Callable[[str, int], F64 | None]
    places: Callable[[str, int], F64]


def corners_of(size: tuple[int, int], inset: float = 0.0) -> F64:
    """(4, 2) corners of a picture, clockwise from top left."""
    w, h = size
    return np.array([[inset, inset], [w - inset, inset], [w - inset, h - inset], [inset, h - inset]], np.float64)


def covered_share(matrix: F64, size: tuple[int, int]) -> float:
    """Share of the picture that a frame covers through `matrix` (3, 3), clip to picture, on a grid of 48 x 27 spots."""
    u, v = np.meshgrid((np.arange(48) + 0.5) / 48 * size[0], (np.arange(27) + 0.5) / 27 * size[1])
    held_from_clip = np.asarray(np.linalg.inv(matrix), np.float64)
    spots = carry(np.stack([u.ravel(), v.ravel()], axis=1), held_from_clip)
    return float(((spots >= 0) & (spots <= np.array(size))).all(axis=1).mean())


def view_path(treatments: Sequence[TreatmentBase], context: PlateContext, frames: int) -> ViewPath:
    """The view after all treatments that are on, in their order."""
    view = ViewPath.untouched(frames, context.size)
    for one in treatments:
        if one.shown:
            view = TREATMENTS.of(one).run(one, context, view)
    return view
