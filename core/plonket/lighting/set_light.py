"""The light of a set: where its main light stands, how wide and which colour it is, and what comes from all sides.

What tells is asked in the order of how much it is worth: shadows on the ground, then the shading of what stands there,
then whether nothing throws a shadow at all. Where none of it tells, brightness and colour are the picture's own and the
direction is a habit.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Literal

import cv2
import numpy as np

from plonket.base.colour import LUMA, encode, linear_from_codes
from plonket.base.conventions import F32, F64, Codes
from plonket.base.progress import Work
from plonket.image.colour_cast import camera_colours
from plonket.lighting.cast_shadows import HEADINGS, HEIGHTS, CastLight, Thrower, cast_light, direction
from plonket.lighting.ground_view import Caster, GroundView, caster_of, ground_view, usual_distance
from plonket.lighting.penumbra import softness
from plonket.lighting.shading import shaded_surfaces
from plonket.room.camera import RoomCamera

VERSION = 2
"""Goes up whenever the same clip would be told another light."""
WIDTH = 640
LOOKS = 11
"""Frames that are looked at, spread over all that are known."""
FITS = 0.15
"""A shadow that was thrown must explain the ground so well..."""
AHEAD = 0.05
"""...and so much better than any other, to be believed."""
CLEAR, SHOWN = 0.25, 0.03
"""Shares of the ground beside it, and of the shadow itself, that must be seen."""
MOST_BLUE = 1.5
"""Logarithm by which a clear sky's ratio of blue to red may be above its sun's."""
SHADES = 0.45
"""The same of shading alone, which what things are painted with disturbs."""
LEAST_SHARE = 0.25
"""A light that gives less of what falls on level ground is none that one would see a shadow of."""
NONE_SHARE = 0.12
"""What is left of a main light under an overcast sky."""
GROUND_ALBEDO, BRIGHT_ALBEDO = 0.28, 0.6
"""How much of its light ground throws back as a rule, and what is bright without shining itself."""
HABIT = (-40.0, 45.0)
"""Heading from the camera's own way and height, in degrees, where nothing tells: over the left shoulder."""

NOTHING_TELLS = (
    "Nothing in this clip tells where the light comes from: brightness and colour are its own, the direction is a guess."
)
Told = Literal["shadows", "shading", "overcast", "habit"]


@dataclass(frozen=True, slots=True, kw_only=True)
class SetLight:
    """What lights a set.

    Attributes
    ----------
    way : (3,) unit vector in the room towards the main light. soft_deg : half angle under which it is seen.
    sun : (3,) linear RGB that a white surface which faces it shows by it. sky : the same of all else, under the open sky.
    told : what told the direction. sure, soft_sure : 0 to 1.
    """

    way: F64
    soft_deg: float
    sun: F64
    sky: F64
    told: Told
    sure: float
    soft_sure: float

    @property
    def heading(self) -> float:
        """Degrees about the upright from the room's z."""
        return float(np.degrees(np.arctan2(self.way[0], self.way[2])))

    @property
    def height(self) -> float:
        """Degrees above the ground."""
        return float(np.degrees(np.arcsin(np.clip(self.way[1], -1, 1))))

    @property
    def shadow(self) -> F64:
        """(3,) share of the light on level ground that a shadow of the main light takes away."""
        by = self.sun * max(float(self.way[1]), 0.0)
        return np.asarray(by / np.maximum(by + self.sky, 1e-9))

    def says(self) -> str:
        """What was found, in plain words."""
        sure = "" if self.sure > 0.6 else ", not very sure" if self.sure > 0.3 else ", unsure"
        if self.told == "overcast":
            return f"Overcast: soft light from all sides, hardly a shadow{sure}."
        if self.told == "habit":
            return NOTHING_TELLS
        how = "by the shadows on the ground" if self.told == "shadows" else "by what faces it and what does not"
        kind = "hard" if self.soft_deg < 2.5 else "soft" if self.soft_deg < 9 else "very soft"
        share = 100 * float(self.shadow @ LUMA)
        return f"Main light found {how}{sure}: {kind}, {self.height:.0f}° up, {share:.0f} % of the light."


def dump_light(light: SetLight) -> str:
    """As JSON text."""
    return json.dumps({
        "version": VERSION, "way": light.way.tolist(), "soft_deg": light.soft_deg, "sun": light.sun.tolist(),
        "sky": light.sky.tolist(), "told": light.told, "sure": light.sure, "soft_sure": light.soft_sure,
    })  # fmt: skip


def load_light(text: str) -> SetLight | None:
    """What `dump_light` wrote; None when it was told in another way, or is damaged."""
    try:
        found = json.loads(text)
        if found["version"] != VERSION:
            return None
        return SetLight(way=np.array(found["way"]), soft_deg=float(found["soft_deg"]), sun=np.array(found["sun"]),
                        sky=np.array(found["sky"]), told=found["told"], sure=float(found["sure"]),
                        soft_sure=float(found["soft_sure"]))  # fmt: skip
    except (ValueError, KeyError, TypeError):
        return None


