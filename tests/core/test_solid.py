"""Where a look into a room ends, how far away that is, and looks that go by it."""

from __future__ import annotations

import unittest

import numpy as np

from plonket.base.conventions import F32, F64
from plonket.document.bases import LayerBase
from plonket.document.spot import Spot
from plonket.layers.form import FormLayer
from plonket.layers.solid import inverse_depth_of, landing, spot_inverse_depth
from plonket.layers.still import StillLayer
from plonket.looks.common import InverseDepth, LookContext
from plonket.looks.haze import Haze, run
from plonket.render.inverse_depth import inverse_depth_for
from plonket.render.stack import drawn
from plonket.room.camera import RoomCamera
from tests.core.furnished import Furnished, Rooms
from tests.core.test_scene import SIZE, camera


def seen_at(room: RoomCamera, place: tuple[float, float, float] | F64, frame: int = 1) -> tuple[float, float]:
    x, y = room.project(frame, np.array(place, np.float64))
    return float(x), float(y)


class Solid(Rooms):
    def form(self, name: str, shape: str, size: tuple[float, float, float], **more: object) -> FormLayer:
        self.spots[name] = Spot.model_validate({k: more.pop(k) for k in ("x", "y", "z") if k in more})
        wide, tall, deep = size
        return FormLayer.model_validate({"id": name, "name": name, "shape": shape, "wide": wide, "tall": tall, "deep": deep,
                                         "follow": {"target": name}, **more})  # fmt: skip

    def room(self, *layers: LayerBase, seen: RoomCamera | None = None) -> Furnished:
        self.spots["camera"] = Spot()
        out = Furnished(seen or camera(), self.spots, self.files, layers)
        out.room = "camera"
        return out


class Landings(Solid):
    def test_a_look_ends_on_what_is_nearest_through_any_lens(self) -> None:
        crate = self.form("crate", "box", (0.3, 0.2, 0.25), x=0.1, z=-0.1, heading=20.0)
        tin = self.form("tin", "cylinder", (0.12, 0.3, 0.12), x=-0.25, z=0.2)
        whale = self.box("whale", (0.2, 0.1, 0.1), x=0.1, z=-0.1, lift=0.2, tilt=10.0)
        turn = np.radians(20.0)
        corner = np.array([0.1 + 0.1 * np.cos(turn) + 0.1 * np.sin(turn), 0.2, -0.1 - 0.1 * np.sin(turn) + 0.1 * np.cos(turn)])
        for seen in (camera(), camera(k1=0.09)):
            sources = self.room(crate, tin, whale, seen=seen)
            on_top = landing(sources, "camera", 1, seen_at(seen, corner))
            assert on_top is not None
            self.assertEqual(on_top.on, "crate")
            np.testing.assert_allclose(on_top.place, corner, atol=2e-3)
            # The front of a cylinder as this camera sees it, half way up; of the model, its top's middle.
            eye = seen.eye(1) - [-0.25, 0, 0.2]
            round_ = np.array([-0.25, 0.15, 0.2]) + 0.06 * np.array([eye[0], 0, eye[2]]) / np.hypot(eye[0], eye[2])
            on_tin = landing(sources, "camera", 1, seen_at(seen, round_))
            assert on_tin is not None
            self.assertEqual(on_tin.on, "tin")
            np.testing.assert_allclose(on_tin.place, round_, atol=2e-3)
            lean = np.radians(10.0)
            back = np.array([0.1, 0.2 + 0.1 * np.cos(lean), -0.1 + 0.1 * np.sin(lean)])
            on_whale = landing(sources, "camera", 1, seen_at(seen, back))
            assert on_whale is not None
            self.assertEqual(on_whale.on, "whale")
            np.testing.assert_allclose(on_whale.place, back, atol=2e-3)
            ground = landing(sources, "camera", 1, seen_at(seen, (-0.05, 0.0, 0.45)))
            assert ground is not None
            self.assertIsNone(ground.on)
            np.testing.assert_allclose(ground.place, [-0.05, 0.0, 0.45], atol=2e-3)

    def test_what_is_hidden_in_the_run_sheet_is_gone_and_the_sky_is_nowhere(self) -> None:
        crate = self.form("crate", "box", (0.3, 0.2, 0.25))
        hidden = crate.model_copy(update={"shown": False})
        seen = camera()
        pixel = seen_at(seen, (0.0, 0.1, 0.125))
        found = landing(self.room(crate), "camera", 1, pixel)
        assert found is not None and found.on == "crate"
        found = landing(self.room(hidden), "camera", 1, pixel)
        assert found is not None and found.on is None and found.place[1] == 0
        self.assertIsNone(landing(self.room(crate), "camera", 1, (160.0, -2000.0)))
        self.assertIsNone(landing(self.room(crate), "elsewhere", 1, pixel))

    def test_a_chosen_surface_takes_what_is_put_on_it_wherever_it_is_met(self) -> None:
        seen = camera()
        wall = Spot(x=0.2, y=0.3, z=-0.4, heading=15.0)
        right, up = wall.axes(1, seen.eye(1), seen.turn(1))
        place = wall.place(1) - 0.35 * right + 0.12 * up
        crate = self.form("crate", "box", (1.0, 0.5, 0.1))
        found = landing(self.room(crate), "camera", 1, seen_at(seen, place), wall)
        assert found is not None
        self.assertIsNone(found.on)
        np.testing.assert_allclose(found.place, place, atol=1e-6)


