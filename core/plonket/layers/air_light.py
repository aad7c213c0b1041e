"""How light a place in a room's air is."""

from __future__ import annotations

import numpy as np

from plonket.base.conventions import F64
from plonket.generators.common import AirLight
from plonket.raytrace.request import Lamp, Lights


def air_light(lights: Lights, place: F64) -> AirLight:
    """Light at a place (3,) of a room, nothing between it and what shines.

    A light map is taken for an even sky: what it shows is not looked up.
    """
    ways, shown = [np.array(lights.sun)], [np.array(lights.sun_light)]
    for lamp in lights.lamps:
        way, light = _of_lamp(lamp, place)
        ways.append(way)
        shown.append(light)
    return AirLight(ways=np.stack(ways), lights=np.stack(shown), sky=np.array(lights.sky_light))


def _of_lamp(lamp: Lamp, place: F64) -> tuple[F64, F64]:
    """The unit way to a lamp (3,), and what a white surface shows that faces it (3,)."""
    off = lamp.place[:3, 3] - place
    far = max(float(np.linalg.norm(off)), 1e-6)
    way = off / far
    ahead = lamp.place[:3, 2] / max(float(np.linalg.norm(lamp.place[:3, 2])), 1e-12)
    straight = float(-way @ ahead)
    light = np.array(lamp.light)
    if lamp.shape == "soft":
        area = 4 * float(np.linalg.norm(np.cross(lamp.place[:3, 0], lamp.place[:3, 1])))
        return way, light * area * max(straight, 0.0) / (np.pi * far**2 + area)
    if lamp.shape == "spot":
        angle, inner = float(np.arccos(np.clip(straight, -1, 1))), lamp.cone * lamp.edge
        light = light * float(np.clip((lamp.cone - angle) / max(lamp.cone - inner, 1e-6), 0, 1))
    return way, light / (np.pi * far**2)
