"""The room: where the ground is, which way is up, how large it all is."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64, matrix_to_quaternion, quaternion_to_matrix
from plonket.base.errors import Degenerate
from plonket.base.fields import Settings

UPRIGHT_DEG = 40.0
"""A ground leans by less than so much against the camera's own idea of upright."""
SURE_DEG = 16.0
"""The same where lines of the set say what is upright."""
LEVEL_DEG = 2.5
"""A ground that leans by more against an upright that is sure is a slope."""
GROUND_SHARE = 0.12
"""Share of the points that a ground must hold to be suggested."""


class Room(Settings):
    """How the solved world lies in the creator's: world = scale * turn(solved) + shift. Metres, y up.

    `turn` is a unit quaternion [x, y, z, w].
    """

    turn: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 1.0)
    shift: tuple[float, float, float] = (0.0, 0.0, 0.0)
    scale: float = 1.0

    def matrix(self) -> F64:
        """(3, 3) rotation."""
        return quaternion_to_matrix(np.array(self.turn))

    def points(self, solved: F64) -> F64:
        """Solved places (..., 3) in the creator's world."""
        return np.asarray(self.scale * solved @ self.matrix().T + np.array(self.shift))

    def back(self, world: F64) -> F64:
        """The opposite of `points`: places of the room (..., 3) as they were solved."""
        return np.asarray((world - np.array(self.shift)) @ self.matrix() / self.scale)

    def turns(self, rotation: F64) -> F64:
        """Solved local-to-world rotations (..., 3, 3) in the creator's world."""
        return np.asarray(self.matrix() @ rotation)


def _room(turn: F64, shift: F64, scale: float) -> Room:
    q = matrix_to_quaternion(turn)
    return Room(turn=(float(q[0]), float(q[1]), float(q[2]), float(q[3])),
                shift=(float(shift[0]), float(shift[1]), float(shift[2])), scale=float(scale))  # fmt: skip


def laid(room: Room, ground: F64, eye: F64) -> Room:
    """The room with its ground through points.

    Parameters
    ----------
    ground : (n >= 3, 3) points in the room's present world. eye : (3,) a camera's place there: it is above.

    Raises
    ------
    Degenerate
        Points in a line, or fewer than three.
    """
    centre, up = _flat_through(ground, eye, "ground")
    turn = _onto(up, np.array([0.0, 1.0, 0.0]))
    new = turn @ room.matrix()
    shift = turn @ (np.array(room.shift) - centre)
    # The ground's middle stays over the origin only in height: what was in front stays in front.
    shift = shift + (turn @ centre) * np.array([1.0, 0.0, 1.0])
    return _room(new, shift, room.scale)


def surface(points: F64, eye: F64) -> tuple[F64, float, float]:
    """A flat surface through points of a room: its middle (3,), and the heading and tilt in degrees of a spot that lies on it.

    Parameters
    ----------
    points : (n >= 3, 3). eye : (3,) a camera's place: the surface faces it.

    Raises
    ------
    Degenerate
        Points in a line, or fewer than three.
    """
    centre, normal = _flat_through(points, eye, "surface")
    # A spot's front is (cos tilt sin heading, sin tilt, cos tilt cos heading).
    level = float(np.hypot(normal[0], normal[2]))
    heading = float(np.degrees(np.arctan2(normal[0], normal[2]))) if level > 1e-6 else 0.0
    return centre, heading, float(np.degrees(np.arctan2(normal[1], level)))


def _flat_through(points: F64, eye: F64, what: str) -> tuple[F64, F64]:
    """Middle (3,) of points and the unit normal (3,), towards the eye, of the plane that fits them best."""
    if len(points) < 3:
        raise Degenerate(f"room.{what}", f"A {what} needs three points that lie on it, not in a line.")
    centre = points.mean(axis=0)
    _, spread, axes = np.linalg.svd(points - centre)
    if spread[1] < 0.02 * max(spread[0], 1e-12):
        raise Degenerate(
            f"room.{what}", f"These points lie in a line: a {what} could lean any way round it. Pick another one."
        )
    return centre, axes[2] if axes[2] @ (eye - centre) > 0 else -axes[2]


def at_origin(room: Room, spot: F64) -> Room:
    """The room with its origin at a spot (3,) of its present world; heights change too."""
    return _room(room.matrix(), np.array(room.shift) - spot, room.scale)


def along(room: Room, a: F64, b: F64) -> Room:
    """The room turned about its upright so that the way from `a` to `b` (3,) runs along x."""
    way = b - a
    if np.hypot(way[0], way[2]) < 1e-6 * max(float(np.linalg.norm(way)), 1e-12):
        raise Degenerate("room.axis", "These two points lie above each other: they give no direction on the ground.")
    angle = np.arctan2(way[2], way[0])
    turn = _about_upright(float(angle))
    return _room(turn @ room.matrix(), turn @ np.array(room.shift), room.scale)


def measured(room: Room, a: F64, b: F64, metres: float) -> Room:
    """The room scaled so that `a` and `b` (3,) of its present world are so far apart."""
    apart = float(np.linalg.norm(b - a))
    if apart < 1e-9 or metres <= 0:
        raise Degenerate("room.scale", "A scale needs two points that are apart, and a distance above nought.")
    by = metres / apart
    return _room(room.matrix(), by * np.array(room.shift), by * room.scale)


