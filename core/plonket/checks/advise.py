"""The adviser: looks at a whole clip before anything is measured and says what would be good to follow."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F64
from plonket.checks.look import Look, far_pairs, look_at
from plonket.checks.movers import Mover, movers_of
from plonket.checks.who_moves import told_apart
from plonket.media.clip import Clip

FITS_PX = 0.6
"""How far a detail may lie from where one surface puts it, in pixels of the look, to lie on it."""
FIELDS = (24, 14)
"""The picture is divided into so many fields, across and down, in which a surface is looked for."""
SMALL = (9, 6)
"""Fields that a surface takes up at the most where depth cannot be told."""
LEAST_SURFACE = 16
LEAST_CONTRAST = 2.5
"""Code values that a detail must stand out by; below, it is noise."""

Grade = Literal["good", "fair", "poor"]
Kind = Literal["locked", "camera", "plane", "point"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Fact:
    """One thing noticed about the clip: what it concerns, how it bodes, and a sentence."""

    about: Literal["detail", "blur", "light", "depth", "moving"]
    grade: Grade
    says: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Suggestion:
    """Something to follow: where, on which frame, and why.

    `outline` (n, 2) pixels for a plane, or the spots (n, 2) of points; empty for the camera and for what stands still.
    """

    kind: Kind
    frame: int
    outline: tuple[tuple[float, float], ...]
    why: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Advice:
    """What the adviser found; suggestions come best first, movers largest first."""

    facts: tuple[Fact, ...]
    suggestions: tuple[Suggestion, ...]
    movers: tuple[Mover, ...]


def advise(clip: Clip, start: int = 0, stop: int | None = None) -> Advice:
    """Look at frames start..stop-1. Raises `BadInput` for fewer than two frames."""
    look = look_at(clip, start, clip.info.frames if stop is None else stop)
    movers = told_apart(movers_of(look), clip.rgb)
    usable = _usable(look, movers)
    begin = _begin(look, usable)
    facts = (_detail(look, usable), _blur(look), _light(look), _depth(look), _moving(movers))
    return Advice(facts=facts, suggestions=tuple(_suggest(look, usable, begin, clip)), movers=movers)


def _usable(look: Look, movers: tuple[Mover, ...]) -> NDArray[np.bool_]:
    """(details,) clear ones that belong to what stands."""
    details = look.details
    own = np.zeros(len(details.xy), bool)
    at_look = {int(frame): k for k, frame in enumerate(look.frames)}
    hit = np.zeros(len(details.xy))
    for mover in movers:
        for frame, box in mover.at:
            k = at_look[frame]
            x, y = details.xy[:, k, 0], details.xy[:, k, 1]
            x0, y0, x1, y1 = np.array(box) * look.scale
            hit += details.seen[:, k] & (x > x0) & (x < x1) & (y > y0) & (y < y1)
    own |= hit > 0.5 * details.seen.sum(axis=1)
    clear = np.zeros(len(details.xy), bool)
    first = details.seen.argmax(axis=1) if len(details.xy) else np.zeros(0, int)
    for k in np.unique(first):
        which = np.flatnonzero(first == k)
        soft = cv2.GaussianBlur(look.pictures[k], (0, 0), 1.2).astype(np.float32)
        mean, square = cv2.blur(soft, (9, 9)), cv2.blur(soft * soft, (9, 9))
        at = np.clip(details.xy[which, k].astype(int), 0, np.array(look.size) - 1)
        clear[which] = np.sqrt(np.maximum(square - mean * mean, 0))[at[:, 1], at[:, 0]] > LEAST_CONTRAST
    return clear & ~own


def _begin(look: Look, usable: NDArray[np.bool_]) -> int:
    """The look at which most that lasts is seen clearly: the best one to begin at."""
    life = look.details.seen.sum(axis=1) / look.details.frames
    seen = (look.details.seen[usable] * life[usable, None]).sum(axis=0) if usable.any() else np.zeros(look.details.frames)
    sharp = _sharpness(look)
    score = (seen + 1) * (0.5 + sharp / max(float(sharp.max()), 1e-6))
    # Near the middle, where it is as good: what is measured both ways is nowhere far away.
    middle = 1 - 0.1 * np.abs(np.linspace(-1, 1, len(score)))
    return int(np.argmax(score * middle))


def _sharpness(look: Look) -> F64:
    return np.array([float(cv2.Laplacian(one, cv2.CV_32F, ksize=1).var()) for one in look.pictures])


def _lasting(look: Look, usable: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """(details,) usable ones that live nearly throughout or, where nothing does, about as long as any."""
    share = look.details.seen.mean(axis=1)
    longest = float(np.quantile(share[usable], 0.9)) if usable.any() else 0.0
    return usable & (share >= (min(0.7, 0.75 * longest) if longest > 0.12 else 0.7))


def _detail(look: Look, usable: NDArray[np.bool_]) -> Fact:
    there = int((look.details.seen[usable]).sum(axis=0).min()) if usable.any() else 0
    lasting = int((look.details.seen[usable].mean(axis=1) > 0.7).sum())
    if lasting >= 60 or there >= 120:
        says = f"Plenty of detail: never fewer than {there} spots that can be followed, {lasting} of them nearly throughout."
        return Fact(about="detail", grade="good", says=says)
    if there >= 25:
        return Fact(about="detail", grade="fair", says=f"Some detail: never fewer than {there} spots that can be followed.")
    scarce = int(look.frames[int(look.details.seen[usable].sum(axis=0).argmin())]) if usable.any() else int(look.frames[0])
    says = f"Little detail: about frame {scarce} only {there} spots can be followed. Marks on the set would help."
    return Fact(about="detail", grade="poor" if lasting < 15 else "fair", says=says)


def _blur(look: Look) -> Fact:
    sharp = _sharpness(look)
    share = sharp / max(float(sharp.max()), 1e-6)
    if share.min() > 0.55:
        return Fact(about="blur", grade="good", says="Sharp throughout.")
    soft = look.frames[share < 0.55]
    where = f"frames {soft[0]} to {soft[-1]}" if len(soft) > 1 else f"frame {soft[0]}"
    n = max(2, len(share) // 6)
    # What moves blurs here and there; what drifts from sharp to soft is focus.
    lasting = len(soft) > 0.3 * len(share) and abs(share[:n].mean() - share[-n:].mean()) > 0.35
    if share.min() > 0.2:
        says = f"Focus or blur changes: {where} softer than the rest, and followed with less certainty."
        return Fact(about="blur", grade="fair", says=says)
    what = "out of focus" if lasting else "very blurred"
    says = f"Some pictures are {what}: {where}. Expect gaps there, and check them one by one."
    return Fact(about="blur", grade="poor", says=says)


def _light(look: Look) -> Fact:
    # The middle of all codes: what passes through hardly changes it.
    level = np.array([float(np.median(one)) for one in look.pictures])
    change = float((level.max() - level.min()) / max(level.mean(), 1))
    if change < 0.12:
        return Fact(about="light", grade="good", says="The light stays the same.")
    where = f"brightest at frame {look.frames[int(level.argmax())]}, darkest at frame {look.frames[int(level.argmin())]}"
    if change < 0.5:
        return Fact(about="light", grade="fair", says=f"The light changes, {where}; keep Follow light on.")
    return Fact(about="light", grade="poor", says=f"The light changes a lot, {where}. Keep Follow light on and check these.")


def _depth(look: Look) -> Fact:
    says: dict[str, tuple[Grade, str]] = {
        "locked": ("good", "The camera stands still: what is plonked stays put by itself."),
        "turns": ("good", "The camera only turns: near and far keep their places to each other."),
        "flat": ("good", "Nearly everything moves as one flat surface."),
        "depth": ("fair", "The camera moves through depth: near and far things move apart."),
        "unclear": ("poor", "What the camera does is not clear: too little of what stands can be followed for long."),
    }
    grade, text = says[look.camera]
    return Fact(about="depth", grade=grade, says=text)


def _moving(movers: tuple[Mover, ...]) -> Fact:
    if not movers:
        return Fact(about="moving", grade="good", says="Nothing moves by itself.")
    shown = [f"frames {m.first} to {m.last}" for m in movers[:3]]
    more = "" if len(movers) <= 3 else f" and {len(movers) - 3} more"
    people = sum(m.who == "person" for m in movers)
    things = len(movers) - people
    counted = [("1 person" if people == 1 else f"{people} people") if people else "",
               ("1 thing" if things == 1 else f"{things} things") if things else ""]  # fmt: skip
    what = " and ".join(filter(None, counted)) + (" moves by itself" if len(movers) == 1 else " move by themselves")
    return Fact(about="moving", grade="fair", says=f"{what}: {', '.join(shown)}{more}. Keep regions off them.")


def _suggest(look: Look, usable: NDArray[np.bool_], begin: int, clip: Clip) -> list[Suggestion]:
    frame, into = int(look.frames[begin]), 1 / look.scale
    out: list[Suggestion] = []
    if look.camera == "locked":
        out.append(Suggestion(
            kind="locked", frame=frame, outline=(),
            why="The camera is locked off, so nothing needs to be followed: whatever is plonked stays where it is put."
            " Follow only what moves by itself.",
        ))  # fmt: skip
    if look.camera in ("depth", "turns"):
        out.append(Suggestion(kind="camera", frame=frame, outline=(), why=_camera_why(look)))
    # Before a camera that stands nothing tells depth; turning, it tells none either: a small piece is seldom of two.
    small = SMALL if look.camera == "turns" else FIELDS
    surface = _surface(look, usable, begin, small) if look.camera != "locked" else np.zeros((0, 2))
    if len(surface):
        out.append(Suggestion(
            kind="plane", frame=frame, outline=_pixels(_surface_outline(surface), into),
            why=f"One flat surface with {len(surface)} details of the same depth. Best for anything that should look"
            " painted on, pinned or stuck to it.",
        ))  # fmt: skip
    spots = _best_points(look, _lasting(look, usable), begin)
    if len(spots):
        out.append(Suggestion(
            kind="point", frame=frame, outline=_pixels(spots[:2], into),
            why="Small, clear details that last. One gives shift; both together give turn and size. Quick, and enough"
            " for a flare, a label or anything small.",
        ))  # fmt: skip
    if not out:
        out.append(Suggestion(
            kind="point", frame=frame, outline=(),
            why="Nothing lasts well enough to be found by itself. Follow a detail by hand in short stretches, with"
            " stakes, or film again with marks on the set.",
        ))  # fmt: skip
    return out


def _camera_why(look: Look) -> str:
    if look.camera == "turns":
        return (
            "The camera turns on the spot. Measured, it holds everything in place at once, near and far, whatever walks"
            " through; how far away things are, it cannot tell."
        )
    return (
        "The camera moves, and near and far move apart: measured, it gives the set in 3D. Things, models and shadows then"
        " stand in it and stay put; what moves by itself is left out."
    )


def _surface(look: Look, usable: NDArray[np.bool_], begin: int, most: tuple[int, int]) -> F64:
    """Places (k, 2) at the look `begin` of details on one flat surface that nothing of another depth lies among, and that takes
    up `most` fields across and down."""
    details = look.details
    here = details.seen[:, begin] & usable
    fits, tried = np.zeros(len(here)), np.zeros(len(here))
    for a, b in (*_from(details.seen, begin), *(pair for pair in far_pairs(details) if pair[0] < begin < pair[1])):
        both = np.flatnonzero(details.seen[:, a] & details.seen[:, b] & usable)
        if len(both) < LEAST_SURFACE:
            continue
        p, q = details.xy[both, a], details.xy[both, b]
        _, near = cv2.findHomography(p, q, cv2.RANSAC, FITS_PX)
        if near is not None:
            fits[both] += near.ravel() > 0
            tried[both] += 1
    known = here & (tried > 0)
    on = known & (fits >= 0.75 * tried)
    at = details.xy[:, begin]
    off = here & ~on & (tried > 0)
    best = _free_of(at[on], at[off], look.size, most)
    return best if len(best) >= LEAST_SURFACE else np.zeros((0, 2))


def _from(seen: NDArray[np.bool_], begin: int) -> list[tuple[int, int]]:
    """Pairs of the look `begin` with the first and the last that share enough with it."""
    common = (seen & seen[:, [begin]]).sum(axis=0)
    enough = np.flatnonzero(common >= max(LEAST_SURFACE, 0.5 * common[begin]))
    if not len(enough):
        return []
    return [pair for pair in ((int(enough[0]), begin), (begin, int(enough[-1]))) if pair[0] < pair[1]]


def _free_of(on: F64, off: F64, size: tuple[int, int], most: tuple[int, int]) -> F64:
    """Of the places `on` (n, 2) those in the box of at `most` so many fields that holds most of them and none of `off`."""
    across, down = FIELDS

    def counted(at: F64) -> F64:
        where = np.clip(at / np.array(size) * np.array(FIELDS), 0, np.array(FIELDS) - 1).astype(int)
        grid = np.zeros((down + 1, across + 1))
        np.add.at(grid, (where[:, 1] + 1, where[:, 0] + 1), 1)
        return np.asarray(grid.cumsum(axis=0).cumsum(axis=1))

    if not len(on):
        return on
    good, bad = counted(on), counted(off)
    best, box = 0.0, (0, 0, 0, 0)
    wide = np.arange(across + 1)[None, :] - np.arange(across + 1)[:, None]
    for y0 in range(down):
        for y1 in range(y0 + 1, min(down, y0 + most[1]) + 1):
            x = good[y1] - good[y0]
            wrong = bad[y1] - bad[y0]
            inside, spoiled = x[None, :] - x[:, None], wrong[None, :] - wrong[:, None]
            # A stray one among many may be a slip.
            score = np.where((spoiled <= 0.04 * inside) & (wide <= most[0]), inside, 0)
            k = int(score.argmax())
            if score.flat[k] > best:
                best, box = float(score.flat[k]), (k // (across + 1), y0, k % (across + 1), y1)
    field = np.array(size) / np.array(FIELDS)
    low, high = np.array(box[:2]) * field, np.array(box[2:]) * field
    return np.asarray(on[((on >= low) & (on <= high)).all(axis=1)])


def _surface_outline(spots: F64) -> F64:
    """The dense part of a surface's details: single far-off ones do not stretch it."""
    middle = np.median(spots, axis=0)
    far = np.hypot(*(spots - middle).T)
    kept = spots[far <= np.percentile(far, 94)]
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


def _best_points(look: Look, lasting: NDArray[np.bool_], begin: int) -> F64:
    """The longest-lived details seen at a look, kept apart from each other; they come strongest first."""
    order = np.flatnonzero(lasting & look.details.seen[:, begin])
    order = order[np.argsort(-look.details.seen[order].mean(axis=1), kind="stable")]
    chosen: list[F64] = []
    for k in order:
        at = look.details.xy[k, begin]
        if all(np.hypot(*(at - c)) > 70 for c in chosen):
            chosen.append(at)
        if len(chosen) == 4:
            break
    return np.array(chosen).reshape(-1, 2)


def _pixels(xy: F64, into: float) -> tuple[tuple[float, float], ...]:
    """Reduced pixels to the clip's."""
    return tuple((round(float(x), 2), round(float(y), 2)) for x, y in xy * into)
