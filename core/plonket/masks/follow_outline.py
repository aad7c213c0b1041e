"""An outline that bends with what it lies on: carried by the movement of what is inside it, put right by its drawn shapes.

From each shape that was drawn, what is inside it is carried on from frame to frame by its movement as a whole, and a net over
it is then bent until every frame, laid back on the drawn one, looks like it: small errors do not add up. What is outside has
no say, and bending costs as much as asked for. Between two drawn shapes both sides are followed, and mixed by how near they
are.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field

import cv2
import numpy as np

from plonket.base.conventions import F64, U8
from plonket.base.errors import Degenerate
from plonket.base.outlines import Outline, OutlineKey, OutlinePoint, carry, control_points, flatten
from plonket.base.progress import Work
from plonket.masks.bending_net import BendingNet

LOST_BELOW = 0.2
"""Share of the inside that must still look the same, or it is lost."""
SWELLS = 1.25
"""Times by which it may grow or shrink from one frame to the next."""
IN_VIEW = 0.15
"""Share of the inside that must lie in the picture, or it has left."""
THIN_PX, THINNEST_PX = 0.12, 4.0
"""How far a shape may lie from the straight way between two kept ones; and where there would be too many of them, at most."""
MOST_POINTS = 3000
"""Points of all kept shapes together, above which they may lie farther off."""


@dataclass(slots=True)
class FollowedOutline:
    """What was found.

    Attributes
    ----------
    shapes : frame -> (n, 7) control points as of `plonket.base.outlines.control_points`. trust : frame -> 0 to 1, how much of
    the inside looks as on the drawn shape. stopped : frames from which on, seen from a drawn shape, it was lost, with the
    reason, *left* or *lost*.
    """

    shapes: dict[int, F64] = field(default_factory=dict)
    trust: dict[int, float] = field(default_factory=dict)
    stopped: dict[int, str] = field(default_factory=dict)

    def keep(self, key: OutlineKey) -> None:
        """A shape that was found before stays."""
        self.shapes.setdefault(key.frame, control_points(Outline(keys=[key]), key.frame))
        if key.trust is not None:
            self.trust.setdefault(key.frame, key.trust)


def drawn_keys(outline: Outline) -> list[OutlineKey]:
    """The keys of an outline that somebody drew; all of them where none says that it was followed."""
    return [key for key in outline.keys if not key.followed]


def follow_outline(
    outline: Outline, picture: Callable[[int], U8], start: int, stop: int, *, bend: float = 0.6,
    to_clip: Callable[[int], F64 | None] | None = None, work: Work | None = None,
) -> FollowedOutline:  # fmt: skip
    """Carry an outline through frames start..stop-1 from the shapes that were drawn.

    Parameters
    ----------
    outline : keys that were followed before are done again. picture : frame -> 8-bit (h, w, 3). bend : 0 to 1, how finely it
        bends, from moving as a whole. to_clip : frame -> (3, 3) from the outline's pixels to the pictures', where they are
        others; None: it is not there in that frame.

    Raises
    ------
    Degenerate
        Nothing was drawn within the frames, or nothing can be seen inside it.
    """
    work = work or Work()
    place: Callable[[int], F64 | None] = to_clip or (lambda _: np.eye(3))
    places = {f: place(f) for f in range(start, stop)}
    keys = [k for k in drawn_keys(outline) if places.get(k.frame) is not None]
    if not keys:
        raise Degenerate("outline.no_key", "The outline has no drawn shape in these frames. Draw it on one of them.")
    out, total, done = FollowedOutline(), 2 * (stop - start), 0
    ways: dict[int, list[tuple[int, F64, float]]] = {}
    for key in keys:
        out.shapes[key.frame], out.trust[key.frame] = through(control_points(outline, key.frame), places[key.frame]), 1.0
    for nth, key in enumerate(keys):
        before = keys[nth - 1].frame if nth else start - 1
        after = keys[nth + 1].frame if nth + 1 < len(keys) else stop
        for frames in (range(key.frame + 1, after), range(key.frame - 1, before, -1)):
            for frame, shape, trust in _run(out.shapes[key.frame], picture, key.frame, frames, bend, out, work):
                ways.setdefault(frame, []).append((abs(frame - key.frame), shape, trust))
                done += 1
                work.progress(min(done, total), total)
    for frame, found in ways.items():
        # The nearer and the surer one counts more.
        weights = np.array([trust / away for away, _, trust in found])
        out.shapes[frame] = np.average([shape for _, shape, _ in found], axis=0, weights=np.maximum(weights, 1e-6))
        out.trust[frame] = float(np.average([trust for *_, trust in found], weights=np.maximum(weights, 1e-6)))
    back = {f: np.asarray(np.linalg.inv(m), np.float64) for f, m in places.items() if m is not None}
    out.shapes = {f: through(shape, back[f]) for f, shape in out.shapes.items() if f in back}
    return out


def through(shape: F64, matrix: F64 | None) -> F64:
    """Control points (n, 7) as a (3, 3) matrix brings them, handles too."""
    if matrix is None:
        return shape
    out, at = shape.copy(), carry(shape[:, :2], matrix)
    out[:, :2] = at
    for c in (2, 4):
        out[:, c : c + 2] = carry(shape[:, :2] + shape[:, c : c + 2], matrix) - at
    return np.asarray(out)


def with_followed(outline: Outline, found: FollowedOutline, thin_px: float = THIN_PX) -> Outline:
    """The outline with what was found as keys between the drawn ones; only as many as straight ways between them need."""
    drawn = {key.frame: key for key in drawn_keys(outline)}
    frames = sorted({*found.shapes, *drawn})
    if not frames:
        return outline
    shapes = {f: found.shapes[f] if f in found.shapes else control_points(outline, f) for f in frames}
    kept = _kept(frames, shapes, set(drawn), thin_px)
    # A document stays one that is quickly read and saved.
    while len(kept) * len(outline.keys[0].points) > MOST_POINTS and thin_px < THINNEST_PX:
        thin_px *= 1.4
        kept = _kept(frames, shapes, set(drawn), thin_px)
    ends = [frames[0] - 1, *kept, frames[-1] + 1]
    keys = []
    for before, f, after in zip(ends, kept, ends[2:], strict=False):
        between = [found.trust[g] for g in range(before + 1, after) if g in found.trust]
        trust = round(min(max(min(between), 0.0), 1.0), 3) if between else None
        keys.append(drawn.get(f) or OutlineKey(frame=f, points=points_of(shapes[f]), followed=True, trust=trust))
    return Outline(keys=keys)


def points_of(shape: F64) -> list[OutlinePoint]:
    """Control points (n, 7) as an outline keeps them."""
    names = ("x", "y", "in_x", "in_y", "out_x", "out_y", "feather")
    return [OutlinePoint(**dict(zip(names, (round(float(v), 2) for v in row), strict=True))) for row in shape]


def _kept(frames: Sequence[int], shapes: dict[int, F64], drawn: set[int], thin_px: float) -> list[int]:
    """The frames whose shapes are needed: each stretch is split where it is farthest from straight."""
    kept = {frames[0], frames[-1], *(f for f in frames if f in drawn)}
    # On both sides of what was not followed.
    kept.update(f for pair in itertools.pairwise(frames) if pair[1] != pair[0] + 1 for f in pair)
    stack = list(itertools.pairwise(sorted(kept)))
    while stack:
        a, b = stack.pop()
        between = [f for f in frames if a < f < b]
        if not between:
            continue
        off = [
            float(np.abs(shapes[f] - (shapes[a] * (b - f) + shapes[b] * (f - a)) / (b - a))[:, :6].max()) for f in between
        ]
        worst = int(np.argmax(off))
        if off[worst] > thin_px:
            kept.add(between[worst])
            stack += [(a, between[worst]), (between[worst], b)]
    return sorted(kept)


def _run(
    shape: F64, picture: Callable[[int], U8], start: int, frames: Sequence[int], bend: float, out: FollowedOutline, work: Work
) -> Iterator[tuple[int, F64, float]]:
    """Followed from a drawn shape through frames one beside the other."""
    if not len(frames):
        return
    grey = cv2.cvtColor(picture(start), cv2.COLOR_RGB2GRAY)
    carried = BendingNet(shape, grey, bend)
    size = _size(shape)
    for frame in frames:
        work.check_cancelled()
        then, grey = grey, cv2.cvtColor(picture(frame), cv2.COLOR_RGB2GRAY)
        trust = carried.step(then, grey)
        here = carried.shape()
        before, size = size, _size(here)
        # What folds up at once is laid on something else.
        sound = 1 / SWELLS < size / max(before, 1e-6) < SWELLS
        if carried.in_view < IN_VIEW or trust < LOST_BELOW or not sound:
            out.stopped[frame] = "left" if carried.in_view < IN_VIEW else "lost"
            return
        yield frame, here, trust


def _size(shape: F64) -> float:
    """Pixels that an outline holds."""
    x, y = flatten(shape).T
    return abs(float((x * np.roll(y, -1) - y * np.roll(x, -1)).sum())) / 2
