"""The screen key: a subject taken off a cloth of one colour, whatever its light does."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import cv2
import numba
import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from plonket.base.colour import linear_from_codes, linear_of
from plonket.base.conventions import F32, F64, FAST
from plonket.base.fields import Number, choice, colour, number, switch
from plonket.document.kinds import KEYS, KeyEntry
from plonket.keying.cloth import Cloth, clean_cloth, found_colour
from plonket.keying.common import Colour, Element, KeyContext, held
from plonket.keying.mixture import told_apart
from plonket.keying.shape import ShapedKey, shaped
from plonket.matting.calm import calmed

B = NDArray[np.bool_]

KNEE = 0.85
"""From here on what is nearly solid is brought up to solid: thinner, a matte is what it is, or every veil would grow denser."""
TOE = 2.5
"""Up to so many times the cloth's noise nothing counts as the subject."""


class ScreenKey(ShapedKey):
    """A subject before a cloth of one colour: green, blue or any other."""

    kind: Literal["screen"] = "screen"
    colours: list[Colour] = Field(default_factory=list, max_length=24,
                                  description="Samples of the cloth; none: found by itself")  # fmt: skip
    near: Number = number(45, label="Cloth's range", low=10, high=150, step=1, group="Cloth",
                        help="How different in colour from its samples something may be and still be cloth.")  # fmt: skip
    detail: Number = number(14, label="Follows folds", low=4, high=80, step=1, unit="px", group="Cloth",
                          help="How fine its folds and shadows are followed: smaller keys finer ones away.")  # fmt: skip
    sharp: bool = switch(True, label="Full colour", group="Cloth",
                         help="Clips store colour at half size; this brings it back to the edges of brightness.")  # fmt: skip
    auto: bool = switch(True, label="Clean cloth", group="Matte", help="Clips black just above the cloth's own noise.")
    calm: Number = number(3, label="Calm noise", low=0, high=8, step=1, unit="px", group="Matte",
                        help="Averages the matte's noise away over so many pixels, except at edges.")  # fmt: skip
    clip_black: Number = number(1, label="Clip black", low=0, high=60, step=0.5, unit="%", group="Matte",
                              help="What is thinner than this is gone.")  # fmt: skip
    clip_white: Number = number(96, label="Clip white", low=30, high=100, step=0.5, unit="%", group="Matte",
                              help="What is denser than this is solid.")  # fmt: skip
    spill: Number = number(100, label="Spill off", low=0, high=100, step=1, unit="%", group="Spill",
                         help="Takes off what the subject reflects of the cloth.")  # fmt: skip
    replace: Literal["grey", "behind", "nothing", "tint", "white"] = choice(
        "grey", label="In its place", group="Spill",
        names={"grey": "Its brightness in grey", "behind": "Light from behind", "nothing": "Nothing",
               "tint": "Its brightness in a colour", "white": "White, to see where it is"},
        help="What takes the place of the light that was spill.")  # fmt: skip
    tint: str = colour("#b8c4d8", label="Colour", group="Spill")


@dataclass(frozen=True, slots=True, kw_only=True)
class Keyed:
    """A keyed frame.

    Attributes
    ----------
    rgba : linear, premultiplied (h, w, 4). cloth : what was taken for the cloth. noise : SD of the matte on sure cloth.
    """

    rgba: F32
    cloth: Cloth
    noise: float

    @property
    def holes(self) -> float:
        """Share of the subject's inside that is not solid: what is solid all round it, so that no veil or blur counts."""
        alpha = self.rgba[..., 3]
        solid = (alpha >= 0.98).astype(np.uint8)
        size = max(9, solid.shape[1] // 60) | 1
        disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size))
        body = cv2.morphologyEx((alpha > 0.5).astype(np.uint8), cv2.MORPH_CLOSE, np.ones((9, 9), np.uint8))
        body = cv2.erode(body, np.ones((9, 9), np.uint8), borderValue=0)
        inside = (cv2.morphologyEx(solid, cv2.MORPH_CLOSE, disc) & body) > 0
        return float((solid[inside] == 0).mean()) if inside.any() else 0.0


