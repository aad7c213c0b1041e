"""Following: perches, chains, parts of a movement, pins, beams and motion blur."""

from __future__ import annotations

import unittest

import numpy as np

from plonket.base.conventions import F64
from plonket.base.errors import BadInput
from plonket.base.fields import Key, Keyed
from plonket.base.homography import jacobian, transform_point
from plonket.base.outlines import carry
from plonket.document.follow import Follow
from plonket.document.hashes import picture_hash
from plonket.document.perch import Perch
from plonket.document.shot import Footage, Shot, read_shot
from plonket.layers.beam import Anchor, BeamLayer, course, spots_along, swings
from plonket.layers.common import instants
from plonket.layers.pin import PinLayer, fitted, quad_shape
from plonket.layers.still import StillLayer, frame_from_still
from plonket.render.frame import render_frame
from plonket.track.following import Parts, local_movement
from plonket.track.movement import between, bridge, smoothed, steadied
from plonket.track.spaces import Spaces
from tests.core.test_comp import FakeSources, centroid

TILTED = np.array([[1.1, 0.08, 12.0], [-0.05, 0.95, -7.0], [4e-4, -2e-4, 1.0]])


def moving(n: int = 12) -> F64:
    """A movement that goes from nothing to TILTED."""
    return np.stack([np.eye(3) + (TILTED - np.eye(3)) * i / (n - 1) for i in range(n)])


class Carrying(unittest.TestCase):
    def test_perspective_takes_all_of_it(self) -> None:
        np.testing.assert_allclose(local_movement(Parts(perspective=True), TILTED, TILTED, np.array([30.0, 40])), TILTED)

    def test_without_perspective_the_spot_goes_where_the_surface_goes(self) -> None:
        at = np.array([30.0, 40])
        m = local_movement(Parts(), TILTED, TILTED, at)
        np.testing.assert_allclose(transform_point(m, at), transform_point(TILTED, at))
        j = jacobian(TILTED, at)
        self.assertAlmostEqual(np.linalg.det(m[:2, :2]), np.linalg.det(j), places=9)
        self.assertAlmostEqual(m[0, 0], m[1, 1])

    def test_derivative_matches_differences(self) -> None:
        at = np.array([30.0, 40])
        for k in range(2):
            step = np.eye(2)[k] * 1e-5
            difference = (transform_point(TILTED, at + step) - transform_point(TILTED, at - step)) / 2e-5
            np.testing.assert_allclose(jacobian(TILTED, at)[:, k], difference, atol=1e-6)

    def test_shift_alone_and_everything_but_shift(self) -> None:
        at = np.array([30.0, 40])
        only = local_movement(Parts(turn=False, size=False), TILTED, np.eye(3), at)
        np.testing.assert_allclose(only[:2, :2], np.eye(2))
        stays = local_movement(Parts(shift=False), TILTED, np.eye(3), at)
        np.testing.assert_allclose(transform_point(stays, at), at)
        tilts = local_movement(Parts(shift=False, perspective=True), TILTED, np.eye(3), at)
        np.testing.assert_allclose(transform_point(tilts, at), at)