def set_light(
    camera: RoomCamera, picture: Callable[[int], Codes], points: F64, xy: F32, work: Work | None = None
) -> SetLight:
    """The light of a solved room.

    Parameters
    ----------
    picture : frame -> display codes (h, w, 3). points : (m, 3) details in the room, xy : (m, n, 2) where they were seen.
    """
    known = np.flatnonzero(camera.track.known())
    frames = [int(f) for f in np.unique(known[np.linspace(0, len(known) - 1, min(LOOKS, len(known))).astype(int)])]
    pictures: dict[int, F32] = {}
    for k, f in enumerate(frames):
        pictures[f] = _reduced(picture(f))
        if work is not None:
            work.check_cancelled()
            work.progress(k + 1, len(frames))
    if camera.track.kind != "full" or len(points) < 12 or not _has_ground(camera, points):
        return _by_picture(camera, pictures, None)
    if not np.isfinite(xy).any():
        xy = np.stack([camera.project(f, points) for f in range(camera.track.frames)], axis=1).astype(np.float32)
    chosen = np.array([frames[k] for k in sorted({len(frames) // 6, len(frames) // 2, -1 - len(frames) // 6 + len(frames)})])
    caster = caster_of(camera, points, xy, chosen)
    view = ground_view(camera, points, caster, pictures)
    if view is None:
        return _by_picture(camera, pictures, None)
    found = cast_light(view, caster)
    if found is not None and _is_believed(found):
        return _by_shadows(camera, points, caster, view, pictures, found)
    shaded = shaded_surfaces(camera, caster, pictures)
    ways = np.array([direction(a, e) for e in HEIGHTS for a in HEADINGS])
    fits = shaded.fits(ways)
    best = int(np.argmax(fits))
    if fits[best] > SHADES:
        heading = float(np.degrees(np.arctan2(ways[best][0], ways[best][2])))
        sun, sky = _colours(pictures, view, np.full(3, 0.5), ways[best])
        return SetLight(way=direction(heading, float(np.degrees(np.arcsin(ways[best][1])))), soft_deg=6.0, sun=sun, sky=sky,
                        told="shading", sure=float(np.clip(fits[best] - 0.2, 0, 0.6)), soft_sure=0.1)  # fmt: skip
    would = _would_show(view, caster)
    weak = 1 - (max(found.fit, 0.0) if found is not None else 0.0) / FITS
    sure = float(np.clip(would * (0.5 + weak), 0, 0.95))
    if would > 0.35 and sure > 0.25:
        way = direction(0.0, 75.0)
        sun, sky = _colours(pictures, view, np.full(3, NONE_SHARE), way)
        return SetLight(way=way, soft_deg=40.0, sun=sun, sky=sky, told="overcast",
                        sure=sure, soft_sure=0.7)  # fmt: skip
    return _by_picture(camera, pictures, view)


def _is_believed(found: CastLight) -> bool:
    """Whether shadows that were found are shadows: seen well enough, and no bluer than a sky makes them."""
    share = np.where(np.isfinite(found.share), found.share, 0.5)
    sun, sky = np.maximum(share, 0.02), np.maximum(1 - share, 0.02)
    bluer = float(np.log(sky[2] / sky[0] * sun[0] / sun[2]))
    is_seen = found.clear > CLEAR and found.shown > SHOWN
    return is_seen and found.fit > FITS and found.ahead > AHEAD and -0.5 < bluer < MOST_BLUE


def _has_ground(camera: RoomCamera, points: F64) -> bool:
    """Whether the room's ground is one that is seen: many details lie on it, and the camera is above."""
    usual = usual_distance(camera, points)
    level = np.abs(points[:, 1]) < 0.02 * usual
    return bool(level.sum() >= 8 and level.mean() > 0.08 and camera.eye(camera.track.frames // 2)[1] > 0.05 * usual)


def _by_shadows(
    camera: RoomCamera, points: F64, caster: Caster, view: GroundView, pictures: Mapping[int, F32], found: CastLight
) -> SetLight:
    by_edges = _by_edges(camera, points, caster, view, pictures, found.way)
    soft, soft_sure = (by_edges, 0.6) if by_edges is not None else (min(found.soft_deg, 4.0), 0.2)
    if not np.isfinite(found.share).all():
        # Where they lie is known, but too little of them is seen to tell how deep they are.
        sun, sky = _colours(pictures, view, np.full(3, 0.5), found.way)
        return SetLight(way=found.way, soft_deg=float(np.clip(soft, 0.5, 30)), sun=sun, sky=sky, told="shadows",
                        sure=0.3, soft_sure=0.1)  # fmt: skip
    sun, sky = _colours(pictures, view, found.share, found.way)
    if float(found.share @ LUMA) < LEAST_SHARE:
        # What the sky's own shadow did not explain: there is hardly a main light.
        return SetLight(way=found.way, soft_deg=40.0, sun=sun, sky=sky, told="overcast", sure=0.6, soft_sure=0.5)
    sure = float(np.clip((found.fit - 0.05) / 0.3, 0, 1) * np.clip((found.ahead + 0.1) / 0.25, 0, 1))
    sure *= float(np.clip(0.4 + found.shown / 0.2, 0, 1))
    return SetLight(way=found.way, soft_deg=float(np.clip(soft, 0.5, 30)), sun=sun, sky=sky, told="shadows", sure=sure,
                    soft_sure=soft_sure * sure)  # fmt: skip


def _by_edges(
    camera: RoomCamera, points: F64, caster: Caster, view: GroundView, pictures: Mapping[int, F32], way: F64
) -> float | None:
    """How soft the light is, looked at closely where its shadows lie."""
    thrower = Thrower(view, caster, max(view.seen.shape))
    rows, columns = np.nonzero(thrower.shadow(way) > 0.5)
    if not len(rows):
        return None
    corner, margin = np.array(view.corner), 12 * view.cell
    low = corner + np.array([columns.min(), rows.min()]) * view.cell - margin
    high = corner + np.array([columns.max(), rows.max()]) * view.cell + margin
    middle = np.array([(low + high)[0] / 2, 0.0, (low + high)[1] / 2])
    near = sorted(sorted(pictures, key=lambda f: float(np.linalg.norm(camera.eye(f) - middle)))[:5])
    close = ground_view(camera, points, caster, {f: pictures[f] for f in near}, (low, high))
    if close is None:
        return None
    shadow = Thrower(close, caster, max(close.seen.shape)).shadow(way)
    if shadow.shape != close.seen.shape:
        shadow = cv2.resize(shadow, close.seen.shape[::-1])
    scale = pictures[near[0]].shape[1] / camera.track.size[0]
    return softness(close, caster, shadow, way, camera, near, scale)


def _would_show(view: GroundView, caster: Caster) -> float:
    """Share of all directions from which a sun would throw a shadow that is seen."""
    if len(caster.triangles) < 4:
        return 0.0
    thrower = Thrower(view, caster, 160)
    seen = cv2.resize((view.seen > 0).astype(np.float32), thrower.size, interpolation=cv2.INTER_AREA) > 0.5
    ways = [direction(a, e) for e in HEIGHTS[1:6:2] for a in HEADINGS[::3]]
    return float(np.mean([thrower.shadow(way)[seen].sum() > 40 for way in ways]))


def _by_picture(camera: RoomCamera, pictures: Mapping[int, F32], view: GroundView | None) -> SetLight:
    """Where no direction can be told: over the camera's left shoulder."""
    ahead = camera.turn(camera.track.frames // 2) @ np.array([0.0, 0.0, 1.0])
    behind = float(np.degrees(np.arctan2(ahead[0], ahead[2])))
    way = direction(behind + HABIT[0], HABIT[1])
    sun, sky = _colours(pictures, view, np.full(3, 0.5), way)
    return SetLight(way=way, soft_deg=8.0, sun=sun, sky=sky, told="habit", sure=0.0, soft_sure=0.0)


def _colours(pictures: Mapping[int, F32], view: GroundView | None, share: F64, way: F64) -> tuple[F64, F64]:
    """(3,) light of the main light and of the rest on white, by the main light's share on level ground.

    How bright it is all in all is told by what ground and bright things throw back as a rule; its colour by what the
    camera made of greys.
    """
    middle = pictures[sorted(pictures)[len(pictures) // 2]]
    cast = camera_colours(np.asarray(encode(np.clip(middle, 0, 1)), np.float32)).cast
    tint = np.exp(np.array([cast[0], 0.0, cast[1]]))
    tone = middle @ LUMA
    inside = tone[tone < 0.95]
    bright = float(np.percentile(inside, 92)) / BRIGHT_ALBEDO if inside.size else 1.0
    level = bright
    if view is not None and (view.seen > 0).any():
        ground = float(np.percentile((view.light @ LUMA)[view.seen > 0], 65))
        level = float(np.sqrt(bright * ground / GROUND_ALBEDO))
    whole = float(np.clip(level, 0.15, 2.0)) * tint / float(tint @ LUMA)
    up = max(float(way[1]), 0.15)
    return np.asarray(whole * share / up), np.asarray(whole * (1 - share))


def _reduced(codes: Codes) -> F32:
    light = linear_from_codes(codes)
    h, w = light.shape[:2]
    if w <= WIDTH:
        return light
    return np.asarray(cv2.resize(light, (WIDTH, round(h * WIDTH / w)), interpolation=cv2.INTER_AREA), np.float32)
