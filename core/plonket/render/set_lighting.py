"""The light of the set, as things that stand there take it."""

from __future__ import annotations

from typing import Any

import numpy as np

from plonket.base.colour import LUMA, encode_8bit, linear_from_codes, linear_of
from plonket.base.conventions import F32, F64
from plonket.base.errors import Degenerate
from plonket.base.fields import value_at
from plonket.document.spot import Spot
from plonket.layers.filmed import FilmedLayer
from plonket.layers.model import FULL_SKY, FULL_SUN
from plonket.lighting.pointed import pointed_shadow
from plonket.lighting.set_light import SetLight
from plonket.lighting.surroundings import surroundings
from plonket.looks.shadow import Shadow
from plonket.render.sources import ShotSources
from plonket.room.camera import RoomCamera

SHADOW = "set-light-shadow"
"""Id of the shadow that a standee takes from the set's light."""
MOST_LENGTH = 400.0
"""Per cent of its height that such a shadow may be long."""
DIM_SKY = 0.15
"""Share of its own light that a place at the foot of a thing loses under an even sky, at least."""


def light_of(sources: ShotSources, motion: str) -> SetLight:
    """The light of a motion's room, worked out once. Raises `Degenerate` where there is no room."""
    filmed = sources.filmed
    found, camera = filmed.shot.motion(motion), filmed.camera(motion)
    if camera is None or camera.track.kind != "full" or filmed.footage is None or found.measurement is None:
        raise Degenerate("light.room", "The light of the set is found in a solved room. Measure the camera first.")
    return filmed.pool.set_light(filmed.footage, found.measurement, camera.room)


def model_light(light: SetLight) -> dict[str, Any]:
    """Values of a model that is lit like that."""
    return {
        "sun": _percent(light.sun, FULL_SUN), "sun_colour": _colour(light.sun), "sun_warm": 0.0,
        "sun_heading": round(light.heading, 1), "sun_height": round(float(np.clip(light.height, 1, 90)), 1),
        "sun_soft": round(float(np.clip(light.soft_deg, 0.2, 40)), 1),
        "sky": _percent(light.sky, FULL_SKY), "sky_colour": _colour(light.sky), "lit_like": None, "shadow_strength": 100.0,
    }  # fmt: skip


def _percent(light: F64, full: float) -> float:
    return round(float(np.clip(100 * light.max() / full, 0, 2000)), 1)


def _colour(light: F64) -> str:
    top = max(float(light.max()), 1e-9)
    r, g, b = encode_8bit(np.asarray(light / top, np.float32).reshape(1, 1, 3))[0, 0]
    return f"#{r:02x}{g:02x}{b:02x}"


def standee_shadow(light: SetLight, camera: RoomCamera, spot: Spot, tall: float, frame: int) -> Shadow:
    """The shadow on the ground of something flat and upright: as long and as leaning as the light would throw it, and never
    none,
    so that it does not float.

    Parameters
    ----------
    tall : metres. frame : the shot's, in which its length is told.
    """
    foot = spot.place(frame)
    top = foot + [0.0, tall, 0.0]
    run = tall / max(float(light.way[1]), 0.08)
    tip = top - run * light.way
    seen = camera.project(frame, np.stack([foot, top, tip]))
    share = float(light.shadow @ LUMA)
    if not np.isfinite(seen).all() or light.told == "overcast" or share < 0.05:
        return _at_the_foot(light, camera, spot, tall, frame)
    up = max(float(seen[0, 1] - seen[1, 1]), 1e-6)
    rise, side = float(seen[0, 1] - seen[2, 1]), float(seen[2, 0] - seen[0, 0])
    length = float(np.clip(100 * rise / up, -MOST_LENGTH, MOST_LENGTH))
    # A shadow that runs along the picture still has the thickness of its foot.
    length = length if abs(length) > 4 else 4.0 if length >= 0 else -4.0
    lean = float(np.degrees(np.arctan2(side, max(abs(length) / 100 * up, 1e-6))))
    wide = 2 * np.tan(np.radians(light.soft_deg)) * run
    far = float(np.clip(wide * up / tall / 2, 0.5, 400))
    narrows = 0.0
    near, away = camera.local(frame, np.stack([foot, tip]))[:, 2]
    if near > 0 and away > 0:
        narrows = float(np.clip(100 * (1 - near / away), -100, 95))
    dark = light.sky / np.maximum(light.sky + light.sun * light.way[1], 1e-9)
    return Shadow(
        id=SHADOW, name="Shadow by the set's light", length=round(length, 1), lean=round(float(np.clip(lean, -85, 85)), 1),
        narrows=round(narrows, 1), foot=0.0, near=round(float(min(0.15 * far + 0.8, far)), 1), far=round(far, 1),
        strength=round(100 * share, 1), colour=_shade(dark),
    )  # fmt: skip


