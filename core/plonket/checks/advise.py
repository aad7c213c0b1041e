"""The adviser: looks at a clip before anything is measured and says what would be good to follow."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64, U8, from_index
from plonket.base.errors import BadInput
from plonket.media.clip import Clip

LOOKS = 25
"""Frames looked at, evenly over the range."""
WIDTH = 640
MOST = 500
FITS_PX = 1.6
"""How far a detail may lie from where a model puts it, in pixels of the reduced picture."""

LEAST_CONTRAST = 2.5
"""Code values that a detail must stand out by; below, it is noise."""
BREAKS_PX = 2.5
"""Distance from its epipolar line at which a detail is taken to move by itself."""

Grade = Literal["good", "fair", "poor"]
Kind = Literal["point", "plane", "camera"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Fact:
    """One thing noticed about the clip: what it concerns, how it bodes, and a sentence."""

    about: Literal["detail", "blur", "light", "depth", "moving"]
    grade: Grade
    says: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Suggestion:
    """Something to follow: where, on which frame, and why.

    `outline` (n, 2) pixels for a plane, or the spots (n, 2) of points; empty for the camera.
    """

    kind: Kind
    frame: int
    outline: tuple[tuple[float, float], ...]
    why: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Advice:
    """What the adviser found; suggestions come best first. `moving` are (n, 2) outlines of things that move."""

    facts: tuple[Fact, ...]
    suggestions: tuple[Suggestion, ...]
    moving: tuple[tuple[tuple[float, float], ...], ...]


@dataclass(frozen=True, slots=True)
class _Paths:
    """Details followed over the frames looked at: xy (m, looks, 2) reduced pixels, alive (m, looks); from look `middle`."""

    xy: F64
    alive: NDArray[np.bool_]
    middle: int

    def lasting(self) -> NDArray[np.bool_]:
        """Details that live nearly throughout or, where nothing does, about as long as any: (m,)."""
        share = self.alive.mean(axis=1)
        longest = float(np.quantile(share, 0.9)) if len(share) else 0.0
        return share > (min(0.7, 0.85 * longest) if longest > 0.25 else 0.7)


def advise(clip: Clip, start: int = 0, stop: int | None = None) -> Advice:
    """Look at frames start..stop-1. Raises `BadInput` for fewer than two frames."""
    stop = clip.info.frames if stop is None else stop
    if stop - start < 2:
        raise BadInput("advise.short", "One frame alone does not move; there is nothing to advise on.")
    frames = np.unique(np.linspace(start, stop - 1, min(LOOKS, stop - start)).round().astype(int))
    scale = min(1.0, WIDTH / clip.info.width)
    size = (max(16, round(clip.info.width * scale)), max(16, round(clip.info.height * scale)))
    pictures = [np.asarray(cv2.resize(clip.luma(int(f)), size, interpolation=cv2.INTER_AREA), np.uint8) for f in frames]
    # Begin where most can be followed longest: something may pass before the set in the middle.
    tries = (_follow(pictures, k) for k in sorted({len(pictures) // 2, len(pictures) // 6, len(pictures) * 5 // 6}))
    paths = max(tries, key=lambda p: (int(p.alive.sum()), -abs(p.middle - len(pictures) // 2)))
    facts = [_detail(pictures, paths), _blur(pictures), _light(pictures)]
    flat, fits, still = _models(paths)
    facts.append(_depth(flat, fits, still))
    odd = _odd_ones(paths, still)
    moving = _clusters(paths, odd, size)
    facts.append(_moving(len(moving), float(odd.mean()) if len(odd) else 0.0))
    middle = int(frames[paths.middle])
    into = 1 / scale
    suggestions = _suggest(paths, flat, fits, still, odd, middle, into)
    return Advice(
        facts=tuple(facts), suggestions=tuple(suggestions),
        moving=tuple(tuple((float(x), float(y)) for x, y in hull * into) for hull in moving),
    )  # fmt: skip


def _follow(pictures: list[U8], middle: int) -> _Paths:
    """One frame's details, followed outwards by pyramidal Lucas-Kanade, checked on the way back."""
    spots = cv2.goodFeaturesToTrack(pictures[middle], MOST, 0.008, 7, blockSize=7)
    at = np.zeros((0, 2), np.float32) if spots is None else spots.reshape(-1, 2)
    at = at[_contrast(pictures[middle], at) > LEAST_CONTRAST]
    xy = np.zeros((len(at), len(pictures), 2))
    alive = np.zeros((len(at), len(pictures)), bool)
    xy[:, middle], alive[:, middle] = at, True
    for step in (1, -1):
        k, ok = middle, np.ones(len(at), bool)
        while 0 <= k + step < len(pictures) and ok.any() and len(at):
            before = xy[:, k].astype(np.float32)
            here, there = pictures[k], pictures[k + step]
            now, found, _ = cv2.calcOpticalFlowPyrLK(here, there, before, None, winSize=(17, 17), maxLevel=4)
            back, again, _ = cv2.calcOpticalFlowPyrLK(there, here, now, None, winSize=(17, 17), maxLevel=4)
            ok &= (found.ravel() > 0) & (again.ravel() > 0) & (np.abs(back - before).max(axis=1) < 0.7)
            k += step
            xy[:, k], alive[:, k] = now, ok
    return _Paths(xy=xy, alive=alive, middle=middle)