class Perches(unittest.TestCase):
    def spaces(self, *perches: Perch) -> Spaces:
        return Spaces(perches, lambda motion, reference: moving(), (200, 120))

    def test_things_on_a_perch_move_turn_and_grow_with_it(self) -> None:
        perch = Perch(id="p", name="P", x=50.0, y=60.0, turn=90.0, size=200.0)
        layer = StillLayer(id="l", name="l", asset="a" * 64, width=20, height=10, x=10.0, y=0.0, follow=Follow(target="p"))
        m = frame_from_still(layer, self.spaces(perch), 0)
        # Ten pixels along a perch that is turned by a quarter and twice as large lie twenty pixels below it.
        np.testing.assert_allclose(transform_point(m, np.array([10.0, 5])), [50, 80], atol=1e-9)
        self.assertAlmostEqual(np.sqrt(np.linalg.det(m[:2, :2])), 2.0)

    def test_children_of_children(self) -> None:
        low = Perch(id="low", name="Low", x=50.0, y=60.0, size=50.0, follow=Follow(target="m", perspective=True))
        high = Perch(id="high", name="High", x=20.0, y=0.0, turn=30.0, follow=Follow(target="low"))
        layer = StillLayer(id="l", name="l", asset="a" * 64, width=4, height=4, x=8.0, y=2.0, follow=Follow(target="high"))
        spaces = self.spaces(low, high)
        a = np.radians(30)
        inner = np.array([20 + 8 * np.cos(a) - 2 * np.sin(a), 8 * np.sin(a) + 2 * np.cos(a)])
        at_start = np.array([50, 60]) + 0.5 * inner
        for frame in (0, 7, 11):
            found = transform_point(frame_from_still(layer, spaces, frame), np.array([2.0, 2]))
            truth = transform_point(moving()[frame], at_start)
            # High takes the similarity that low's tilted space has at its foot: near it, that is close.
            np.testing.assert_allclose(found, truth, atol=0.3)

    def test_a_perch_cannot_sit_on_itself(self) -> None:
        document = {
            "name": "s",
            "perches": [{"id": "a", "name": "A", "follow": {"target": "b"}},
                        {"id": "b", "name": "B", "follow": {"target": "a"}}],
        }  # fmt: skip
        with self.assertRaises(BadInput) as caught:
            read_shot(document)
        self.assertIn("sits on itself", caught.exception.message)

    def test_inverted_and_smoothed(self) -> None:
        spaces = self.spaces()
        there = spaces.of(Follow(target="m"), 9)
        back = spaces.of(Follow(target="m", inverted=True), 9)
        np.testing.assert_allclose((there @ back) / (there @ back)[2, 2], np.eye(3), atol=1e-9)
        shaky = moving(60)
        rng = np.random.default_rng(1)
        shaky[:, :2, 2] += rng.normal(0, 2, (60, 2))
        calm = steadied(shaky, 0, 6.0, (200, 120))
        np.testing.assert_allclose(calm[0], np.eye(3), atol=1e-9)
        rough = np.abs(np.diff(shaky[:, 0, 2], 2)).mean()
        self.assertLess(np.abs(np.diff(calm[:, 0, 2], 2)).mean(), rough / 10)

    def test_moving_a_perch_by_keys_moves_what_sits_on_it(self) -> None:
        perch = Perch(id="p", name="P", x=Keyed(keys=[Key(frame=0, value=0, ease="linear"), Key(frame=10, value=40)]), y=5.0)
        spaces = self.spaces(perch)
        np.testing.assert_allclose(transform_point(spaces.perch(perch, 5), np.zeros(2)), [20, 5])


class Paths(unittest.TestCase):
    def test_smoothing_keeps_a_steady_move(self) -> None:
        line = np.stack([np.arange(50) * 1.5 + 3, np.arange(50) * -0.5], axis=1)
        np.testing.assert_allclose(smoothed(line, 5.0), line, atol=1e-9)

    def test_curved_bridges_keep_their_speed(self) -> None:
        x = np.arange(40.0)
        values = np.stack([0.05 * (x - 10) ** 2, x], axis=1)
        known = np.ones(40, bool)
        known[15:25] = False
        line, curve = bridge(values, known, "line"), bridge(values, known, "curve")
        self.assertLess(np.abs(curve - values).max(), 0.5 * np.abs(line - values).max())

    def test_fractions_of_frames_lie_on_the_path(self) -> None:
        path = np.tile(np.eye(3), (9, 1, 1))
        path[:, 0, 2] = (np.arange(9.0) - 4) ** 2
        self.assertAlmostEqual(between(path, 3.75)[0, 2], 0.0625)
        self.assertAlmostEqual(between(path, 6.0)[0, 2], 4.0)


def shot_of(*layers: object, perches: list[Perch] | None = None) -> Shot:
    footage = Footage(asset="a" * 64, name="c", width=200, height=120, rate="30/1", frames=12, in_frame=0, out_frame=11)
    plane = {"kind": "plane", "id": "plane", "name": "Plane", "measurement": "c" * 64,
             "quad": [(40, 30), (120, 30), (120, 90), (40, 90)]}  # fmt: skip
    data = {"name": "s", "footage": footage.model_dump(), "motions": [plane],
            "perches": [p.model_dump() for p in perches or []], "stack": [layer.model_dump() for layer in layers]}  # type: ignore[attr-defined]  # fmt: skip
    return read_shot(data)