def turned_to_green(colour: F64) -> F64:
    """(3, 3) a turn about the grey axis that brings a colour's hue to green: greys stay, and one rule serves all cloths."""
    grey = np.ones(3) / np.sqrt(3)
    own = colour - grey * (colour @ grey)
    green = np.array([0.0, 1.0, 0.0]) - grey * (grey[1])
    own, green = own / max(float(np.linalg.norm(own)), 1e-9), green / np.linalg.norm(green)
    cos, sin = float(own @ green), float(np.cross(own, green) @ grey)
    k = np.array([[0, -grey[2], grey[1]], [grey[2], 0, -grey[0]], [-grey[1], grey[0], 0]])
    return np.asarray(np.eye(3) * cos + k * sin + np.outer(grey, grey) * (1 - cos))


def samples_of(light: F32, settings: ScreenKey) -> F64:
    """(k, 3) linear colours of the cloth: as picked, or found by itself."""
    return np.stack([linear_of(c) for c in settings.colours]) if settings.colours else found_colour(light)[None]


@dataclass(frozen=True, slots=True, kw_only=True)
class Solved:
    """A frame whose cloth is told from its subject: alpha (h, w), the cloth, (3, 3) its hue's turn to green, its matte's SD."""

    alpha: F32
    cloth: Cloth
    turn: F32
    noise: float


def key_screen(light: F32, settings: ScreenKey, *, colours: F64 | None = None) -> Keyed:
    """A frame with its cloth taken off; see `solve_screen` and `unspilt`."""
    solved = solve_screen(light, settings, colours=colours)
    return Keyed(rgba=unspilt(light, solved, settings), cloth=solved.cloth, noise=solved.noise)


def solve_screen(light: F32, settings: ScreenKey, *, colours: F64 | None = None) -> Solved:
    """What of a frame is cloth.

    With I = a F + (1 - a) C and the clean cloth C known at every pixel, the cloth's share is what is left of its colour
    difference: (1 - a) = D(I) / D(C), D being green less the larger of red and blue once hues are turned so that the
    cloth is green. Between sure cloth and solid subject `mixture.told_apart` puts that right.

    Parameters
    ----------
    light : linear (h, w, 3). settings : see `ScreenKey`, taken `at_moment`. colours : (k, 3) linear samples;
        found by itself without.
    """
    samples = samples_of(light, settings) if colours is None else colours
    cloth = clean_cloth(light, samples, near=held(settings.near) / 1000, detail_px=held(settings.detail))
    turn = turned_to_green(samples.mean(axis=0)).astype(np.float32)
    left = np.empty(light.shape[:2], np.float32)
    _left_of_cloth(light, cloth.light, turn, left)
    alpha, between = told_apart(light, cloth, 1 - left)
    calm = held(settings.calm)
    part = _part(between, 2 * round(calm) + 3) if settings.auto else np.s_[:, :]
    if calm > 0:
        guide = _brightness(light[part]) / np.maximum(_brightness(cloth.light[part]), 1e-4)
        alpha[part] = calmed(alpha[part], np.asarray(guide, np.float32), calm)
    low, high = held(settings.clip_black) / 100, held(settings.clip_white) / 100
    noise = _spread(alpha[part], cloth.sure[part])
    # Noise of the cloth is not a subject; what is clearly denser stays as it is, or glass would thin out.
    toe = float(np.clip(TOE * noise, 1e-3, 0.2)) if settings.auto else 0.0
    if settings.auto:
        beyond = cloth.sure.copy()
        beyond[part] = False
        alpha[beyond] = 0
    alpha = shaped(_levelled(alpha, np.float32(toe), np.float32(low), np.float32(max(high, low + 0.02))), settings)
    return Solved(alpha=np.ascontiguousarray(alpha, np.float32), cloth=cloth, turn=turn, noise=noise)


def unspilt(light: F32, solved: Solved, settings: ScreenKey) -> F32:
    """What the subject itself gives off, linear, premultiplied (h, w, 4): I - (1 - a) C, less what it reflects of the cloth.

    So nothing of the cloth stays in soft edges, whatever lies behind them later.
    """
    rgba = np.empty((*light.shape[:2], 4), np.float32)
    _unmixed(light, solved.cloth.light, solved.alpha, solved.turn, np.linalg.inv(solved.turn), held(settings.spill) / 100,
             _instead(settings), settings.replace == "white", rgba)  # fmt: skip
    return rgba