def _contrast(picture: U8, at: NDArray[np.float32]) -> F64:
    """(n,) SD of the picture round each spot, its finest noise smoothed away, in code values."""
    soft = cv2.GaussianBlur(picture, (0, 0), 1.2).astype(np.float32)
    mean, square = cv2.blur(soft, (9, 9)), cv2.blur(soft * soft, (9, 9))
    x, y = at[:, 0].astype(int), at[:, 1].astype(int)
    return np.sqrt(np.maximum(square - mean * mean, 0))[y, x].astype(np.float64)


def _models(paths: _Paths) -> tuple[NDArray[np.bool_], float, NDArray[np.bool_]]:
    """Which details one flat surface explains, the share of those alive over a good stretch, and which of
    them a rigid room explains (epipolar geometry)."""
    m = len(paths.xy)
    flat, rigid = np.zeros(m, bool), np.zeros(m, bool)
    if m < 12:
        return flat, 0.0, rigid
    # The two frames furthest apart in which at least two thirds of the details are still alive.
    counts = paths.alive.sum(axis=0)
    enough = np.nonzero(counts >= 0.6 * m)[0]
    a, b = int(enough.min()), int(enough.max())
    both = paths.alive[:, a] & paths.alive[:, b]
    if both.sum() < 12 or a == b:
        return flat, 0.0, rigid
    p, q = paths.xy[both, a], paths.xy[both, b]
    _, near = cv2.findHomography(p, q, cv2.RANSAC, FITS_PX)
    ids = np.nonzero(both)[0]
    flat[ids] = near.ravel() > 0 if near is not None else False
    # A thing that moves by itself breaks the room's geometry in most pairs of frames, an unlucky one in few.
    broken, tried = np.zeros(m), np.zeros(m)
    for c, d in {(a, b), (a, paths.middle), (paths.middle, b), ((a + paths.middle) // 2, b), (a, (paths.middle + b) // 2)}:
        pair = np.nonzero(paths.alive[:, c] & paths.alive[:, d])[0]
        if c == d or len(pair) < 16:
            continue
        p, q = paths.xy[pair, c], paths.xy[pair, d]
        f, _ = cv2.findFundamentalMat(p, q, cv2.USAC_MAGSAC, 1.0, 0.9999, 5000)
        if f is None or f.shape != (3, 3):
            continue
        tried[pair] += 1
        broken[pair] += _off_line(p, q, f) > BREAKS_PX
    rigid = (tried > 0) & ((broken <= 0.6 * tried) | flat)
    return flat, float(flat[ids].mean()), rigid


def _off_line(p: F64, q: F64, f: F64) -> F64:
    """Distances (n,) of points from their epipolar lines in pixels (Sampson: R. Hartley and A. Zisserman, 2004, eq. 11.9)."""
    a, b = np.hstack([p, np.ones((len(p), 1))]), np.hstack([q, np.ones((len(q), 1))])
    fa, fb = a @ f.T, b @ f
    above = np.abs((b * fa).sum(axis=1))
    return np.asarray(above / np.sqrt(np.maximum((fa[:, :2] ** 2).sum(axis=1) + (fb[:, :2] ** 2).sum(axis=1), 1e-12)))


def _odd_ones(paths: _Paths, rigid: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Details that live on but do not move as the room does."""
    lived = paths.alive.mean(axis=1) > 0.25
    return np.asarray(lived & ~rigid & (rigid.any()))


def _detail(pictures: list[U8], paths: _Paths) -> Fact:
    lasting = int((paths.alive.mean(axis=1) > 0.7).sum())
    if lasting >= 80:
        return Fact(about="detail", grade="good", says=f"Plenty of detail: {lasting} spots can be followed nearly throughout.")
    if lasting >= 15:
        return Fact(about="detail", grade="fair", says=f"Some detail: {lasting} spots can be followed nearly throughout.")
    if (paths.lasting() & (paths.alive[:, paths.middle])).sum() >= 80:
        says = "Plenty of detail, but none lasts: something covers or blurs everything for a while. Expect a gap there."
        return Fact(about="detail", grade="fair", says=says)
    says = f"Little detail: only {lasting} spots can be followed. Marks on the set would help."
    return Fact(about="detail", grade="poor", says=says)


def _blur(pictures: list[U8]) -> Fact:
    sharp = np.array([float(cv2.Laplacian(p, cv2.CV_32F, ksize=1).var()) for p in pictures])
    share = float(sharp.min() / max(sharp.max(), 1e-6))
    if share > 0.55:
        return Fact(about="blur", grade="good", says="Sharp throughout.")
    if share > 0.2:
        says = "Some frames are blurred by movement; they will be followed with less certainty."
        return Fact(about="blur", grade="fair", says=says)
    return Fact(about="blur", grade="poor", says="Some frames are very blurred. Expect gaps there, and check them one by one.")


def _light(pictures: list[U8]) -> Fact:
    mean = np.array([float(p.mean()) for p in pictures])
    change = float((mean.max() - mean.min()) / max(mean.mean(), 1))
    if change < 0.12:
        return Fact(about="light", grade="good", says="The light stays the same.")
    if change < 0.5:
        return Fact(about="light", grade="fair", says="The light changes; keep Follow light on.")
    says = "The light changes a lot. Keep Follow light on and check the brightest and darkest frames."
    return Fact(about="light", grade="poor", says=says)


def _depth(flat: NDArray[np.bool_], fits: float, rigid: NDArray[np.bool_]) -> Fact:
    if fits > 0.85:
        return Fact(about="depth", grade="good", says="Nearly everything moves as one flat surface, or the camera only turns.")
    if fits > 0.5:
        says = "One surface carries most of the picture; things before or behind it move differently."
        return Fact(about="depth", grade="fair", says=says)
    says = "Near and far things move apart: follow what lies where your element will sit."
    return Fact(about="depth", grade="fair", says=says)


def _moving(count: int, share: float) -> Fact:
    if count == 0:
        return Fact(about="moving", grade="good", says="Nothing moves by itself.")
    says = "Something moves by itself; draw an ignore region round it."
    if count > 1:
        says = f"{count} things move by themselves; draw ignore regions round them."
    return Fact(about="moving", grade="fair" if share < 0.3 else "poor", says=says)


def _clusters(paths: _Paths, odd: NDArray[np.bool_], size: tuple[int, int]) -> list[F64]:
    """Outlines of groups of details that move by themselves, on the middle frame."""
    spots = paths.xy[odd, paths.middle]
    if len(spots) < 4:
        return []
    canvas = np.zeros((size[1], size[0]), np.uint8)
    for x, y in spots:
        cv2.circle(canvas, (int(x), int(y)), max(8, size[0] // 36), 255, -1)
    count, labels = cv2.connectedComponents(canvas)
    out = []
    for k in range(1, count):
        inside = labels[spots[:, 1].astype(int).clip(0, size[1] - 1), spots[:, 0].astype(int).clip(0, size[0] - 1)] == k
        if inside.sum() >= 4:
            ys, xs = np.nonzero(labels == k)
            hull = cv2.convexHull(np.stack([xs, ys], axis=1).astype(np.float32)).reshape(-1, 2)
            out.append(from_index(_simpler(hull.astype(np.float64))))
    return sorted(out, key=lambda h: -float(cv2.contourArea(h.astype(np.float32))))[:4]


def _suggest(
    paths: _Paths, flat: NDArray[np.bool_], fits: float, rigid: NDArray[np.bool_], odd: NDArray[np.bool_], frame: int,
    into: float,
) -> list[Suggestion]:
    out: list[Suggestion] = []
    lasting = paths.lasting()
    surface = paths.xy[flat & lasting, paths.middle]
    if len(surface) >= 25:
        hull = _surface_outline(surface)
        share = round(100 * float(fits))
        out.append(Suggestion(
            kind="plane", frame=frame, outline=_pixels(hull, into),
            why=f"A flat surface with {len(surface)} lasting details ({share} % of the picture moves with it). Best for"
            " anything that should look painted on, pinned or stuck to it.",
        ))  # fmt: skip
    best = _best_points(paths, ~odd & lasting)
    if len(best):
        out.append(Suggestion(
            kind="point", frame=frame, outline=_pixels(best[:2], into),
            why="Small, clear details that last. One gives shift; both together give turn and size. Quick, and enough"
            " for a flare, a label or anything small.",
        ))  # fmt: skip
    if rigid.sum() >= 60 and fits < 0.7:
        out.append(Suggestion(
            kind="camera", frame=frame, outline=(),
            why="There is depth: near and far details move apart, and the room holds together. For things that stand"
            " in the room, the camera itself should be measured.",
        ))  # fmt: skip
    if not out:
        out.append(Suggestion(
            kind="point", frame=frame, outline=(),
            why="Nothing lasts well enough to be found by itself. Follow a detail by hand in short stretches, with"
            " stakes, or film again with marks on the set.",
        ))  # fmt: skip
    if fits < 0.4 and len(out) > 1 and out[0].kind == "plane":
        out[0], out[1] = out[1], out[0]
    return out


def _surface_outline(spots: F64) -> F64:
    """The dense part of a surface's details: single far-off ones do not stretch it."""
    middle = np.median(spots, axis=0)
    far = np.hypot(*(spots - middle).T)
    kept = spots[far <= np.percentile(far, 92)]
    return _simpler(cv2.convexHull(kept.astype(np.float32)).reshape(-1, 2).astype(np.float64))


def _simpler(hull: F64) -> F64:
    """A hull with at most ten corners."""
    length = cv2.arcLength(hull.astype(np.float32), True)
    for part in (0.01, 0.02, 0.03, 0.05, 0.08):
        simple = cv2.approxPolyDP(hull.astype(np.float32), part * length, True).reshape(-1, 2)
        if 3 <= len(simple) <= 10:
            return simple.astype(np.float64)
    x0, y0 = hull.min(axis=0)
    x1, y1 = hull.max(axis=0)
    return np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]])


def _best_points(paths: _Paths, usable: NDArray[np.bool_]) -> F64:
    """The longest-lived details, kept apart from each other; they come strongest first."""
    order = np.nonzero(usable)[0]
    order = order[np.argsort(-paths.alive[order].mean(axis=1), kind="stable")]
    chosen: list[F64] = []
    for k in order:
        at = paths.xy[k, paths.middle]
        if all(np.hypot(*(at - c)) > 70 for c in chosen):
            chosen.append(at)
        if len(chosen) == 4:
            break
    return np.array(chosen).reshape(-1, 2)


def _pixels(xy: F64, into: float) -> tuple[tuple[float, float], ...]:
    """Reduced array indices to full pixels."""
    return tuple((round(float(x), 2), round(float(y), 2)) for x, y in from_index(xy) * into)
