"""The light of the set: told from footage of sets whose light is known, and taken by what stands there."""

from __future__ import annotations

import unittest
from dataclasses import replace
from functools import partial

import cv2
import numpy as np

from plonket.base.colour import LUMA, encode_8bit, linear_from_codes, linear_of
from plonket.base.conventions import F32, F64
from plonket.base.errors import Degenerate
from plonket.document.spot import Spot
from plonket.layers.model import FULL_SKY, FULL_SUN
from plonket.lighting.cast_shadows import direction
from plonket.lighting.pointed import pointed_shadow
from plonket.lighting.set_light import SetLight, dump_light, load_light, set_light
from plonket.lighting.surroundings import directions, surroundings
from plonket.render.set_lighting import model_light, standee_shadow
from plonket.room.alignment import Room
from plonket.room.camera import RoomCamera
from synth.phone.sets.yard import TEXTURES, Daylight, YardTake, yard_take
from tests.core.photos import photo

SIZE = (512, 288)
FRAMES = 8


def _photographed(name: str, mean: float, size: tuple[int, int] | None = None) -> F32:
    light = linear_from_codes(photo(name, size))
    return np.clip(light / light.mean() * np.float32(mean), 0.01, 0.95).astype(np.float32)


def _textures(ground: str) -> tuple[F32, list[F32]]:
    faces = ("chelsea.png", "coffee.png", "brick.png", "astronaut.png")
    return _photographed(ground, 0.3), [_photographed(name, 0.35, (400, 400)) for name in faces]


for _ground in ("brick", "gravel"):
    TEXTURES[_ground] = partial(_textures, f"{_ground}.png")


def filmed(ground: str, light: Daylight) -> tuple[YardTake, RoomCamera]:
    """Boxes with photographs on them on photographed ground, and the true camera."""
    take = yard_take(light, ground, size=SIZE, frames=FRAMES)
    return take, take.solved()


def told(ground: str, light: Daylight) -> SetLight:
    take, camera = filmed(ground, light)
    return set_light(camera, lambda frame: take.frames[frame], take.points, take.xy)


def degrees(a: F64, b: F64) -> float:
    return float(np.degrees(np.arccos(np.clip(a @ b, -1, 1))))


EVENING = ("brick", Daylight(heading=125, height=32, soft_deg=3, sun=(0.8, 0.65, 0.45), sky=(0.15, 0.17, 0.22)))
NOON = ("gravel", Daylight(heading=-70, height=42, soft_deg=1, sun=(0.75, 0.7, 0.6), sky=(0.18, 0.2, 0.24)))
GREY = ("brick", Daylight(heading=0, height=45, soft_deg=1, sun=(0, 0, 0), sky=(0.75, 0.78, 0.82)))


class Told(unittest.TestCase):
    def check_sunny(self, ground: str, light: Daylight) -> SetLight:
        found = told(ground, light)
        self.assertEqual(found.told, "shadows")
        self.assertLess(degrees(found.way, light.way), 12)
        self.assertGreater(found.sure, 0.4)
        # How much of the light on the ground is missing in its shadow, and in which colour.
        np.testing.assert_allclose(found.shadow, light.missing, atol=0.12)
        return found

    def test_evening_sun_by_its_shadows(self) -> None:
        found = self.check_sunny(*EVENING)
        self.assertLess(max(found.soft_deg / 3, 3 / found.soft_deg), 2)
        # The main light is warmer than the rest by as much as it was: 3.0 times in red over blue.
        warmer = (found.sun[0] / found.sun[2]) / (found.sky[0] / found.sky[2])
        self.assertGreater(warmer, 1.9)
        self.assertLess(warmer, 4.2)

    def test_noon_on_gritty_ground(self) -> None:
        self.check_sunny(*NOON)

    def test_overcast_is_told_as_overcast(self) -> None:
        found = told(*GREY)
        self.assertEqual(found.told, "overcast")
        self.assertGreater(found.soft_deg, 30)
        self.assertLess(float(found.shadow @ LUMA), 0.2)
        self.assertIn("Overcast", found.says())

    def test_mirrored_it_comes_from_the_other_side(self) -> None:
        take, _ = filmed(*EVENING)
        mirror = np.diag([-1.0, 1.0, 1.0])
        other = replace(
            take, frames=[one[:, ::-1] for one in take.frames], position=take.position @ mirror, points=take.points @ mirror,
            rotation=mirror @ take.rotation @ mirror, xy=np.stack([SIZE[0] - take.xy[..., 0], take.xy[..., 1]], axis=-1),
        )  # fmt: skip
        found = set_light(other.solved(), lambda frame: other.frames[frame], other.points, other.xy)
        self.assertLess(degrees(found.way @ mirror, EVENING[1].way), 12)

    def test_without_a_ground_it_says_that_it_is_a_guess(self) -> None:
        take, camera = filmed(*EVENING)
        raised = RoomCamera(camera.track, Room(shift=(0.0, 0.7, 0.0)))
        found = set_light(raised, lambda frame: take.frames[frame], take.points + [0, 0.7, 0], take.xy)
        self.assertEqual(found.told, "habit")
        self.assertEqual(found.sure, 0.0)
        self.assertIn("guess", found.says())

    def test_it_is_kept(self) -> None:
        found = told(*EVENING)
        again = load_light(dump_light(found))
        assert again is not None
        np.testing.assert_array_equal(again.way, found.way)
        self.assertEqual(again.told, found.told)
        self.assertIsNone(load_light("{}"))