class Pins(unittest.TestCase):
    PIN = PinLayer(id="l", name="l", asset="b" * 64, width=64, height=64, plane="plane")

    def cover(self, layer: PinLayer, movement: F64 | None = None, frame: int = 0) -> np.ndarray:
        out = render_frame(shot_of(layer), FakeSources(movement), frame, view="matte")
        return out[..., 0].astype(float) / 255

    def test_the_middle_lies_in_the_middle_of_the_quad(self) -> None:
        x, y = centroid(self.cover(self.PIN))
        self.assertAlmostEqual(x, 80, delta=0.1)
        self.assertAlmostEqual(y, 60, delta=0.1)

    def test_it_rides_on_the_plane(self) -> None:
        quad = np.array([[40.0, 30], [120, 30], [120, 90], [40, 90]])
        x, y = centroid(self.cover(self.PIN, moving(), 11))
        truth = carry(quad, TILTED)
        self.assertAlmostEqual(x, truth[:, 0].mean(), delta=2.0)
        self.assertAlmostEqual(y, truth[:, 1].mean(), delta=2.0)

    def test_fit_and_fill_keep_the_pictures_shape(self) -> None:
        quad = np.array([[0.0, 0], [80, 0], [80, 60], [0, 60]])
        self.assertAlmostEqual(quad_shape(quad), 4 / 3)
        wide = self.PIN.model_copy(update={"width": 200, "height": 50})
        used, target = fitted(wide.model_copy(update={"fit": "fit"}), quad)
        self.assertAlmostEqual(target[2, 1] - target[0, 1], 1 / 3)
        np.testing.assert_allclose(used[2], [200, 50])
        used, target = fitted(wide.model_copy(update={"fit": "fill"}), quad)
        self.assertAlmostEqual((used[2, 0] - used[0, 0]) / 50, 4 / 3)
        np.testing.assert_allclose(target[2], [1, 1])

    def test_every_setting_changes_the_picture(self) -> None:
        wide = self.PIN.model_copy(update={"width": 64, "height": 40})
        base = self.cover(wide, moving(), 6)
        for change in ({"fit": "fit"}, {"fit": "fill"}, {"soft": 8.0}, {"opacity": 30.0}):
            self.assertGreater(np.abs(self.cover(wide.model_copy(update=change), moving(), 6) - base).max(), 0.1, change)
        swift = moving()
        swift[:, 0, 2] += np.arange(12) * 20.0
        still, blurred = (self.cover(self.PIN.model_copy(update={"shutter": s}), swift, 6) for s in (0.0, 180.0))
        self.assertGreater(np.abs(still - blurred).max(), 0.1)
        self.assertAlmostEqual(still.sum(), blurred.sum(), delta=0.02 * still.sum())

    def test_sub_frames_are_as_many_as_the_movement_needs(self) -> None:
        self.assertEqual(instants(0, 50), [0.0])
        self.assertEqual(instants(180, 0.5), [0.0])
        some = instants(180, 20)
        self.assertEqual(len(some), 13)
        self.assertAlmostEqual(sum(some), 0)
        self.assertLess(max(some), 0.25)


