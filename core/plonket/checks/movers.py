"""What moves by itself in a clip: when, and where.

Before a camera that stands, what differs from the picture that most frames show; else details that do not go along with the
set for most of their time.
"""

from __future__ import annotations

import warnings
from dataclasses import dataclass, field
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64, U8
from plonket.checks.look import LEAST, Look, shared

DIFFERS = 9.0
"""8-bit codes by which a mover differs from what is behind it, at the least."""
LEAST_AREA = 0.0012
"""Share of the picture."""
OWN_WAY = 0.35
"""Share of its own size that a mover goes, at the least; what sways stays."""
LEAST_LOOKS = 3
MISSED = 2
"""Looks for which a mover may be gone and come back."""
LEAVES_PX = 1.3
"""Pixels of a look, between one and the next but one, by which details must go their own way."""
GOES = 0.02
"""Share of the picture's width that they must have gone by themselves."""
NEAR = 0.07
"""Share of the picture's width within which details that move alike are one mover's."""
LEAST_DETAILS = 3
MOST = 12


Box = tuple[float, float, float, float]
"""x0, y0, x1, y1 in the clip's pixels."""
Who = Literal["person", "thing"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Mover:
    """First and last frame; the box of all it covers, the box at each look, and what it is."""

    first: int
    last: int
    box: Box
    at: tuple[tuple[int, Box], ...]
    who: Who = "thing"

    def outline(self, frame: int) -> tuple[tuple[float, float], ...]:
        """(n, 2) corners of its box at the look nearest a frame."""
        _, (x0, y0, x1, y1) = min(self.at, key=lambda one: abs(one[0] - frame))
        return (x0, y0), (x1, y0), (x1, y1), (x0, y1)


@dataclass(slots=True)
class _Way:
    """Boxes (x0, y0, x1, y1) of one thing, look by look."""

    boxes: dict[int, F64] = field(default_factory=dict)

    @property
    def last(self) -> int:
        return max(self.boxes)


def movers_of(look: Look) -> tuple[Mover, ...]:
    """Movers of a clip, the largest first."""
    ways = _by_details(look)
    if look.camera in ("locked", "turns", "flat"):
        ways = _joined(ways + _by_difference(look))
    size = np.array([*look.size, *look.size], np.float64)
    found = []
    for way in ways:
        frames = sorted(way.boxes)
        boxes = np.clip(np.stack([way.boxes[k] for k in frames]), 0, size) / look.scale
        whole = [*boxes[:, :2].min(axis=0), *boxes[:, 2:].max(axis=0)]
        at = tuple((int(look.frames[k]), _box(box)) for k, box in zip(frames, boxes, strict=True))
        found.append(Mover(first=at[0][0], last=at[-1][0], box=_box(np.array(whole)), at=at))
    found.sort(key=lambda m: -(m.box[2] - m.box[0]) * (m.box[3] - m.box[1]) * len(m.at))
    return tuple(found[:MOST])


def _box(values: F64) -> Box:
    x0, y0, x1, y1 = (round(float(v), 1) for v in values)
    return x0, y0, x1, y1


def _by_difference(look: Look) -> list[_Way]:
    """Where one picture shows all that stands: blobs that differ from what most looks show there, linked from look to look."""
    w, h = look.size
    lies = _laid_over(look)
    soft = [cv2.GaussianBlur(one, (0, 0), 1.4).astype(np.float32) for one in look.pictures]
    # The light of the whole may change.
    level = [float(np.median(one)) for one in soft]
    brought, there = [], []
    for one, own, matrix in zip(soft, level, lies, strict=True):
        even = one * np.float32(np.median(level) / max(own, 1.0))
        if look.camera == "locked":
            brought.append(even)
            there.append(np.ones((h, w), bool))
        else:
            brought.append(cv2.warpPerspective(even, matrix, (w, h)))
            there.append(cv2.warpPerspective(np.ones((h, w), np.float32), matrix, (w, h)) > 0.99)
    some = range(0, len(brought), max(1, len(brought) // 40))
    known = np.stack([np.where(there[k], brought[k], np.nan) for k in some])
    with warnings.catch_warnings():
        # Nothing shows some places.
        warnings.simplefilter("ignore", RuntimeWarning)
        behind = np.nan_to_num(np.nanmedian(known, axis=0)).astype(np.float32)
    # A movement that is off by a pixel is no mover.
    gx, gy = cv2.Sobel(behind, cv2.CV_32F, 1, 0, scale=0.125), cv2.Sobel(behind, cv2.CV_32F, 0, 1, scale=0.125)
    give = (0.0 if look.camera == "locked" else 1.5) * cv2.dilate(np.hypot(gx, gy), np.ones((3, 3), np.uint8))
    ways: list[_Way] = []
    for k, (one, seen) in enumerate(zip(brought, there, strict=True)):
        off = np.where(seen, np.abs(one - behind), 0)
        noise = 1.4826 * float(np.median(off[seen])) if seen.any() else 0.0
        differs = (off > max(DIFFERS, 5 * noise) + give).astype(np.uint8)
        differs = cv2.morphologyEx(differs, cv2.MORPH_OPEN, np.ones((3, 3), np.uint8))
        differs = cv2.morphologyEx(differs, cv2.MORPH_CLOSE, np.ones((9, 9), np.uint8))
        back = np.asarray(np.linalg.inv(lies[k]), np.float64)
        _link(ways, k, [_carried(box, back) for box in _blobs(differs)])
    return [way for way in ways if _goes(way)]


def _laid_over(look: Look) -> list[F64]:
    """(3, 3) for each look that lays it over the middle one, by the details they share, from look to look."""
    n = len(look.pictures)
    middle = n // 2
    out = [np.eye(3) for _ in range(n)]
    if look.camera == "locked":
        return out
    for way in (1, -1):
        k = middle
        while 0 <= k + way < n:
            p, q = shared(look.details, k + way, k)
            matrix = cv2.findHomography(p, q, cv2.RANSAC, 1.5)[0] if len(p) >= LEAST else None
            out[k + way] = out[k] @ (np.eye(3) if matrix is None else matrix)
            k += way
    return out


def _carried(box: F64, matrix: F64) -> F64:
    """The box round a box that was carried by a (3, 3)."""
    x0, y0, x1, y1 = box
    corners = cv2.perspectiveTransform(np.array([[[x0, y0], [x1, y0], [x1, y1], [x0, y1]]], np.float64), matrix)[0]
    return np.r_[corners.min(axis=0), corners.max(axis=0)]


def _joined(ways: list[_Way]) -> list[_Way]:
    """Ways that lie over each other for most of the time of the shorter one, and go the same way, as one."""
    out: list[_Way] = []
    for way in sorted(ways, key=lambda one: -sum(float(np.prod(b[2:] - b[:2])) for b in one.boxes.values())):
        host = next((one for one in out if _together(one, way)), None)
        if host is None:
            out.append(way)
            continue
        for k, box in way.boxes.items():
            had = host.boxes.get(k, box)
            host.boxes[k] = np.r_[np.minimum(had[:2], box[:2]), np.maximum(had[2:], box[2:])]
    return out


def _together(a: _Way, b: _Way) -> bool:
    both = sorted(set(a.boxes) & set(b.boxes))
    if len(both) < max(2, 0.4 * min(len(a.boxes), len(b.boxes))):
        return False
    over = np.median([_overlap(a.boxes[k], b.boxes[k]) for k in both])
    return bool(over > 0.3)


def _blobs(differs: U8) -> list[F64]:
    _, _, stats, _ = cv2.connectedComponentsWithStats(differs)
    least = LEAST_AREA * differs.size
    return [np.array([x, y, x + w, y + h], np.float64) for x, y, w, h, area in stats[1:] if area > least]


def _link(ways: list[_Way], look: int, boxes: list[F64]) -> None:
    """Continue each way by the box that covers its last one best."""
    live = [way for way in ways if look - way.last <= MISSED]
    pairs = sorted(
        ((_overlap(way.boxes[way.last], box), i, j) for i, way in enumerate(live) for j, box in enumerate(boxes)), reverse=True
    )
    taken: set[int] = set()
    gone: set[int] = set()
    for share, i, j in pairs:
        if share > 0.05 and i not in gone and j not in taken:
            live[i].boxes[look] = boxes[j]
            gone.add(i)
            taken.add(j)
    ways.extend(_Way({look: box}) for j, box in enumerate(boxes) if j not in taken)


def _overlap(a: F64, b: F64) -> float:
    """Share of the smaller of two boxes that both cover, each grown by a fifth."""
    grow = 0.2 * np.array([-1, -1, 1, 1])
    a = a + grow * np.tile(a[2:] - a[:2], 2)
    b = b + grow * np.tile(b[2:] - b[:2], 2)
    low, high = np.maximum(a[:2], b[:2]), np.minimum(a[2:], b[2:])
    inner = float(np.prod(np.maximum(high - low, 0)))
    return inner / max(min(float(np.prod(a[2:] - a[:2])), float(np.prod(b[2:] - b[:2]))), 1e-9)


def _goes(way: _Way) -> bool:
    """Whether it gets anywhere, or is there for a part of the time only."""
    if len(way.boxes) < LEAST_LOOKS:
        return False
    boxes = np.stack([way.boxes[k] for k in sorted(way.boxes)])
    middles, sizes = (boxes[:, :2] + boxes[:, 2:]) / 2, boxes[:, 2:] - boxes[:, :2]
    gone = np.abs(middles - middles[0]).max(axis=0) + np.ptp(sizes, axis=0) / 2
    return bool((gone > OWN_WAY * np.median(sizes, axis=0)).any())


def _by_details(look: Look) -> list[_Way]:
    """Before a camera that moves: details that leave the set's movement, in groups."""
    details, width = look.details, look.size[0]
    n = details.frames
    left, tried = np.zeros(len(details.xy)), np.zeros(len(details.xy))
    gone = np.zeros((len(details.xy), 2))
    for a in range(n - 1):
        b = min(a + 2, n - 1)
        both = np.flatnonzero(details.seen[:, a] & details.seen[:, b])
        if len(both) < LEAST:
            continue
        p, q = details.xy[both, a], details.xy[both, b]
        off = q - p if look.camera == "locked" else _off_the_set(p, q, look.camera == "depth")
        left[both] += np.linalg.norm(off, axis=1) > LEAVES_PX
        gone[both] += off * ((b - a) and 1 / (b - a))
        tried[both] += 1
    own = (tried >= 2) & (left >= 0.6 * tried) & (np.linalg.norm(gone, axis=1) > GOES * width)
    return _groups(look, np.flatnonzero(own))


def _off_the_set(p: F64, q: F64, room: bool) -> F64:
    """(k, 2) how far each detail is from where the set's movement takes it: of a flat or distant set, or of a `room`."""
    matrix, _ = cv2.findHomography(p, q, cv2.RANSAC, 1.2)
    if matrix is None:
        return np.zeros_like(p)
    off = q - cv2.perspectiveTransform(p[:, None], matrix)[:, 0]
    if not room:
        return np.asarray(off, np.float64)
    # What parallax may do is no movement of its own.
    f, _ = cv2.findFundamentalMat(p, q, cv2.USAC_MAGSAC, 0.8, 0.999, 2000)
    if f is None or f.shape != (3, 3):
        return np.asarray(off, np.float64)
    line = np.column_stack([p, np.ones(len(p))]) @ f.T
    across = line[:, :2] / np.maximum(np.linalg.norm(line[:, :2], axis=1, keepdims=True), 1e-12)
    length = np.maximum(np.linalg.norm(line[:, :2], axis=1), 1e-12)
    return np.asarray(across * ((line * np.column_stack([q, np.ones(len(q))])).sum(axis=1) / length)[:, None])


def _groups(look: Look, own: NDArray[np.int_]) -> list[_Way]:
    """Details that are near each other and move alike, as things."""
    details, width = look.details, look.size[0]
    group = np.arange(len(own))

    def root(k: int) -> int:
        while group[k] != k:
            k = int(group[k])
        return k

    for look_k in range(details.frames - 1):
        here = np.flatnonzero(details.seen[own, look_k] & details.seen[own, look_k + 1])
        at = details.xy[own[here], look_k]
        step = details.xy[own[here], look_k + 1] - at
        apart = np.linalg.norm(at[:, None] - at[None], axis=2)
        unlike = np.linalg.norm(step[:, None] - step[None], axis=2)
        speed = np.linalg.norm(step, axis=1)
        alike = (apart < NEAR * width) & (unlike < 1.0 + 0.35 * np.maximum(speed[:, None], speed[None]))
        for i, j in zip(*np.nonzero(np.triu(alike, 1)), strict=True):
            group[root(int(here[i]))] = root(int(here[j]))
    roots = np.array([root(k) for k in range(len(own))], int)
    out = []
    for one in np.unique(roots):
        members = own[roots == one]
        way = _Way()
        for k in range(details.frames):
            seen = members[details.seen[members, k]]
            if len(seen) >= min(LEAST_DETAILS, len(members)):
                at = details.xy[seen, k]
                margin = 0.015 * width
                way.boxes[k] = np.r_[at.min(axis=0) - margin, at.max(axis=0) + margin]
        if len(members) >= LEAST_DETAILS and len(way.boxes) >= LEAST_LOOKS:
            out.append(way)
    return out