def sunny(heading: float = 60.0, height: float = 40.0, soft: float = 2.0) -> SetLight:
    return SetLight(way=direction(heading, height), soft_deg=soft, sun=np.array([0.8, 0.7, 0.5]), sky=np.array([0.2, 0.25, 0.3]),
                    told="shadows", sure=1.0, soft_sure=1.0)  # fmt: skip


class Taken(unittest.TestCase):
    def test_a_model_is_lit_by_the_same_sun_and_sky(self) -> None:
        values = model_light(sunny())
        self.assertAlmostEqual(values["sun_heading"], 60, delta=0.1)
        self.assertAlmostEqual(values["sun_height"], 40, delta=0.1)
        np.testing.assert_allclose(FULL_SUN * values["sun"] / 100 * linear_of(values["sun_colour"]), [0.8, 0.7, 0.5], atol=0.01)
        np.testing.assert_allclose(FULL_SKY * values["sky"] / 100 * linear_of(values["sky_colour"]), [0.2, 0.25, 0.3], atol=0.01)

    def test_a_standees_shadow_ends_where_the_lights_would(self) -> None:
        _, camera = filmed(*EVENING)
        for heading in (60.0, -120.0):
            light = sunny(heading)
            spot, tall = Spot(x=0.1, y=0.0, z=0.1), 0.3
            look = standee_shadow(light, camera, spot, tall, 4)
            foot, top, tip = camera.project(4, np.array([
                [0.1, 0, 0.1], [0.1, tall, 0.1], np.array([0.1, tall, 0.1]) - tall / light.way[1] * light.way]))  # fmt: skip
            up = foot[1] - top[1]
            end = foot + [np.tan(np.radians(look.lean)) * abs(look.length) / 100 * up, -look.length / 100 * up]
            np.testing.assert_allclose(end, tip, atol=1.5)
            self.assertAlmostEqual(look.strength, 100 * float(light.shadow @ LUMA), delta=0.2)

    def test_under_an_overcast_sky_it_still_does_not_float(self) -> None:
        _, camera = filmed(*EVENING)
        grey = SetLight(way=direction(0, 75), soft_deg=40, sun=np.full(3, 0.1), sky=np.full(3, 0.8), told="overcast", sure=0.9,
                        soft_sure=0.7)  # fmt: skip
        look = standee_shadow(grey, camera, Spot(x=0.1, y=0.0, z=0.1), 0.3, 4)
        self.assertGreater(look.strength, 20)
        self.assertLess(abs(look.length), 20)


class Pointed(unittest.TestCase):
    def test_how_deep_a_shadow_is_and_its_colour(self) -> None:
        light = _photographed("gravel.png", 0.3, (480, 360))
        share = np.array([0.7, 0.62, 0.45])
        inside = np.zeros((360, 480), np.float32)
        cv2.fillPoly(inside, [np.array([[150, 120], [330, 90], [370, 250], [180, 270]])], 1.0)
        soft = cv2.GaussianBlur(inside, (0, 0), 4.0)[..., None]
        plate = linear_from_codes(encode_8bit((light * (1 - soft * share)).astype(np.float32)))
        np.testing.assert_allclose(pointed_shadow(plate, (210, 200)), share, atol=0.1)

    def test_in_the_open_nothing_is_made_up(self) -> None:
        with self.assertRaises(Degenerate):
            pointed_shadow(np.full((200, 300, 3), 0.3, np.float32), (150, 100))


class Map(unittest.TestCase):
    def test_what_is_seen_lies_where_it_is_and_the_sky_is_as_bright_as_told(self) -> None:
        take, camera = filmed(*EVENING)
        sky = np.array([0.5, 0.6, 0.8])
        found = surroundings(camera, {f: linear_from_codes(take.frames[f]) for f in range(FRAMES)}, 2.2, sky)
        self.assertTrue(np.isfinite(found).all() and found.min() >= 0)
        way = directions(found.shape[0])
        up, area = np.maximum(way[..., 1], 0), np.sqrt(1 - way[..., 1] ** 2)
        shown = (found * (up * area)[..., None]).sum(axis=(0, 1)) / (up * area).sum()
        np.testing.assert_allclose(shown, sky, rtol=0.2)
        # What the frame from the middle of the way shows is found the way in which it lies.
        middle = np.mean([camera.eye(f) for f in range(FRAMES)], axis=0)
        near = min(range(FRAMES), key=lambda f: float(np.linalg.norm(camera.eye(f) - middle)))
        at = camera.project(near, middle + 2.2 * way)
        x, y = SIZE[0] // 2, round(0.75 * SIZE[1])
        there = linear_from_codes(take.frames[near])[y - 25 : y + 26, x - 25 : x + 26].mean(axis=(0, 1))
        seen = np.abs(at - np.array([x + 0.5, y + 0.5])).max(axis=-1) < 25
        np.testing.assert_allclose(found[seen].mean(axis=0), there, rtol=0.2)
