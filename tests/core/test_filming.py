"""How a room is asked for from the renderer: instants, windows, shadows' reach, and how the straight picture is laid on the clip's."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from plonket.base.conventions import F32, F64
from plonket.layers.raytraced import (
    RectilinearWindow,
    box_corners,
    cast,
    instants,
    on_picture,
    rectilinear_window,
    stood,
    view_at,
)
from plonket.raytrace.request import CameraView, Instance, Lamp, Lights, RenderRequest, request_digest
from plonket.room.camera import RoomCamera
from tests.core.test_scene import SIZE, camera

CORNERS = box_corners((0.3, 0.2, 0.2))


def lights() -> Lights:
    return Lights(sun=(0.6, 0.8, 0.0), sun_light=(0.7, 0.7, 0.7), sky_light=(0.2, 0.2, 0.2), soft=0.05)


class Moments(unittest.TestCase):
    def test_an_exposure_lies_about_its_frame(self) -> None:
        self.assertEqual(instants(7, 0, 5), [7])
        half = instants(7, 180, 5)
        self.assertEqual(len(half), 5)
        self.assertAlmostEqual(float(np.mean(half)), 7)
        np.testing.assert_allclose(np.diff(half), 0.1)
        self.assertAlmostEqual(half[-1] - half[0] + 0.1, 0.5)

    def test_between_frames_the_camera_is_between_them(self) -> None:
        seen = camera()
        for when, share in ((1.0, 0.0), (1.3, 0.3), (0.7, 0.3)):
            view = view_at(seen, when)
            other = 2 if when > 1 else 0
            np.testing.assert_allclose(view.eye, (1 - share) * seen.eye(1) + share * seen.eye(other), atol=1e-12)
            np.testing.assert_allclose(view.turn @ view.turn.T, np.eye(3), atol=1e-12)
        # Before the first and after the last frame it stands.
        np.testing.assert_allclose(view_at(seen, -0.2).eye, seen.eye(0))
        np.testing.assert_allclose(view_at(seen, 2.4).eye, seen.eye(2))


class Windows(unittest.TestCase):
    def window(self, seen: RoomCamera, corners: F64, scale: float = 1.0) -> RectilinearWindow | None:
        return rectilinear_window(seen, 1, scale, [view_at(seen, 1)], [corners])

    def test_it_holds_what_is_seen_and_little_more(self) -> None:
        seen = camera()
        for scale in (1.0, 0.5):
            found = self.window(seen, CORNERS, scale)
            assert found is not None
            x, y, w, h = found.window
            at = seen.project(1, CORNERS) * scale
            self.assertTrue(((at > [x, y]) & (at < [x + w, y + h])).all())
            spread = np.ptp(at, axis=0)
            self.assertLess(w, spread[0] + 2 * 80)
            self.assertLess(h, spread[1] + 2 * 80)
            self.assertAlmostEqual(found.focal, 300 * scale)

    def test_what_is_out_of_sight_is_not_asked_for(self) -> None:
        seen = camera()
        self.assertIsNone(self.window(seen, CORNERS + [30, 0, 0]))
        behind = seen.eye(1) + seen.turn(1)[:, 2] * 3
        self.assertIsNone(self.window(seen, CORNERS + behind))

    def test_what_reaches_behind_the_camera_may_be_anywhere(self) -> None:
        seen = camera()
        long = np.array([[0.0, 0.1, 0.0], [0.0, 0.1, 30.0]])
        found = self.window(seen, long)
        assert found is not None
        x, y, w, h = found.window
        self.assertTrue(x <= 0 and y <= 0 and x + w >= SIZE[0] and y + h >= SIZE[1])

    def test_a_moving_camera_s_instants_are_all_in_it(self) -> None:
        seen = camera()
        views = [view_at(seen, when) for when in (0.0, 1.0, 2.0)]
        found = rectilinear_window(seen, 1, 1.0, views, [CORNERS] * 3)
        assert found is not None
        x, y, w, h = found.window
        for frame in range(3):
            at = seen.project(frame, CORNERS)
            self.assertTrue(((at >= [x, y]) & (at <= [x + w, y + h])).all())


class Shadows(unittest.TestCase):
    def test_the_sun_s_shadow_lies_where_its_rays_go(self) -> None:
        found = cast(CORNERS, lights(), 0.0)
        np.testing.assert_allclose(found[:, 1], 0)
        # A corner 0.2 m up throws its shadow 0.2 * 0.6 / 0.8 to the other side.
        top = CORNERS[CORNERS[:, 1] > 0.1]
        for corner in top:
            expected = corner - np.array([0.6, 0.8, 0]) * (corner[1] / 0.8)
            self.assertLess(float(np.linalg.norm(found - expected, axis=1).min()), 1e-9)

    def test_a_low_sun_does_not_reach_for_miles(self) -> None:
        low = replace(lights(), sun=(0.9999, 0.01, 0.0))
        self.assertLess(float(np.abs(cast(CORNERS, low, 0.0)).max()), 5.0)

    def test_a_lamp_s_shadow_goes_away_from_it(self) -> None:
        at = np.eye(4)
        at[:3, 3] = [0.0, 1.0, 0.0]
        found = cast(CORNERS, replace(lights(), sun_light=(0.0, 0.0, 0.0), lamps=(Lamp(place=at, light=(1.0, 1.0, 1.0)),)), 0.0)
        # From one metre up a corner at a fifth of it is thrown out by 1 / (1 - 0.2).
        corner = np.array([0.15, 0.2, 0.1])
        self.assertLess(float(np.linalg.norm(found - corner * [1.25, 0, 1.25], axis=1).min()), 1e-9)


class Laid(unittest.TestCase):
    """A picture made without distortion, laid on what the lens sees."""

    def straight(self, seen: RoomCamera, scale: float = 1.0) -> RectilinearWindow:
        lens = seen.lens(1)
        w, h = round(SIZE[0] * scale), round(SIZE[1] * scale)
        return RectilinearWindow(scale=scale, focal=lens.focal * scale, principal=(w / 2, h / 2), window=(-60, -50, w + 120, h + 100))

    def dot(self, seen: RoomCamera, place: F64, straight: RectilinearWindow) -> F32:
        """A soft dot where a pinhole sees a place."""
        local = seen.local(1, place)
        x = local[0] / local[2] * straight.focal + straight.principal[0] - straight.window[0]
        y = local[1] / local[2] * straight.focal + straight.principal[1] - straight.window[1]
        v, u = np.mgrid[0 : straight.window[3], 0 : straight.window[2]] + 0.5
        spot = np.exp(-((u - x) ** 2 + (v - y) ** 2) / (2 * 2.5**2)).astype(np.float32)
        return np.repeat(spot[..., None], 4, axis=2)

    def middle(self, rgba: F32, x0: int, y0: int) -> F64:
        light = rgba[..., 3].astype(np.float64)
        y, x = np.mgrid[0 : light.shape[0], 0 : light.shape[1]] + 0.5
        return np.array([(light * x).sum(), (light * y).sum()]) / light.sum() + [x0, y0]

    def test_it_lies_where_the_camera_sees_it(self) -> None:
        for seen in (camera(), camera(k1=-0.15), camera(k1=0.1), camera(readout=0.7)):
            for place in ([0.3, 0.05, 0.2], [-0.35, 0.2, -0.1], [0.0, 0.0, 0.0]):
                straight = self.straight(seen)
                depth = float(seen.local(1, np.array(place))[2])
                laid = on_picture(self.dot(seen, np.array(place), straight), seen, 1, straight, depth, np.eye(3), SIZE)
                off = self.middle(laid.rgba, laid.x, laid.y) - seen.project(1, np.array(place))
                self.assertLess(float(np.hypot(*off)), 0.12, (seen.track.distortion, seen.track.readout, place))

    def test_through_a_steadied_view_and_at_half_size(self) -> None:
        seen = camera(k1=-0.1)
        place = np.array([0.2, 0.1, 0.1])
        view = np.array([[0.52, 0.02, 6.0], [-0.02, 0.52, -3.0], [0, 0, 1.0]])
        straight = self.straight(seen, 0.5)
        laid = on_picture(self.dot(seen, place, straight), seen, 1, straight, 1.3, view, (160, 120))
        expected = view @ [*seen.project(1, place), 1.0]
        self.assertLess(float(np.hypot(*(self.middle(laid.rgba, laid.x, laid.y) - expected[:2]))), 0.1)

    def test_without_distortion_nothing_is_sampled_again(self) -> None:
        seen = camera()
        straight = self.straight(seen)
        rng = np.random.default_rng(1)
        rgba = rng.random((straight.window[3], straight.window[2], 4)).astype(np.float32)
        laid = on_picture(rgba, seen, 1, straight, 1.0, np.eye(3), SIZE)
        np.testing.assert_array_equal(laid.rgba, rgba[50 : 50 + SIZE[1], 60 : 60 + SIZE[0]])
        self.assertEqual((laid.x, laid.y), (0, 0))


class Orders(unittest.TestCase):
    def order(self, **more: object) -> RenderRequest:
        thing = Instance(model="form:box", stands=(np.eye(4),))
        made = RenderRequest(things=(thing,), views=(CameraView(eye=np.zeros(3), turn=np.eye(3)),), focal=300.0, principal=(160.0, 120.0),
                     window=(0, 0, 64, 64), lights=lights(), ground=0.0, ground_colour=(0.2, 0.2, 0.2), shadows=True, samples=4)  # fmt: skip
        return replace(made, **more)  # type: ignore[arg-type]

    def test_the_same_order_has_the_same_name_and_any_other_another(self) -> None:
        self.assertEqual(request_digest(self.order()), request_digest(self.order()))
        moved = np.eye(4)
        moved[0, 3] = 1e-6
        others = [
            self.order(focal=300.0001), self.order(samples=16), self.order(shadows=False), self.order(ground=None),
            self.order(things=(Instance(model="form:box", stands=(moved,)),)), self.order(window=(0, 0, 64, 72)),
            self.order(things=(Instance(model="form:box", stands=(np.eye(4),), role="real"),)),
            self.order(lights=replace(lights(), soft=0.06)),
            self.order(lights=replace(lights(), lamps=(Lamp(place=np.eye(4), light=(1.0, 1.0, 1.0)),))),
        ]  # fmt: skip
        names = {request_digest(one) for one in [self.order(), *others]}
        self.assertEqual(len(names), len(others) + 1)

    def test_a_box_stands_on_its_origin(self) -> None:
        self.assertEqual((float(CORNERS[:, 1].min()), float(CORNERS[:, 1].max())), (0.0, 0.2))
        m = np.eye(4)
        m[:3, :3] *= 2
        m[:3, 3] = [1, 2, 3]
        np.testing.assert_allclose(stood(CORNERS, Instance(model="m", stands=(m,)), 0), CORNERS * 2 + [1, 2, 3])