def _part(between: B, margin: int) -> tuple[slice, slice]:
    """The rectangle of all that is neither sure cloth nor solid, with a margin; where there is nothing of that, all.

    Beyond it a matte needs no calming: there is bare cloth, and the inside of the subject.
    """
    rows, columns = np.nonzero(between.any(axis=1))[0], np.nonzero(between.any(axis=0))[0]
    if not len(rows):
        return slice(None), slice(None)
    return (slice(max(0, int(rows[0]) - margin), int(rows[-1]) + margin + 1),
            slice(max(0, int(columns[0]) - margin), int(columns[-1]) + margin + 1))  # fmt: skip


@numba.njit(parallel=True, cache=True)  # type: ignore[misc]
def _spread(alpha: F32, where: B) -> float:
    """SD of a matte under a mask; nought where there is none."""
    rows = alpha.shape[0]
    sums = np.zeros((rows, 3))
    for y in numba.prange(rows):
        n = total = square = 0.0
        for x in range(alpha.shape[1]):
            if where[y, x]:
                a = float(alpha[y, x])
                n += 1.0
                total += a
                square += a * a
        sums[y, 0], sums[y, 1], sums[y, 2] = n, total, square
    n = sums[:, 0].sum()
    if n == 0:
        return 0.0
    mean = sums[:, 1].sum() / n
    return np.sqrt(max(sums[:, 2].sum() / n - mean * mean, 0.0))


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _levelled(alpha: F32, toe: np.float32, low: np.float32, high: np.float32) -> F32:
    """A matte with what is below its toe taken off, nothing below `low`, and solid from `high` on, by a knee shortly before."""
    zero, one = np.float32(0.0), np.float32(1.0)
    knee = min(np.float32(KNEE), low + (high - low) * np.float32(KNEE))
    out = np.empty_like(alpha)
    for y in numba.prange(alpha.shape[0]):
        for x in range(alpha.shape[1]):
            a = alpha[y, x]
            if toe > zero:
                a *= min(max((a - toe) / (toe + toe), zero), one)
            # Straight to the knee, which stays where it was if it can, and from there to solid.
            if a < knee:
                a = max(a - low, zero) / (knee - low) * knee
            else:
                a = knee + (one - knee) * min((a - knee) / max(high - knee, np.float32(1e-3)), one)
            out[y, x] = a
    return out


def _brightness(light: F32) -> F32:
    return np.asarray(cv2.transform(light, np.ones((1, 3), np.float32)), np.float32)


def _instead(settings: ScreenKey) -> F64:
    """What takes the place of the spill's brightness: a linear tint of mean 1, or nought."""
    if settings.replace == "nothing":
        return np.zeros(3)
    if settings.replace != "tint":
        return np.ones(3)
    tint = linear_of(settings.tint)
    return np.asarray(tint / max(float(tint.mean()), 1e-3))


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _left_of_cloth(light: F32, cloth: F32, turn: F64, out: F32) -> None:
    """The share of each pixel that is cloth."""
    h, w = out.shape
    for y in numba.prange(h):
        for x in range(w):
            r, g, b = light[y, x, 0], light[y, x, 1], light[y, x, 2]
            tr = turn[0, 0] * r + turn[0, 1] * g + turn[0, 2] * b
            tg = turn[1, 0] * r + turn[1, 1] * g + turn[1, 2] * b
            tb = turn[2, 0] * r + turn[2, 1] * g + turn[2, 2] * b
            cr, cg, cb = cloth[y, x, 0], cloth[y, x, 1], cloth[y, x, 2]
            ur = turn[0, 0] * cr + turn[0, 1] * cg + turn[0, 2] * cb
            ug = turn[1, 0] * cr + turn[1, 1] * cg + turn[1, 2] * cb
            ub = turn[2, 0] * cr + turn[2, 1] * cg + turn[2, 2] * cb
            whole = ug - max(ur, ub)
            share = (tg - max(tr, tb)) / max(whole, 1e-5)
            out[y, x] = min(max(share, 0.0), 1.0)


