"""What falls in a room: its layers as bodies, all of them together, and where they are then."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.spatial import ConvexHull, QhullError

from plonket.base.conventions import F64
from plonket.document.kinds import LAYERS
from plonket.layers.sources import Sources
from plonket.layers.standing import StandingLayer
from plonket.physics.fall import Driven, Fall, Fallen, Loose

EARLIEST = -300
"""The earliest frame at which something may be let go: before the first one it has come to rest."""
SAME_LEVEL = 0.05
"""Metres within which floors are one."""
SLAB_HALF, SLAB_DEEP = 40.0, 2.0
"""Half the width of the floor under what falls, in its own sizes, and how deep it is, in metres."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Bodies:
    """A layer among what falls.

    Attributes
    ----------
    loose, sizes : what falls of it, and how many metres its own unit is. driven : what is as it says itself.
    level : metres at which there is a floor under it; None: none. open_at : those of the floor that it opens.
    """

    loose: Sequence[Loose] = ()
    sizes: Sequence[float] = ()
    driven: Sequence[Driven] = ()
    level: float | None = None
    open_at: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class FallenLayer:
    """Where a layer's bodies are: its part of what fell, from the body `first_body` on, and its `sizes`. lets_go : the frame
    before which it goes by its own keys."""

    fallen: Fallen
    first_body: int
    sizes: tuple[float, ...]
    lets_go: int

    @property
    def poses(self) -> F64:
        """(frames, bodies, 4, 4) of its own, rigid, from `fallen.first` on."""
        return self.fallen.poses[:, self.first_body : self.first_body + len(self.sizes)]

    def at(self, when: float) -> list[F64] | None:
        """(4, 4) room from its own unit for each of its bodies; None: it has not been let go yet."""
        if when < self.lets_go:
            return None
        poses = self.fallen.at(when)[self.first_body : self.first_body + len(self.sizes)]
        return [pose @ np.diag([size, size, size, 1.0]) for pose, size in zip(poses, self.sizes, strict=True)]


def falls(layer: object) -> bool:
    """Whether it is let go at some frame."""
    return bool(getattr(layer, "falls", False))


def fall_in(sources: Sources, target: str | None) -> tuple[Fall, Mapping[str, tuple[int, Bodies]]] | None:
    """All that falls in the room of what follows `target`, and by layer's id the first of its bodies; None: nothing does."""
    seat = sources.seat(target)
    end = 0 if seat is None else seat[0].track.frames
    near = [one for one in sources.neighbours(target) if isinstance(one, StandingLayer)]
    # What would be let go after the last frame is not seen to fall.
    near = [one for one in near if not falls(one) or one.falls_from < end]  # type: ignore[attr-defined]
    starts = [int(getattr(one, "falls_from")) for one in near if falls(one)]  # noqa: B009
    if not starts:
        return None
    first = min(starts)
    found: dict[str, tuple[int, Bodies]] = {}
    loose: list[Loose] = []
    driven: list[Driven] = []
    for layer in near:
        bodies_of = LAYERS.of(layer).bodies
        if bodies_of is None:
            continue
        bodies = bodies_of(layer, sources, first)
        found[layer.id] = (len(loose), bodies)
        loose += bodies.loose
        driven += bodies.driven
    every = [bodies for _, bodies in found.values()]
    opened = [b.open_at for b in every if b.open_at is not None]
    driven += [_slab(b) for b in every if b.level is not None and not _near(b.level, opened)]
    ground = None if _near(0.0, opened) or not loose else 0.0
    return Fall(loose=tuple(loose), driven=tuple(driven), first=first, fps=sources.fps, ground=ground), found


def _near(level: float, others: Sequence[float]) -> bool:
    return any(abs(level - one) < SAME_LEVEL for one in others)


def _slab(bodies: Bodies) -> Driven:
    assert bodies.level is not None
    places = np.concatenate([one.hull @ one.start[:3, :3].T + one.start[:3, 3] for one in bodies.loose])
    middle, half = places.mean(axis=0), SLAB_HALF * float(np.ptp(places, axis=0).max())
    return box_between(np.array([middle[0] - half, bodies.level - SLAB_DEEP, middle[2] - half]),
                       np.array([middle[0] + half, bodies.level, middle[2] + half]))  # fmt: skip


def box_between(low: F64, high: F64, pose: F64 | None = None) -> Driven:
    """A box that stays, from its lowest to its highest corner (3,) in its own axes."""
    corners = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
    return Driven(hull=corners, path=(np.eye(4) if pose is None else pose)[None])


def hull_of(points: F64) -> F64:
    """(k, 3) the points (n, 3) of a thing that its convex hull has at its corners; of a flat thing all of its points."""
    fine = np.unique(np.round(points, 6), axis=0)
    try:
        return np.asarray(fine[ConvexHull(fine).vertices])
    except (QhullError, ValueError):
        return np.asarray(fine)


def rigid(matrix: F64) -> tuple[F64, float]:
    """The turn and place (4, 4) of a matrix from a thing's own unit, and that unit in metres."""
    size = float(np.cbrt(abs(np.linalg.det(matrix[:3, :3]))))
    out = matrix.copy()
    out[:3, :3] /= size
    return out, size


def path_of(matrices: Sequence[F64]) -> F64:
    """(frames, 4, 4) a path as short as it can be told: what stands still has one place."""
    path = np.stack([rigid(one)[0] for one in matrices])
    moves = np.flatnonzero(np.abs(np.diff(path, axis=0)).max(axis=(1, 2), initial=0) > 1e-9)
    return np.asarray(path[: (int(moves[-1]) + 2 if len(moves) else 1)])