class Beams(unittest.TestCase):
    def beam(self, **settings: object) -> BeamLayer:
        ends = [Anchor(target="plane", x=30, y=30), Anchor(target="plane", x=150, y=30)]
        return BeamLayer(id="l", name="l", anchors=ends, **settings)  # type: ignore[arg-type]

    def test_it_runs_between_its_anchors_and_no_further(self) -> None:
        out = render_frame(shot_of(self.beam(width=6.0, glow=0.0)), FakeSources(), 0, view="matte")[..., 0]
        self.assertTrue((out[28:32, 34:146] > 250).all())
        self.assertEqual(int(out[:, :24].max()), 0)
        self.assertAlmostEqual(float(out[:, 90].astype(float).sum()) / 255, 6.0, delta=0.1)

    def test_its_ends_ride_on_the_motion(self) -> None:
        out = render_frame(shot_of(self.beam(width=4.0, glow=0.0)), FakeSources(moving()), 11, view="matte")[..., 0]
        y, x = np.nonzero(out > 128)
        left = carry(np.array([[30.0, 30]]), TILTED)[0]
        self.assertAlmostEqual(x.min() + 0.5, left[0], delta=2.5)

    def test_hanging_sags_by_what_was_asked(self) -> None:
        beam = self.beam(curve="hanging")
        line = course(beam, np.array([[30.0, 30], [150, 30]]), 25.0)
        self.assertAlmostEqual(line[:, 1].max(), 30 + 0.25 * 120, delta=0.1)
        through = course(self.beam(curve="smooth"), np.array([[0.0, 0], [50, 40], [100, 0]]), 0)
        self.assertLess(np.hypot(*(through - [50, 40]).T).min(), 1e-9)

    def test_hung_things_are_evenly_spaced_and_swing_against_the_move(self) -> None:
        beam = self.beam(curve="hanging", beads=3, bead_height=100, bead_size=30.0)
        spots = spots_along(np.array([[0.0, 0], [80, 0]]), np.array([0.25, 0.5, 0.75]))
        np.testing.assert_allclose(spots[:, 0], [20, 40, 60])
        jerk = np.tile(np.eye(3), (12, 1, 1))
        jerk[6:, 0, 2] = 15.0  # the set jumps to the right
        self.assertTrue((swings(beam, FakeSources(), 8, np.array([0.5])) == 0).all())
        angle = swings(beam, FakeSources(jerk), 7, np.array([0.5]))[0]
        self.assertGreater(abs(angle), 0.05)
        again = swings(beam, FakeSources(jerk), 7, np.array([0.5]))[0]
        self.assertEqual(angle, again)

    def test_every_setting_changes_the_picture(self) -> None:
        base = render_frame(shot_of(self.beam()), FakeSources(), 0)
        changes = ({"width": 12.0}, {"taper": 80.0}, {"colour": "#3355ff"}, {"glow": 40.0}, {"glow_strength": 150.0},
                   {"from_part": 40.0}, {"to_part": 50.0}, {"curve": "hanging"}, {"opacity": 30.0})  # fmt: skip
        for change in changes:
            self.assertFalse(np.array_equal(base, render_frame(shot_of(self.beam(**change)), FakeSources(), 0)), change)
        hung = self.beam(bead="b" * 64, bead_width=64, bead_height=64, beads=3, bead_size=40.0)
        picture = render_frame(shot_of(hung), FakeSources(), 0)
        self.assertFalse(np.array_equal(base, picture))
        lower = hung.model_copy(update={"held_at": 50.0})
        self.assertFalse(np.array_equal(picture, render_frame(shot_of(lower), FakeSources(), 0)))


class HeldStill(unittest.TestCase):
    def test_what_is_pinned_stands_still_while_the_surface_moves(self) -> None:
        pin = PinLayer(id="l", name="l", asset="b" * 64, width=64, height=64, plane="plane")
        spots = []
        for frame in (0, 4, 8):
            out = render_frame(shot_of(pin), FakeSources(moving()), frame, view="matte", held="plane")[..., 0].astype(float)
            spots.append(centroid(np.where(out > 60, out, 0)))
        np.testing.assert_allclose(spots[1], spots[0], atol=0.2)
        np.testing.assert_allclose(spots[2], spots[0], atol=0.3)


class Hashes(unittest.TestCase):
    def test_pictures_depend_on_stakes_and_perches_not_on_names(self) -> None:
        base = shot_of()
        named = base.model_copy(update={"perches": [Perch(id="p", name="A")]})
        other = base.model_copy(update={"perches": [Perch(id="p", name="B")]})
        moved = base.model_copy(update={"perches": [Perch(id="p", name="A", x=3.0)]})
        self.assertEqual(picture_hash(named), picture_hash(other))
        self.assertNotEqual(picture_hash(named), picture_hash(moved))
        stakes = [{"frame": 3, "corners": [(1, 2), None, None, None]}]
        plane = base.motions[0].model_dump() | {"stakes": stakes}
        staked = read_shot(base.model_dump() | {"motions": [plane]})
        self.assertNotEqual(picture_hash(base), picture_hash(staked))
        drawn = base.motions[0].model_dump() | {"grid": True, "reach_px": 99}
        self.assertEqual(picture_hash(base), picture_hash(read_shot(base.model_dump() | {"motions": [drawn]})))