def _at_the_foot(light: SetLight, camera: RoomCamera, spot: Spot, tall: float, frame: int) -> Shadow:
    """The little that keeps a thing on the ground where the light comes from everywhere."""
    foot = spot.place(frame)
    seen = camera.project(frame, np.stack([foot, foot + [0.0, tall, 0.0]]))
    up = float(seen[0, 1] - seen[1, 1]) if np.isfinite(seen).all() else 40.0
    soft = float(np.clip(0.07 * up, 1.0, 60))
    return Shadow(id=SHADOW, name="Shadow by the set's light", length=9.0, lean=0.0, narrows=0.0, foot=round(0.012 * up, 1),
                  near=round(0.6 * soft, 1), far=round(soft, 1), strength=round(100 * max(DIM_SKY, 0.42), 1),
                  colour="#05070a")  # fmt: skip


def _shade(dark: F64) -> str:
    """The tint of what is left in a shadow, very dark: what lies over the ground must not brighten it."""
    tint = dark / max(float(dark.max()), 1e-9)
    r, g, b = encode_8bit(np.asarray(0.01 * tint, np.float32).reshape(1, 1, 3))[0, 0]
    return f"#{r:02x}{g:02x}{b:02x}"


def by_pointed(sources: ShotSources, frame: int, at: tuple[float, float]) -> F64:
    """(3,) share of the light that is missing in a shadow of the plate, at a pixel of a frame. Raises `Degenerate`."""
    footage = sources.footage
    if footage is None:
        raise Degenerate("light.pointed", "There is no footage to point at.")
    return pointed_shadow(linear_from_codes(sources.plate(footage, sources.moment(frame))), at)


def as_deep(layer: FilmedLayer, share: F64, frame: int) -> dict[str, Any]:
    """Values of what throws a shadow on level ground that takes such a share (3,) of the light away; it is as bright."""
    up = max(float(np.sin(np.radians(value_at(layer.sun_height, frame)))), 0.05)
    sun = FULL_SUN * value_at(layer.sun, frame) / 100 * linear_of(layer.sun_colour)
    sky = FULL_SKY * value_at(layer.sky, frame) / 100 * linear_of(layer.sky_colour)
    whole = float((sun * up + sky) @ LUMA)
    # What is missing in the shadow is the sun's colour, what is left the sky's; both together are white.
    return {"sun": _percent(whole * share / up, FULL_SUN), "sun_colour": _colour(share), "sun_warm": 0.0,
            "sky": _percent(whole * (1 - share), FULL_SKY), "sky_colour": _colour(1 - share),
            "shadow_strength": 100.0}  # fmt: skip


def light_map(sources: ShotSources, motion: str) -> F32:
    """Radiance all round a motion's room, grown from the footage: (256, 512, 3) linear."""
    light = light_of(sources, motion)
    filmed = sources.filmed
    camera = filmed.camera(motion)
    assert camera is not None and filmed.footage is not None
    known = np.flatnonzero(camera.track.known())
    frames = [int(f) for f in np.unique(known[np.linspace(0, len(known) - 1, min(16, len(known))).astype(int)])]
    clip = filmed.pool.clip(filmed.footage)
    points = camera.room.points(camera.track.points[camera.track.kept])
    far = float(np.median(np.linalg.norm(points - camera.eye(frames[len(frames) // 2]), axis=1))) if len(points) else 10.0
    return surroundings(camera, {f: linear_from_codes(clip.codes(f)) for f in frames}, far, light.sky)
