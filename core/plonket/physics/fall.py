"""What falls in a room, on what, and from when: plain data that says how it ends."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, fields

import numpy as np

from plonket.base.conventions import F64

VERSION = 1
"""Goes up whenever the same fall would end otherwise."""
MOST_BODIES = 400
MOST_SECONDS = 12.0
"""What has not come to rest by then stays as it is."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Loose:
    """A body that falls once it is let go.

    Attributes
    ----------
    hull : (n, 3) points whose convex hull it is, in its own metres. start : (4, 4) rigid, room from its own axes, where it
    stays until then. lets_go : the frame. when_hit : from then on only something that hits it lets it go. velocity : (3,) m/s
    and spin (3,) rad/s in the room, as it is let go. density : kg per cubic metre. friction : 0 to 2. bounce : 0 to 1.
    group : bodies of one group do not let each other go.
    """

    hull: F64
    start: F64
    lets_go: float
    when_hit: bool = False
    velocity: tuple[float, float, float] = (0.0, 0.0, 0.0)
    spin: tuple[float, float, float] = (0.0, 0.0, 0.0)
    density: float = 500.0
    friction: float = 0.6
    bounce: float = 0.2
    group: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class Driven:
    """A body that goes where it is said, whatever hits it: hull (n, 3) in its own metres; path (frames, 4, 4), rigid, from the
    first frame on, its last for ever. Two of a row that are alike stand still."""

    hull: F64
    path: F64


@dataclass(frozen=True, slots=True, kw_only=True)
class Fall:
    """All that falls in a room together.

    Attributes
    ----------
    first : the frame that it begins with. fps : frames a second. ground : height in metres of an endless level floor, or None.
    """

    loose: tuple[Loose, ...]
    driven: tuple[Driven, ...]
    first: int
    fps: float
    ground: float | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Fallen:
    """How it went: poses (frames, bodies, 4, 4), rigid, room from each body's own axes, from frame `first` on. The last ones
    hold for ever."""

    first: int
    poses: F64

    def at(self, when: float) -> F64:
        """(bodies, 4, 4) at a moment, between frames too."""
        x = float(np.clip(when - self.first, 0, len(self.poses) - 1))
        k = min(int(x), max(len(self.poses) - 2, 0))
        share = x - k
        if share == 0 or len(self.poses) == 1:
            return self.poses[k]
        mixed = (1 - share) * self.poses[k] + share * self.poses[k + 1]
        # Within a frame turns are small: the nearest turn to their mean is the one between them.
        u, _, vt = np.linalg.svd(mixed[:, :3, :3])
        mixed[:, :3, :3] = u @ vt
        return mixed


def fall_digest(fall: Fall) -> str:
    """Equal falls have equal hashes, in any process."""
    sha = hashlib.sha256(f"{VERSION} {fall.first} {fall.fps} {fall.ground} {len(fall.loose)}".encode())
    every: tuple[Loose | Driven, ...] = (*fall.loose, *fall.driven)
    for body in every:
        for field in fields(body):
            value = getattr(body, field.name)
            told = np.ascontiguousarray(value, np.float64).tobytes() if isinstance(value, np.ndarray) else repr(value).encode()
            sha.update(f"{field.name} {len(told)} ".encode() + told)
    return sha.hexdigest()
