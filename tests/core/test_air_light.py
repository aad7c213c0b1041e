"""Smoke in the light of its room."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np

from plonket.base.conventions import F32, F64
from plonket.document.bases import LayerBase
from plonket.document.spot import Spot
from plonket.image.picture import windowed
from plonket.layers.air_light import air_light
from plonket.layers.generated import GeneratedLayer, draw
from plonket.layers.light import LampLayer
from plonket.raytrace.request import Lamp, Lights
from tests.core.furnished import Furnished, Rooms
from tests.core.test_scene import SIZE, camera


def lights(*lamps: Lamp) -> Lights:
    return Lights(sun=(0.0, 1.0, 0.0), sun_light=(0.0, 0.0, 0.0), sky_light=(0.1, 0.1, 0.1), soft=0.01, lamps=lamps)


def stood(x: float, y: float, z: float, size: float = 1.0) -> F64:
    out = np.diag([size, size, 1.0, 1.0])
    out[:3, 3] = x, y, z
    return out


class OfLamps(unittest.TestCase):
    def shown(self, lamp: Lamp, place: tuple[float, float, float]) -> float:
        told = air_light(lights(lamp), np.array(place))
        np.testing.assert_allclose(np.linalg.norm(told.ways, axis=1), 1)
        return float(told.lights[1, 0])

    def test_a_bulb_by_the_square_of_its_distance(self) -> None:
        bulb = Lamp(place=stood(0, 0, 0), light=(np.pi, np.pi, np.pi), shape="point")
        for far in (0.5, 1.0, 3.0):
            self.assertAlmostEqual(self.shown(bulb, (0.0, far, 0.0)), 1 / far**2)

    def test_a_spotlight_within_its_cone_alone(self) -> None:
        spot = Lamp(place=stood(0, 0, 0), light=(np.pi, np.pi, np.pi), shape="spot", cone=np.radians(30), edge=0.5)
        self.assertAlmostEqual(self.shown(spot, (0.0, 0.0, 2.0)), 0.25)
        self.assertEqual(self.shown(spot, (0.0, 0.0, -2.0)), 0)
        self.assertEqual(self.shown(spot, (2.0, 0.0, 2.0)), 0)
        aside = np.radians(22.5)
        self.assertAlmostEqual(self.shown(spot, (2 * np.sin(aside), 0.0, 2 * np.cos(aside))), 0.125)

    def test_a_soft_one_as_a_disc_of_its_area_would(self) -> None:
        """Along its axis a disc of radiance 1 gives pi R^2 / (R^2 + d^2), of which a white surface shows 1 / pi."""
        for half, far in ((0.05, 1.0), (0.4, 0.6), (1.0, 0.2)):
            soft = Lamp(place=stood(0, 0, 0, half), light=(1.0, 1.0, 1.0))
            radius2 = 4 * half**2 / np.pi
            self.assertAlmostEqual(self.shown(soft, (0.0, 0.0, far)), radius2 / (radius2 + far**2), places=6)
        self.assertEqual(self.shown(Lamp(place=stood(0, 0, 0), light=(1.0, 1.0, 1.0)), (0.0, 0.0, -1.0)), 0)


class Smoky(Rooms):
    def smoke(self, *others: LayerBase, **more: Any) -> F32:
        """A still ball of smoke over the spot, (h, w, 4)."""
        settings = {"kind": "smoke", "roomy": True, "rate": 12.0, "speed": 0.0, "pull": 0.0, "turbulence": 0.0, "torn": 0.0, "radius": 50.0,
                    "density": 60.0, "first": "#ffffff", **more}  # fmt: skip
        self.spots["fire"] = Spot(y=0.25)
        layer = GeneratedLayer.model_validate({"id": "fire", "name": "fire", "generator": settings, "follow": {"target": "fire"}})
        sources = Furnished(camera(), self.spots, self.files, [layer, *others])
        return windowed(draw(layer, sources, 1, SIZE, np.eye(3)), 0, 0, SIZE)

    def model(self, **light: Any) -> LayerBase:
        """A small thing far behind, whose light is the room's."""
        return self.box("model", (0.02, 0.02, 0.02), z=-2.0, **{"sun_warm": 0.0, "sky": 50.0, **light})

    @staticmethod
    def sides(rgba: F32) -> tuple[float, float]:
        """How bright its left and right thirds are."""
        middle = float((rgba[..., 3].sum(axis=0) * np.arange(SIZE[0])).sum() / rgba[..., 3].sum())
        wide = float(np.sqrt((rgba[..., 3].sum(axis=0) * (np.arange(SIZE[0]) - middle) ** 2).sum() / rgba[..., 3].sum()))
        left, right = rgba[:, : int(middle - 0.7 * wide)], rgba[:, int(middle + 0.7 * wide) :]
        return tuple(float(part[..., :3].sum() / part[..., 3].sum()) for part in (left, right))  # type: ignore[return-value]

    def test_its_bright_side_is_where_the_sun_is(self) -> None:
        for heading, brighter in ((90.0, 1), (-90.0, 0)):
            told = self.sides(self.smoke(self.model(sun=200.0, sun_heading=heading, sun_height=5.0), lit=True))
            self.assertGreater(told[brighter], 1.25 * told[1 - brighter], heading)

    def test_it_is_as_bright_and_coloured_as_the_light(self) -> None:
        def mean(**light: Any) -> F64:
            rgba = self.smoke(self.model(**light), lit=True)
            return np.asarray(rgba[..., :3].sum(axis=(0, 1)) / rgba[..., 3].sum(), np.float64)

        plain, double, blue = mean(sun=100.0), mean(sun=200.0, sky=100.0), mean(sun=0.0, sky_colour="#0000ff")
        np.testing.assert_allclose(double, 2 * plain, rtol=0.01)
        self.assertLess(float(blue[0] / blue[2]), 0.01)
        # In even light alone it has no dark side, and shows as much as a white surface does.
        np.testing.assert_allclose(mean(sun=0.0), 0.11, rtol=0.02)

    def test_a_lamp_beside_it_lights_that_side(self) -> None:
        self.spots["lamp"] = Spot(x=0.6, y=0.25)
        lamp = LampLayer.model_validate({"id": "lamp", "name": "lamp", "shape": "point", "strength": 100.0, "follow": {"target": "lamp"}})
        dark = self.model(sun=0.0, sky=5.0)
        left, right = self.sides(self.smoke(dark, lamp, lit=True))
        self.assertGreater(right, 1.25 * left)

    def test_without_anything_that_tells_of_light_it_is_as_it_was(self) -> None:
        np.testing.assert_array_equal(self.smoke(lit=True), self.smoke())
        self.assertGreater(float(np.abs(self.smoke(self.model(), lit=True) - self.smoke(self.model())).max()), 0.05)