class Distances(Solid):
    def test_every_pixel_is_as_near_as_what_a_look_through_it_meets(self) -> None:
        crate = self.form("crate", "box", (0.3, 0.2, 0.25), x=0.1, z=-0.1, heading=20.0)
        rng = np.random.default_rng(4)
        for seen, view in ((camera(), np.eye(3)), (camera(k1=0.09), np.diag([0.5, 0.5, 1.0])),
                           (camera(), np.array([[1.05, 0.02, -6.0], [-0.02, 1.05, 3.0], [0, 0, 1.0]]))):  # fmt: skip
            sources = self.room(crate, seen=seen)
            size = (round(SIZE[0] * view[0, 0]), round(SIZE[1] * view[0, 0])) if view[0, 0] < 1 else SIZE
            near = inverse_depth_of(sources, "camera", 1, size, view)
            assert near is not None
            self.assertEqual(near.shape, size[::-1])
            off, other = [], 0
            for _ in range(400):
                col, row = int(rng.integers(4, size[0] - 4)), int(rng.integers(4, size[1] - 4))
                at = np.linalg.inv(view) @ [col + 0.5, row + 0.5, 1.0]
                met = landing(sources, "camera", 1, (float(at[0] / at[2]), float(at[1] / at[2])))
                true = 0.0 if met is None else 1 / float(seen.local(1, met.place)[2])
                off.append(abs(float(near[row, col]) - true))
                other += met is not None and met.on == "crate"
            self.assertGreater(other, 10)
            # Pixels on a rim are a mix; all others are right.
            self.assertLess(float(np.percentile(off, 95)), 2e-3)

    def test_a_picture_that_stands_in_the_room_is_as_far_away_as_its_spot(self) -> None:
        sources = self.room()
        self.spots["quay"] = Spot(x=0.1, z=0.3)
        ahead = float(sources.seen.local(1, np.array([0.1, 0.0, 0.3]))[2])
        self.assertAlmostEqual(spot_inverse_depth(sources, "quay", 1) or 0, 1 / ahead, places=9)
        layer = StillLayer.model_validate({"id": "a", "name": "a", "asset": "a" * 64, "width": 4, "height": 4,
                                           "follow": {"target": "quay"}})  # fmt: skip
        found = inverse_depth_for(layer, sources, 1, SIZE, np.eye(3))()
        assert found is not None and found.own is not None
        self.assertAlmostEqual(found.own, 1 / ahead, places=9)
        whole = inverse_depth_for(None, sources, 1, SIZE, np.eye(3))()
        assert whole is not None and whole.own is None
        sources.room = None
        self.assertIsNone(inverse_depth_for(None, sources, 1, SIZE, np.eye(3))())


def hazed(look: Haze, near: InverseDepth | None, rgba: F32 | None = None, x: int = 0, y: int = 0) -> F32:
    if rgba is None:
        rgba = np.full((60, 80, 4), 0.5, np.float32)
        rgba[..., 3] = 1
    return run(rgba, look, LookContext(frame=0, x=x, y=y, size=(80, 60), inverse_depth=lambda: near))