@numba.njit(parallel=True, cache=True, fastmath=FAST, error_model="numpy")  # type: ignore[misc]
def _unmixed(
    light: F32, cloth: F32, alpha: F32, turn: F32, back: F64, spill: float, instead: F64, share_of_light: bool, out: F32
) -> None:
    """What the subject gives off: the cloth's share taken off, then what its colour reflects of the cloth.

    What comes in its place is as bright as it was, or with `share_of_light` as that share of the cloth's light is of 1.
    """
    h, w = alpha.shape
    for y in numba.prange(h):
        for x in range(w):
            a = alpha[y, x]
            out[y, x, 3] = a
            if a <= 0:
                out[y, x, 0] = out[y, x, 1] = out[y, x, 2] = 0.0
                continue
            share = 1 - a
            r = max(light[y, x, 0] - share * cloth[y, x, 0], 0.0)
            g = max(light[y, x, 1] - share * cloth[y, x, 1], 0.0)
            b = max(light[y, x, 2] - share * cloth[y, x, 2], 0.0)
            tr = turn[0, 0] * r + turn[0, 1] * g + turn[0, 2] * b
            tg = turn[1, 0] * r + turn[1, 1] * g + turn[1, 2] * b
            tb = turn[2, 0] * r + turn[2, 1] * g + turn[2, 2] * b
            over = (tg - max(tr, tb)) * spill
            if over > 0:
                tg -= over
                r = back[0, 0] * tr + back[0, 1] * tg + back[0, 2] * tb
                g = back[1, 0] * tr + back[1, 1] * tg + back[1, 2] * tb
                b = back[2, 0] * tr + back[2, 1] * tg + back[2, 2] * tb
                # The brightness that went with it comes back in another colour.
                lost = over / 3
                if share_of_light:
                    cr, cg, cb = cloth[y, x, 0], cloth[y, x, 1], cloth[y, x, 2]
                    ur = turn[0, 0] * cr + turn[0, 1] * cg + turn[0, 2] * cb
                    ug = turn[1, 0] * cr + turn[1, 1] * cg + turn[1, 2] * cb
                    ub = turn[2, 0] * cr + turn[2, 1] * cg + turn[2, 2] * cb
                    lost = over / max(ug - max(ur, ub), 1e-3)
                r, g, b = r + lost * instead[0], g + lost * instead[1], b + lost * instead[2]
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = max(r, 0.0), max(g, 0.0), max(b, 0.0)


def run(light: F32, settings: ScreenKey, context: KeyContext) -> F32:
    """The keyed frame, linear, premultiplied (h, w, 4)."""
    return key_screen(light, settings, colours=context.colours).rgba


def solve(light: F32, settings: ScreenKey, context: KeyContext) -> Solved:
    """What of the frame is cloth, whatever takes its spill's place."""
    return solve_screen(light, settings, colours=context.colours)


def by_behind(key: ScreenKey) -> tuple[ScreenKey, ScreenKey] | None:
    """The key with nothing in its spill's place, and with white light; None: what is behind makes no difference to it."""
    if key.replace != "behind":
        return None
    return key.model_copy(update={"replace": "nothing"}), key.model_copy(update={"replace": "white"})


def learn(key: ScreenKey, element: Element) -> KeyContext:
    """Samples of the cloth from the element's middle frame, so that they do not change from frame to frame."""
    return KeyContext(colours=samples_of(linear_from_codes(element.rgb(element.frames // 2)), key))


KEYS.add(KeyEntry(
    kind="screen", order=10, label="Screen", settings=ScreenKey, run=run, groups=("Cloth", "Matte", "Spill"),
    help="A subject before a green, blue or other cloth; folds, shadows, spill go with it.",
    learn=learn, learns_from=("colours",), restores=lambda key: key.sharp,
    solve=solve, finish=unspilt, finish_by=frozenset({"spill", "replace", "tint"}), by_behind=by_behind,
))  # fmt: skip


__all__ = ["Keyed", "ScreenKey", "Solved", "key_screen", "run", "samples_of", "solve_screen", "turned_to_green", "unspilt"]
