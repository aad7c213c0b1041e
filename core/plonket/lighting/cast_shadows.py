"""Where the main light comes from, told by the shadows that known things cast on the ground.

Whatever is solid keeps the light off the place on the ground that lies behind it. For a direction that is tried, all known
surfaces are thrown on to the ground; the right one covers what is dark there and leaves out what is bright. How soft and
how deep the shadows are is fitted along with it, against the sky's own shadow that lies round every foot.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from plonket.base.conventions import F32, F64
from plonket.lighting.ground_view import Caster, GroundView

HEADINGS = np.arange(0, 360, 8.0)
HEIGHTS = np.array([14.0, 20, 27, 35, 44, 54, 65, 78])
SOFT = np.array([0.5, 1, 2, 4, 7, 11, 16, 22])
"""Half angles in degrees that are tried."""
WIDE = 0.12
"""What is as wide as this share of the ground is no shadow of what stands on it, but another ground."""
DARKER = np.array([0.93, 0.33, -0.27])
"""Weights of the logarithms of red, green and blue: the sky is bluer than the sun, which is surer than brightness alone."""
LEAST_CELLS = 50
"""Cells of seen ground that a shadow must cover to count."""
LEAST_CORE = 20
"""The same of ground well within a shadow, for its depth to be told."""
UNDER = 0.6
"""Share of the sky that is hidden under what stands, and beside it only in corners."""
GRID = 320
"""Cells along the longer side while directions are tried."""


@dataclass(frozen=True, slots=True, kw_only=True)
class CastLight:
    """What shadows tell.

    Attributes
    ----------
    way : (3,) unit vector towards the light. soft_deg : half angle of what shines.
    share : (3,) of the light on open, level ground that the main light gives, per channel; 0: none at all, nan:
        too little of a shadow is seen to tell.
    fit : correlation of the shadow that was thrown with how dark the ground is. ahead : how much better than any direction far
        from it. shown : share of the shadow that lies on ground that is seen. clear : share of the ground round it that is.
    """

    way: F64
    soft_deg: float
    share: F64
    fit: float
    ahead: float
    shown: float
    clear: float


def direction(heading: float, height: float) -> F64:
    """(3,) unit vector towards a light: degrees about the upright from the room's z, and above the ground."""
    a, e = np.radians(heading), np.radians(height)
    return np.array([np.cos(e) * np.sin(a), np.sin(e), np.cos(e) * np.cos(a)])


class Thrower:
    """Throws what stands on the ground on to it, along any direction."""

    def __init__(self, view: GroundView, caster: Caster, most: int) -> None:
        h, w = view.seen.shape
        self.by = min(1.0, most / max(h, w))
        self.size = (max(4, round(w * self.by)), max(4, round(h * self.by)))
        tri = np.maximum(caster.triangles, [-np.inf, 0.0, -np.inf])
        self.flat = (tri[..., [0, 2]] - np.array(view.corner)) / view.cell * self.by
        self.tall = tri[..., 1] / view.cell * self.by
        self.things = [((one[:, [0, 2]] - np.array(view.corner)) / view.cell * self.by, one[:, 1] / view.cell * self.by)
                       for one in caster.things]  # fmt: skip

    def shadow(self, way: F64) -> F32:
        """(h, w) 1 in shadow. What stands is taken to be solid down to the ground."""
        out = np.zeros((self.size[1], self.size[0]), np.uint8)
        run = -way[[0, 2]] / max(float(way[1]), 0.02)
        landed = self.flat + self.tall[..., None] * run
        both = np.concatenate([self.flat, landed], axis=1)
        for corners in np.round(both * 16).astype(np.int32):
            cv2.fillConvexPoly(out, cv2.convexHull(corners), 255, cv2.LINE_8, 4)
        for flat, tall in self.things:
            landed = np.round((flat + tall[:, None] * run) * 16).astype(np.int32)
            cv2.fillConvexPoly(out, cv2.convexHull(landed), 255, cv2.LINE_8, 4)
        return np.asarray(out / np.float32(255), np.float32)

    def soft_shadow(self, way: F64, soft_deg: float, rays: int) -> F32:
        """The same of a light that is as wide as `soft_deg` to all sides of its middle."""
        if soft_deg <= 0.6:
            return self.shadow(way)
        side = np.cross(way, [0.0, 1.0, 0.0] if abs(way[1]) < 0.95 else [1.0, 0.0, 0.0])
        side /= np.linalg.norm(side)
        other = np.cross(way, side)
        out = np.zeros((self.size[1], self.size[0]), np.float32)
        weight = 0.0
        for k in range(rays):
            r = np.sqrt((k + 0.5) / rays) * np.tan(np.radians(soft_deg))
            turn = k * 2.399963
            one = way + r * (np.cos(turn) * side + np.sin(turn) * other)
            one /= np.linalg.norm(one)
            if one[1] > 0.02:
                out += np.float32(one[1]) * self.shadow(one)
                weight += float(one[1])
        return np.asarray(out / np.float32(max(weight, 1e-9)), np.float32)

    def sky_shadow(self, rays: int = 40) -> F32:
        """What an even sky lets fall on the ground, of all that it could: 1 where nothing of it is seen."""
        out = np.zeros((self.size[1], self.size[0]), np.float32)
        for k in range(rays):
            # Spread so that each counts alike on a level ground.
            up = np.sqrt(1 - (k + 0.5) / rays)
            turn = k * 2.399963
            flat = np.sqrt(1 - up * up)
            out += self.shadow(np.array([flat * np.sin(turn), up, flat * np.cos(turn)]))
        return np.asarray(out / np.float32(rays), np.float32)