def nudged(room: Room, *, turn_deg: float = 0.0, rise: float = 0.0) -> Room:
    """The room turned about its upright, anticlockwise from above, and its ground raised by so many metres."""
    turn = _about_upright(float(np.radians(turn_deg)))
    return _room(turn @ room.matrix(), turn @ np.array(room.shift) - np.array([0.0, rise, 0.0]), room.scale)


def _about_upright(angle: float) -> F64:
    c, s = np.cos(angle), np.sin(angle)
    return np.array([[c, 0, s], [0, 1, 0], [-s, 0, c]])


def _onto(a: F64, b: F64) -> F64:
    """The shortest rotation that takes one unit vector to another."""
    v, c = np.cross(a, b), float(a @ b)
    if c < -1 + 1e-9:
        return np.diag([1.0, -1.0, -1.0])
    k = np.array([[0, -v[2], v[1]], [v[2], 0, -v[0]], [-v[1], v[0], 0]])
    return np.asarray(np.eye(3) + k + k @ k / (1 + c))


def suggested(points: F64, rotation: F64, position: F64, up: F64, sure: float = 0.0) -> Room:
    """A world for a fresh solve: upright, the ground found if there is one, points a metre away.

    Parameters
    ----------
    points : (m, 3). rotation : (n, 3, 3) local-to-world, position : (n, 3); all as solved.
    up : (3,) the upright there. sure : how sure it is, 0 to 1: a ground may lean by less against one that is.
    """
    turn = _onto(up / np.linalg.norm(up), np.array([0.0, 1.0, 0.0]))
    if len(points) == 0:
        return _room(turn, -turn @ position[0], 1.0)
    middle = np.median(points, axis=0)
    scale = 1.0 / max(float(np.median(np.linalg.norm(points - position[len(position) // 2], axis=1))), 1e-9)
    room = _room(turn, -scale * (turn @ middle), scale)
    eye = room.points(position).mean(axis=0)
    found = ground(room.points(points), eye, UPRIGHT_DEG + sure * (SURE_DEG - UPRIGHT_DEG))
    if found is not None:
        level = room.points(points)[found]
        # Things are to stand on it: it is made level. A slope keeps the upright that lines of the set tell.
        middle = np.array([0.0, float(level[:, 1].mean()), 0.0])
        is_slope = sure > 0.5 and _lean(level, eye) > LEVEL_DEG
        room = at_origin(room, middle) if is_slope else laid(room, level, eye)
    # Facing the way the camera looks at first.
    ahead = room.turns(rotation[:1])[0] @ np.array([0.0, 0.0, -1.0])
    here = np.zeros(3)
    return along(room, here, np.array([-ahead[2], 0.0, ahead[0]])) if np.hypot(ahead[0], ahead[2]) > 0.05 else room


def _lean(points: F64, eye: F64) -> float:
    """Degrees by which the plane through points leans."""
    return float(np.degrees(np.arccos(np.clip(_flat_through(points, eye, "ground")[1][1], -1, 1))))


def found_ground(points: F64, eye: F64) -> tuple[F64, F64] | None:
    """A point (3,) and the upward normal (3,) of the ground of an upright world; None where there is none to be seen."""
    on = ground(points, eye, SURE_DEG)
    return None if on is None else _flat_through(points[on], eye, "ground")


def ground(points: F64, eye: F64, upright_deg: float = UPRIGHT_DEG) -> Sequence[int] | None:
    """Points (indices) of the most likely ground; None: there is none.

    It is a plane that is nearly level, lies below the camera and everything else, and holds many points over a wide area.
    """
    if len(points) < 12:
        return None
    rng = np.random.default_rng(0)
    near = 0.012 * float(np.median(np.linalg.norm(points - eye, axis=1)))
    best: tuple[float, NDArray[np.int_]] | None = None
    for _ in range(600):
        a, b, c = points[rng.choice(len(points), 3, replace=False)]
        normal = np.cross(b - a, c - a)
        length = float(np.linalg.norm(normal))
        if length < 1e-12:
            continue
        normal = normal / (length if normal[1] >= 0 else -length)
        lean = float(np.degrees(np.arccos(np.clip(normal[1], -1, 1))))
        if lean > upright_deg or (eye - a) @ normal < 2 * near:
            continue
        off = (points - a) @ normal
        on = np.flatnonzero(np.abs(off) < near)
        # Little lies under a ground.
        below = float((off < -2 * near).mean())
        if below > 0.15 or len(on) < 3:
            continue
        # A wall seen at a slant leans more, and is less wide on the floor than it is tall.
        spread = np.linalg.svd(points[on][:, [0, 2]] - points[on][:, [0, 2]].mean(axis=0), compute_uv=False)
        flat = float(np.clip(spread[1] / max(float(spread[0]), 1e-12) / 0.15, 0.2, 1))
        score = len(on) * (1 - 3 * below) * flat * float(np.exp(-((3 * lean / upright_deg) ** 2)))
        if best is None or score > best[0]:
            best = score, on
    if best is None or len(best[1]) < max(8, GROUND_SHARE * len(points)):
        return None
    on = best[1]
    # Three points lie anywhere within its noise: what all of them say is finer, and tells the foot of things from it.
    for share in (0.7, 0.5, 0.35):
        centre, normal = _flat_through(points[on], eye, "ground")
        closer = np.flatnonzero(np.abs((points - centre) @ normal) < share * near)
        if len(closer) < max(8, 0.4 * len(best[1])):
            break
        on = closer
    return [int(k) for k in on]
