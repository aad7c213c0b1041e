"""Where the main light comes from, told by how bright the sides of things are that face this way and that."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import cv2
import numpy as np

from plonket.base.conventions import F32, F64
from plonket.lighting.ground_view import Caster
from plonket.room.camera import RoomCamera

LEAST = 12
"""Surfaces that must be known for their shading to tell anything."""
AGAINST_SKY = (0.7, 2.5)
"""How many times brighter the main light is than the rest, of those that are tried."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Shaded:
    """Surfaces with known normals: normal (n, 3), tone (n,) log of their light, weight (n,), and `of` (n,) the thing each
    belongs to."""

    normal: F64
    tone: F64
    weight: F64
    of: F64

    def fits(self, ways: F64) -> F64:
        """(k,) correlation, -1 to 1, of the shading that lights from (k, 3) would give with what is seen, thing by thing."""
        if len(self.tone) < LEAST:
            return np.zeros(len(ways))
        faced = np.maximum(self.normal @ ways.T, 0)
        sky = (0.5 + 0.5 * self.normal[:, 1])[:, None]
        best = np.full(len(ways), -1.0)
        tone = self._own(self.tone[:, None])
        for ratio in AGAINST_SKY:
            light = self._own(np.log(sky + ratio * faced + 0.05))
            over = (self.weight[:, None] * light * tone).sum(axis=0)
            power = (self.weight[:, None] * light**2).sum(axis=0) * float((self.weight * tone[:, 0] ** 2).sum())
            best = np.maximum(best, over / np.sqrt(np.maximum(power, 1e-12)))
        return best

    def _own(self, values: F64) -> F64:
        """Values (n, k) less the mean of each thing: what it is painted with is not known."""
        out = values.copy()
        for thing in np.unique(self.of):
            on = self.of == thing
            out[on] -= np.average(values[on], axis=0, weights=self.weight[on])
        return out


def shaded_surfaces(camera: RoomCamera, caster: Caster, pictures: Mapping[int, F32]) -> Shaded:
    """How bright the surfaces of what stands are, and where they face."""
    tri = caster.triangles
    normal = np.cross(tri[:, 1] - tri[:, 0], tri[:, 2] - tri[:, 0])
    area = np.linalg.norm(normal, axis=1)
    normal /= np.maximum(area, 1e-12)[:, None]
    middle = tri.mean(axis=1)
    tones, slants = [], []
    for f, picture in pictures.items():
        height, width = picture.shape[:2]
        scale = np.array([width / camera.track.size[0], height / camera.track.size[1]])
        calm = cv2.GaussianBlur(picture, (0, 0), 2.0).mean(axis=2)
        at = camera.project(f, middle) * scale
        inside = np.isfinite(at[:, 0]) & (at > 0).all(axis=1) & (at < np.array([width, height]) - 1).all(axis=1)
        x, y = np.where(inside[:, None], at, 0).astype(int).T
        tones.append(np.where(inside, np.log(np.maximum(calm[y, x], 1e-3)), np.nan))
        to = camera.eye(f) - middle
        slants.append((normal * to).sum(axis=1) / np.linalg.norm(to, axis=1))
    with np.errstate(invalid="ignore"):
        stack = np.array(tones)
        known = np.isfinite(stack).any(axis=0)
        tone = np.where(known, np.nanmedian(np.where(np.isfinite(stack).any(axis=0), stack, 0.0), axis=0), 0.0)
    slant = np.mean(slants, axis=0)
    normal = np.where((slant < 0)[:, None], -normal, normal)
    # Seen at a glance, a triangle's normal is noise.
    weight = np.sqrt(area) * np.clip(np.abs(slant) / 0.25 - 0.6, 0, 1) * known
    on = weight > 0
    return Shaded(normal=normal[on], tone=tone[on], weight=weight[on], of=caster.of[on])