def cast_light(view: GroundView, caster: Caster) -> CastLight | None:
    """The main light by its shadows; None where nothing that stands would throw one on ground that is seen."""
    if len(caster.triangles) < 4:
        return None
    thrower = Thrower(view, caster, GRID)
    dark, seen = _darkness(view, thrower)
    if seen.sum() < 400:
        return None
    sky = thrower.sky_shadow()
    fits = _fits(thrower, sky, dark, seen)
    if fits.max() <= -1:
        return None
    i, j = divmod(int(np.argmax(fits)), len(HEADINGS))
    heading, height, found = _refined(thrower, sky, dark, seen, float(HEADINGS[j]), float(HEIGHTS[i]))
    weights = telling(view, cv2.resize(thrower.shadow(direction(heading, height)), view.seen.shape[::-1]))
    if weights is not None:
        told, where = _darkness(view, thrower, weights)
        better = _refined(thrower, sky, told, where, heading, height)
        if better[2] > found:
            (heading, height, found), dark, seen = better, told, where
            fits = _fits(thrower, sky, dark, seen)
    apart = np.abs((HEADINGS - heading + 180) % 360 - 180) > 40
    away = float(fits[:, apart].max())
    way = direction(heading, height)
    soft, fit = _softness(thrower, sky, dark, seen, way)
    share = _share(view, thrower, sky, way)
    shadow = thrower.shadow(way) > 0.5
    round_it = cv2.dilate(shadow.astype(np.uint8), np.ones((61, 61), np.uint8)) > 0
    return CastLight(way=way, soft_deg=soft, share=share, fit=fit, ahead=fit - max(away, 0.0),
                     shown=float(seen[shadow].mean()), clear=float(seen[round_it & ~shadow].mean()))  # fmt: skip


def _fits(thrower: Thrower, sky: F32, dark: F32, seen: NDArray[np.bool_]) -> F64:
    """(heights, headings) how well the shadow of each direction that is tried fits."""
    return np.array([[_fit(thrower.shadow(direction(a, e)), sky, dark, seen) for a in HEADINGS] for e in HEIGHTS])


def telling(view: GroundView, shadow: F32) -> F64 | None:
    """(3,) weights of the logarithms of red, green and blue by which ground in shadow is told best from ground in the light.

    What the ground's own pattern does is left out (R. A. Fisher's discriminant); what is in shadow is darker by one. None: too
    little is seen.

    Parameters
    ----------
    shadow : (h, w) of the view, 0 in the light to 1.
    """
    seen = view.seen > 0
    near = cv2.dilate((shadow > 0.5).astype(np.uint8), np.ones((61, 61), np.uint8)) > 0
    core = seen & (cv2.erode(shadow, np.ones((5, 5), np.uint8)) > 0.9)
    lit = seen & near & (cv2.dilate(shadow, np.ones((9, 9), np.uint8)) < 0.1)
    if core.sum() < 60 or lit.sum() < 60:
        return None
    logs = np.log(np.maximum(view.light, 1e-3)).astype(np.float64)
    dark, light = logs[core], logs[lit]
    # What was taken for shadow but is not must not count.
    dark = dark[dark.mean(axis=1) <= np.percentile(dark.mean(axis=1), 70)]
    apart = np.median(light, axis=0) - np.median(dark, axis=0)
    spread = np.cov(light.T) + np.cov(dark.T) + 2e-3 * np.eye(3)
    way = np.linalg.solve(spread, apart)
    size = float(way @ apart)
    return np.asarray(way / size) if size > 1e-6 else None


def _on_grid(view: GroundView, thrower: Thrower) -> tuple[F32, NDArray[np.bool_]]:
    """The ground's light and where it is seen, on the thrower's grid."""
    known = (view.seen > 0).astype(np.float32)
    cover = cv2.resize(known, thrower.size, interpolation=cv2.INTER_AREA)
    light = cv2.resize(view.light * known[..., None], thrower.size, interpolation=cv2.INTER_AREA)
    return np.asarray(light / np.maximum(cover, 1e-6)[..., None], np.float32), cover > 0.5


