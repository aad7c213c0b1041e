"""The browser's own copy of the room: what it sees where, how things stand in it, where its sun is."""

from __future__ import annotations

import math

import numpy as np

from plonket.base.fields import Key, Keyed
from plonket.base.homography import transform_point
from plonket.document.spot import Spot
from plonket.layers.model import MeshLayer, Set, order_of, stands
from plonket.layers.standing import axes_of
from plonket.room.camera import spot_path
from plonket.track.form.fit import FormPose
from plonket.track.form.settings import Pose
from tests.core.copies import SIZE, AlikeRooms


class Rooms(AlikeRooms):
    def test_places_rays_and_spots(self) -> None:
        rng = np.random.default_rng(7)
        for k1, readout in ((0.0, 0.0), (-0.12, 0.0), (0.08, 0.6)):
            seen = self.made(k1, readout)
            spots = [Spot(x=0.1, y=0.05, z=-0.2, heading=20.0, tilt=10.0, pixel_mm=1.3), Spot(x=-0.2, z=0.1, faces="upright"),
                     Spot(faces="camera", x=Keyed(keys=[Key(frame=0, value=0.0), Key(frame=4, value=0.2)]))]  # fmt: skip
            for frame in (0, 2, 4):
                np.testing.assert_allclose(self.say("room.eye", frame), seen.eye(frame), atol=1e-6)
                for place in rng.uniform(-0.4, 0.4, (6, 3)):
                    told = self.say("room.project", frame, place.tolist())
                    np.testing.assert_allclose([told["x"], told["y"]], seen.project(frame, place), atol=2e-3)
                behind = seen.eye(frame) + seen.turn(frame)[:, 2]
                self.assertIsNone(self.say("room.project", frame, behind.tolist()))
                for pixel in rng.uniform([0, 0], SIZE, (4, 2)):
                    way = self.say("room.ray", frame, {"x": pixel[0], "y": pixel[1]})
                    np.testing.assert_allclose(way, seen.ray(frame, pixel)[1], atol=1e-5)
                for spot in spots:
                    told = np.array(self.say("camera.spotMatrix", "ROOM", spot, frame)).reshape(3, 3)
                    expected = spot_path(seen, spot)[frame]
                    for at in ([0, 0], [40, -30], [-25, 60]):
                        a, b = transform_point(told, np.array(at)), transform_point(expected, np.array(at))
                        np.testing.assert_allclose(a, b, atol=0.02)

    def test_where_things_stand(self) -> None:
        seen = self.made(0.0, 0.0)
        spot = Spot(x=0.1, y=0.02, z=-0.1, heading=15.0)
        common = {"kind": "model", "id": "m", "name": "m", "asset": "a" * 64, "extent": [0.4, 0.5, 0.3], "tall": 0.25,
                  "heading": 40.0, "tilt": 12.0, "roll": -7.0, "lift": 0.05}  # fmt: skip
        for pivot in ([0.0, 0.0, 0.0], [0.1, 0.4, -0.12]):
            layer = MeshLayer.model_validate(common | {"pivot": pivot})
            m = stands(layer, seen, spot, 2)
            told = self.say("camera.standing", "ROOM", spot, layer, 2)
            axes, on = axes_of(layer, seen, spot, 2)
            np.testing.assert_allclose(np.array(told["axes"]).T, axes, atol=1e-6)
            np.testing.assert_allclose(told["on"], on, atol=1e-6)
            np.testing.assert_allclose(told["foot"], m[:3, 3], atol=1e-6)
            np.testing.assert_allclose(told["size"], np.array(layer.extent) * np.linalg.norm(m[:3, 0]), atol=1e-6)

    def test_levels_and_depths(self) -> None:
        seen = self.made(-0.1, 0.0)
        for place in ([0.1, 0.0, -0.2], [-0.2, 0.0, 0.1]):
            x, y = seen.project(1, np.array(place))
            np.testing.assert_allclose(self.say("camera.onLevel", "ROOM", 1, {"x": x, "y": y}), place, atol=1e-4)
            other = np.array(place) + [0.02, 0.3, 0.01]
            x, y = seen.project(1, other)
            np.testing.assert_allclose(self.say("camera.atDepthOf", "ROOM", 1, {"x": x, "y": y}, other.tolist()), other, atol=1e-4)

    def test_the_sun_s_grip_lies_where_the_light_comes_from(self) -> None:
        for k1, still in ((0.0, None), (-0.1, 3)):
            seen = self.made(k1, 0.0, still)
            for heading, height in ((-40.0, 45.0), (170.0, 8.0), (95.0, 72.0), (-500.0, 30.0)):
                layer = MeshLayer.model_validate({"id": "m", "name": "m", "asset": "a" * 64, "extent": [1, 1, 1],
                                                   "sun_heading": heading, "sun_height": height})  # fmt: skip
                made = order_of(layer, seen, Spot(), 1, Set(path="m"), 1.0)
                assert made is not None
                way = np.array(self.say("sun.sunWay", "ROOM", 1, heading, height))
                np.testing.assert_allclose(way, made[0].lights.sun, atol=1e-6)
                # As far round as it was before, not a whole turn back.
                told = self.say("sun.sunFrom", "ROOM", 1, way.tolist(), heading + 100)
                self.assertAlmostEqual(told["heading"], heading, places=6)
                self.assertAlmostEqual(told["height"], height, places=6)
                # Where it is drawn is where it is taken hold of, on whichever side of the ball it lies.
                ball = {"centre": [0.05, 0.0, -0.1], "radius": 0.3}
                at = np.array(ball["centre"]) + 0.3 * way
                behind = self.say("sun.isBehind", "ROOM", 1, ball, way.tolist())
                self.assertEqual(behind, bool((seen.eye(1) - at) @ way < 0))
                x, y = seen.project(1, at)
                met = self.say("sun.onBall", "ROOM", 1, ball, {"x": float(x), "y": float(y)}, behind)
                np.testing.assert_allclose(met["way"], way, atol=1e-4)
                self.assertEqual(met["beyond"], 0)

    def test_beyond_the_rim_the_sun_stays_on_it(self) -> None:
        seen = self.made(0.0, 0.0)
        ball = {"centre": [0.0, 0.0, 0.0], "radius": 0.25}
        eye = seen.eye(2)
        middle = seen.project(2, np.zeros(3))
        reach = 520 * 0.25 / float(np.sqrt(eye @ eye - 0.25**2))
        for turn in np.radians([10, 100, 190, 280]):
            aside = np.array([np.cos(turn), np.sin(turn)])
            far = middle + 2 * reach * aside
            met = self.say("sun.onBall", "ROOM", 2, ball, {"x": float(far[0]), "y": float(far[1])}, False)
            self.assertGreater(met["beyond"], 0.5)
            way = np.array(met["way"])
            self.assertAlmostEqual(float(np.linalg.norm(way)), 1.0, places=6)
            # On the rim the ball's side is seen edge on, towards the pointer.
            self.assertAlmostEqual(float((eye - 0.25 * way) @ way), 0.0, places=6)
            seen_at = seen.project(2, 0.25 * way) - middle
            self.assertGreater(float(seen_at @ aside) / float(np.linalg.norm(seen_at)), 0.99)

    def test_a_form_before_the_camera(self) -> None:
        pose = Pose(place=(0.1, -0.05, -0.9), turn=(0.1, 0.3, -0.05, math.sqrt(1 - 0.1**2 - 0.3**2 - 0.05**2)))
        stood = FormPose.of(pose)
        for at in np.random.default_rng(8).uniform(-0.2, 0.2, (6, 3)):
            told = self.say("camera.formSeen", pose, 480.0, {"w": SIZE[0], "h": SIZE[1]}, at.tolist())
            np.testing.assert_allclose([told["x"], told["y"]], stood.seen(at[None], 480.0, SIZE)[0], atol=1e-6)