class HazeIntoTheRoom(unittest.TestCase):
    def setUp(self) -> None:
        # As a floor: nothing above row 20, then ever nearer.
        rows = np.maximum(np.arange(60) - 19.5, 0) / 20
        self.near = InverseDepth(room=np.repeat(rows[:, None], 80, axis=1).astype(np.float32))

    def look(self, **more: object) -> Haze:
        return Haze.model_validate({"id": "h", "name": "h", "goes": "room", "near_x": 40, "near_y": 50.5, "far_x": 10, "far_y": 30.5,
                                    "colour": "#ffffff", "density": 80, **more})  # fmt: skip

    def test_it_grows_evenly_in_one_over_the_distance(self) -> None:
        out = hazed(self.look(), self.near)
        share = (out[..., 0] - 0.5) / 0.5 / 0.8
        n = self.near.room
        true = np.clip((n[50, 0] - n) / (n[50, 0] - n[30, 0]), 0, 1)
        np.testing.assert_allclose(share, true, atol=1e-5)
        self.assertTrue((out[:20, :, 0] > 0.89).all(), "the sky is as far as can be")

    def test_a_window_of_the_picture_is_hazed_as_the_whole(self) -> None:
        whole = hazed(self.look(), self.near)
        part = hazed(self.look(near_y=50.5 - 22, far_y=30.5 - 22), self.near, np.ascontiguousarray(np.dstack([np.full((20, 30, 3), 0.5), np.ones((20, 30, 1))]), np.float32), x=0, y=22)  # fmt: skip
        np.testing.assert_allclose(part, whole[22:42, :30], atol=1e-5)

    def test_what_stands_in_it_is_one_distance_and_no_camera_means_no_haze(self) -> None:
        flat = InverseDepth(room=self.near.room, own=float(self.near.room[40, 0]))
        out = hazed(self.look(), flat)
        self.assertEqual(float(np.ptp(out[..., 0])), 0.0)
        self.assertAlmostEqual(float(out[0, 0, 0]), 0.5 + 0.5 * 0.8 * 0.5, places=4)
        self.assertTrue((hazed(self.look(), None)[..., :3] == 0.5).all())

    def test_blur_leaves_what_is_as_far_as_the_near_spot_sharp(self) -> None:
        rng = np.random.default_rng(1)
        rgba = np.ones((60, 80, 4), np.float32)
        rgba[..., :3] = rng.random((60, 80, 1))
        out = hazed(self.look(does="blur", sides="both", radius=4), self.near, rgba)

        def rough(rows: slice) -> float:
            return float(np.diff(out[rows, :, 0], axis=1).std() / np.diff(rgba[rows, :, 0], axis=1).std())

        self.assertGreater(rough(slice(50, 51)), 0.95)
        self.assertLess(rough(slice(28, 32)), 0.2)
        # As far in front of it as behind it, it is as soft.
        np.testing.assert_allclose(rough(slice(54, 56)), rough(slice(45, 47)), rtol=0.35)


class HazedModels(Solid):
    def test_a_form_in_front_keeps_its_light_before_a_hazy_ground(self) -> None:
        crate = self.form("crate", "box", (0.3, 0.2, 0.25), use="plate", frames=[1])
        look = {"kind": "haze", "id": "h", "name": "h", "goes": "room", "colour": "#ffffff", "density": 100, "rides": "screen"}
        seen = camera()
        near, far = seen_at(seen, (0.0, 0.1, 0.125)), seen_at(seen, (0.4, 0.0, -0.5))
        ends = {"near_x": near[0], "near_y": near[1], "far_x": far[0], "far_y": far[1]}
        hazy = crate.model_copy(update={"looks": [Haze.model_validate({**look, **ends})]})
        sources = self.room(hazy)
        sources.plates = {1: np.full((SIZE[1], SIZE[0], 3), 60, np.uint8)}
        bare, made = (drawn(layer, sources, 1, SIZE, np.eye(3)) for layer in (crate, hazy))
        self.assertEqual(bare.rgba.shape, made.rgba.shape)
        x, y = (int(v) for v in near)
        np.testing.assert_allclose(made.rgba[y - made.y, x - made.x], bare.rgba[y - bare.y, x - bare.x], atol=0.01)
        top = seen_at(seen, (0.1, 0.2, -0.12))
        x, y = (int(v) for v in top)
        self.assertGreater(float(made.rgba[y - made.y, x - made.x, 0]), 1.5 * float(bare.rgba[y - bare.y, x - bare.x, 0]))