def _darkness(view: GroundView, thrower: Thrower, weights: F64 = DARKER) -> tuple[F32, NDArray[np.bool_]]:
    """How much darker than usual the ground is (log of light), and where it is seen, on the thrower's grid."""
    light, seen = _on_grid(view, thrower)
    tone = np.where(seen, np.log(np.maximum(light, 1e-3)) @ weights.astype(np.float32), 0).astype(np.float32)
    held = seen.astype(np.float32)
    # Grit of the ground says nothing about shadows.
    tone = _blurred(tone, held, 2.0)
    # Nor does ground that is brighter far away.
    wide = WIDE * max(thrower.size)
    usual = _blurred(np.maximum(tone, _blurred(tone, held, wide)), held, wide)
    return np.asarray(np.clip(usual - tone, -0.3, 2.5), np.float32), seen


def _blurred(values: F32, held: F32, sigma: float) -> F32:
    over = cv2.GaussianBlur(values * held, (0, 0), sigma) / np.maximum(cv2.GaussianBlur(held, (0, 0), sigma), 1e-4)
    return np.asarray(np.where(held > 0, over, 0), np.float32)


def _fit(shadow: F32, sky: F32, dark: F32, seen: NDArray[np.bool_]) -> float:
    """Correlation of a shadow with the dark of the ground, with what the sky's own shadow explains taken off both."""
    s, d, a = shadow[seen], dark[seen], sky[seen]
    if s.sum() < LEAST_CELLS or s.mean() > 0.8:
        return -1.0
    a = a - a.mean()
    aa = max(float(a @ a), 1e-9)
    s = s - s.mean()
    d = d - d.mean()
    s = s - a * (float(s @ a) / aa)
    d = d - a * max(float(d @ a) / aa, 0.0)
    return float(s @ d / np.sqrt(max(float(s @ s) * float(d @ d), 1e-12)))


def _refined(
    thrower: Thrower, sky: F32, dark: F32, seen: NDArray[np.bool_], heading: float, height: float
) -> tuple[float, float, float]:
    """The best direction near one that was tried."""
    best = _fit(thrower.shadow(direction(heading, height)), sky, dark, seen)
    step = 4.0
    while step >= 0.5:
        moved = False
        for dh, de in ((step, 0), (-step, 0), (0, step), (0, -step)):
            to = (heading + dh, float(np.clip(height + de, 8, 88)))
            found = _fit(thrower.shadow(direction(*to)), sky, dark, seen)
            if found > best:
                best, (heading, height), moved = found, to, True
        if not moved:
            step /= 2
    return heading, height, best


def _softness(thrower: Thrower, sky: F32, dark: F32, seen: NDArray[np.bool_], way: F64) -> tuple[float, float]:
    fits = np.array([_fit(thrower.soft_shadow(way, soft, 24), sky, dark, seen) for soft in SOFT])
    best = int(np.argmax(fits))
    return float(SOFT[best]), float(fits[best])


def _share(view: GroundView, thrower: Thrower, sky: F32, way: F64) -> F64:
    """(3,) the main light's share of the light on open ground, by which the ground in shadow is darker."""
    light, seen = _on_grid(view, thrower)
    shadow = thrower.shadow(way)
    # Where hardly any sky is left it is the foot of what stands there, not the ground beside it.
    seen = seen & (sky < UNDER)
    core = seen & (cv2.erode(shadow, np.ones((3, 3), np.uint8)) > 0.5)
    if core.sum() < 2 * LEAST_CORE:
        core = seen & (shadow > 0.5)
    near = cv2.dilate((shadow > 0.5).astype(np.uint8), np.ones((31, 31), np.uint8)) > 0
    lit = seen & near & (cv2.dilate(shadow, np.ones((5, 5), np.uint8)) < 0.05)
    if core.sum() < LEAST_CORE or lit.sum() < LEAST_CORE:
        return np.full(3, np.nan)
    # Not all that was taken to be in the shadow is: what throws it is known by a few details. What is dark there tells.
    tone = np.log(np.maximum(light.mean(axis=2), 1e-4))
    usual, low = float(np.median(tone[lit])), float(np.percentile(tone[core], 15))
    core &= tone < (usual + low) / 2
    dark, open_ = np.median(light[core], axis=0), np.median(light[lit], axis=0)
    shaded = float(np.median(sky[core]))
    # In its shadow the sky is narrower too: dark / open = (1 - share) (1 - shaded).
    ratio = dark / np.maximum(open_, 1e-6) / max(1 - shaded, 0.2)
    return np.asarray(np.clip(1 - ratio, 0, 0.98))
