"""Particles in a solved room: where they fly, what hides them, how they land, and how sharp they are."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np

from plonket.base.conventions import F32, F64
from plonket.depth.frame_depth import FrameDepth
from plonket.document.bases import LayerBase
from plonket.document.spot import Spot
from plonket.generators.flight import SPRINGS, flight
from plonket.image.picture import windowed
from plonket.layers.generated import GeneratedLayer, draw
from plonket.layers.in_room import by_distance, hidden_in_room
from tests.core.furnished import Furnished, Rooms
from tests.core.test_scene import SIZE, camera

W, H = SIZE


def stepped(y: float, up: float, fall: float, drag: float, age: float, *, bounces: bool) -> float:
    """A height by small steps."""
    steps = 20_000
    dt = age / steps
    for _ in range(steps):
        up += (-drag * up - fall) * dt
        y += up * dt
        if y < 0:
            if not bounces:
                return 0.0
            y, up = 0.0, -SPRINGS * up
    return y


class Flight(unittest.TestCase):
    def test_it_bounces_and_lies_as_small_steps_say(self) -> None:
        for y, up, fall, drag, age in ((1.0, 0.02, 0.006, 0.03, 30.0), (0.4, 0.05, 0.004, 0.001, 45.0), (0.2, -0.01, 0.002, 0.1, 40.0)):
            for lands in ("bounces", "lies"):
                got = flight(np.array([[0.0, y, 0.0]]), np.array([[0.01, up, 0.0]]), np.array([fall]), np.array([drag]),
                             np.array([age]), lands)  # fmt: skip
                self.assertAlmostEqual(float(got[0, 1]), stepped(y, up, fall, drag, age, bounces=lands == "bounces"), delta=4e-3)

    def test_one_that_lies_goes_no_further(self) -> None:
        begins, speed = np.array([[0.0, 0.5, 0.0]]), np.array([[0.02, 0.0, 0.01]])
        told = [flight(begins, speed, np.array([0.01]), np.array([1e-4]), np.array([age]), "lies")[0] for age in (10.0, 20.0, 60.0)]
        self.assertAlmostEqual(float(told[0][0]), 0.2, places=3)
        np.testing.assert_allclose(told[1], told[2], atol=1e-9)
        self.assertEqual(float(told[2][1]), 0.0)

    def test_what_begins_below_the_ground_goes_its_way(self) -> None:
        begins, speed = np.array([[0.0, -0.5, 0.0]]), np.array([[0.0, 0.0, 0.0]])
        at = flight(begins, speed, np.array([0.01]), np.array([1e-4]), np.array([10.0]), "bounces")
        self.assertAlmostEqual(float(at[0, 1]), -1.0, places=3)


class InARoom(Rooms):
    def sparks(self, **more: Any) -> GeneratedLayer:
        """A still cloud of sparks, in pixels of a millimetre."""
        generator = {"kind": "sparks", "shape": "area", "width": 300.0, "height": 300.0, "thick": 0.0, "roomy": True, "rate": 60.0,
                     "speed": 0.0, "pull": 0.0, "turbulence": 0.0, "twinkle": 0.0, "streak": 0.0, "radius": 4.0, **more}  # fmt: skip
        self.spots.setdefault("fire", Spot(y=0.25))
        return GeneratedLayer.model_validate({"id": "fire", "name": "fire", "generator": generator,
                                              "follow": {"target": "fire", "perspective": True}})  # fmt: skip

    def light(self, layer: GeneratedLayer, *others: LayerBase, depth: F32 | None = None) -> F64:
        sources = Furnished(camera(), self.spots, self.files, [layer, *others])
        if depth is not None:
            told = FrameDepth(depth, np.ones_like(depth))
            sources.depth = lambda target, frame, hides=False: told  # type: ignore[method-assign,misc,assignment]
        picture = draw(layer, sources, 1, SIZE, np.eye(3))
        picture = hidden_in_room(picture, layer, sources, 1, SIZE, np.eye(3))
        return np.asarray(windowed(picture, 0, 0, SIZE)[..., :3].sum(axis=2), np.float64)

    def test_a_flat_cloud_lies_where_the_flat_one_lies(self) -> None:
        """Without any depth of its own it is what the spot's homography makes of it."""
        deep = self.light(self.sparks())
        sources = Furnished(camera(), self.spots, self.files, [])
        corners = np.array([[x, 0.25 + y, 0.0] for x in (-0.15, 0.15) for y in (-0.15, 0.15)])
        seen = sources.seen.project(1, corners)
        low, high = seen.min(axis=0) - 4, seen.max(axis=0) + 4
        y, x = np.mgrid[0:H, 0:W] + 0.5
        inside = (x > low[0]) & (x < high[0]) & (y > low[1]) & (y < high[1])
        self.assertGreater(float(deep[inside].sum()), 0.999 * float(deep.sum()))
        middle = np.array([(deep * x).sum(), (deep * y).sum()]) / deep.sum()
        self.assertLess(float(np.abs(middle - sources.seen.project(1, np.array([0.0, 0.25, 0.0]))).max()), 3.0)

    def test_a_model_hides_those_behind_it_alone(self) -> None:
        near = self.box("near", (0.5, 0.6, 0.02), z=0.3)
        far = self.box("far", (0.5, 0.6, 0.02), z=-0.3)
        cloud = self.sparks()
        bare = self.light(cloud)
        self.assertLess(float(self.light(cloud, near).sum()), 0.01 * float(bare.sum()))
        np.testing.assert_allclose(self.light(cloud, far), bare, atol=1e-5)
        # A cloud that reaches through it is half hidden.
        through = self.sparks(thick=1200.0)
        half = float(self.light(through, self.box("middle", (3.0, 3.0, 0.02), z=0.0)).sum() / self.light(through).sum())
        self.assertTrue(0.3 < half < 0.8, half)
        self.assertEqual([one.id for one in by_distance([near, cloud, far], Furnished(camera(), self.spots, self.files, [near, cloud, far]), 1)][0], "fire")

    def test_what_was_filmed_hides_them(self) -> None:
        cloud = self.sparks()
        depth = np.full((H, W), 9.0, np.float32)
        depth[:, : W // 2] = 0.4
        seen, bare = self.light(cloud, depth=depth), self.light(cloud)
        self.assertLess(float(seen[:, : W // 2].max()), 1e-6)
        np.testing.assert_allclose(seen[:, W // 2 :], bare[:, W // 2 :], atol=1e-6)

    def test_out_of_focus_they_are_larger_and_no_brighter_on_the_whole(self) -> None:
        sharp = self.light(self.sparks(rate=2.0))
        away = float(camera().local(1, np.array([0.0, 0.25, 0.0]))[2])
        focused = self.light(self.sparks(rate=2.0, unsharp=40.0, sharp_at=away))
        soft = self.light(self.sparks(rate=2.0, unsharp=40.0, sharp_at=away / 2))
        self.assertAlmostEqual(float(focused.sum() / sharp.sum()), 1.0, delta=0.05)
        self.assertAlmostEqual(float(soft.sum() / sharp.sum()), 1.0, delta=0.1)
        self.assertLess(float(soft.max()), 0.4 * float(sharp.max()))

    def test_smoke_goes_into_what_it_meets(self) -> None:
        smoke = self.sparks()
        settings = {"kind": "smoke", "roomy": True, "rate": 3.0, "speed": 0.0, "pull": 0.0, "turbulence": 0.0, "torn": 0.0, "radius": 60.0}
        smoke = smoke.model_copy(update={"generator": GeneratedLayer.model_validate(
            {"id": "s", "name": "s", "generator": settings}).generator})  # fmt: skip

        def cover(*others: LayerBase) -> float:
            sources = Furnished(camera(), self.spots, self.files, [smoke, *others])
            return float(windowed(draw(smoke, sources, 1, SIZE, np.eye(3)), 0, 0, SIZE)[..., 3].sum())

        bare = cover()
        before = cover(self.box("wall", (3.0, 3.0, 0.02), z=0.5))
        within = cover(self.box("mid", (3.0, 3.0, 0.001), z=0.0))
        self.assertLess(before, 0.02 * bare)
        self.assertTrue(0.2 < within / bare < 0.9, within / bare)

    def test_a_flare_goes_out_as_its_light_is_covered(self) -> None:
        """All of it, ghosts and streak too, by as much as a card covers of what shines."""
        self.spots["fire"] = Spot(y=0.25)
        flare = GeneratedLayer.model_validate({
            "id": "fire", "name": "f", "generator": {"kind": "flare", "lamp": 60.0}, "follow": {"target": "fire"}})  # fmt: skip
        bare = self.light(flare)
        np.testing.assert_allclose(self.light(flare, self.box("back", (1.0, 1.0, 0.02), z=-0.3)), bare, atol=1e-6)
        whole = self.light(flare, self.box("whole", (1.0, 1.0, 0.02), z=0.2))
        self.assertEqual(float(whole.max(initial=0)), 0)
        # A card whose edge runs through the light's middle, as the camera sees it.
        eye = camera().eye(1)
        edge = eye + (np.array([0.0, 0.25, 0.0]) - eye) * (eye[2] - 0.2) / eye[2]
        half = self.light(flare, self.box("half", (1.0, 1.0, 0.001), x=float(edge[0]) + 0.5, z=0.2))
        self.assertAlmostEqual(float(half.sum() / bare.sum()), 0.5, delta=0.12)
        stays = flare.model_copy(update={"generator": flare.generator.model_copy(update={"goes_out": False})})
        sources = Furnished(camera(), self.spots, self.files, [stays])
        self.assertGreater(float(draw(stays, sources, 1, SIZE, np.eye(3)).rgba.max()), 0.5)
