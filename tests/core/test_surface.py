"""A form's surface as it is compared: what is learnt of it, what is seen, and how a pose changes what it looks like."""

from __future__ import annotations

import unittest

import cv2
import numpy as np
from scipy.spatial.transform import Rotation

from plonket.base.conventions import F64
from plonket.room.meshes.forms import Surface, unit_form
from plonket.track.form.fit import FormPose
from plonket.track.form.surface import LEVELS, Levels, Places, compared
from tests.core.test_form import BOX, FOCAL, SIZE, filmed, stood


def box() -> Surface:
    return unit_form("box").scaled(BOX)


def turned(one: FormPose, by: F64) -> FormPose:
    """Turned by a vector (radians) about the form's own origin before the camera, and shifted."""
    r = Rotation.from_rotvec(by[:3]).as_matrix()
    return FormPose(turn=np.asarray(r @ one.turn), place=one.place + by[3:])


class Learnt(unittest.TestCase):
    def setUp(self) -> None:
        self.pose = stood(-30)
        self.levels = Levels.of(filmed([self.pose]).luma(0))
        self.places = Places(box(), FOCAL, SIZE, 0.6)
        self.count = self.places.learn(self.levels, self.pose, None)

    def test_places_lie_on_the_form_and_look_like_the_frame(self) -> None:
        self.assertGreater(self.count, 1000)
        wide, tall, deep = BOX
        x, y, z = self.places.at.T
        # Each on one of the three sides that this camera sees.
        near = np.stack([np.abs(np.abs(x) - wide / 2), np.minimum(np.abs(y), np.abs(y - tall)), np.abs(np.abs(z) - deep / 2)])
        self.assertLess(float(near.min(axis=0).max()), 1e-5)
        which = np.unique(np.round(self.places.normal).astype(int), axis=0)
        self.assertEqual(len(which), 3)
        pixels = self.pose.seen(self.places.at, FOCAL, SIZE)
        picture = self.levels.pictures[0]
        col, row = np.floor(pixels).astype(int).T
        np.testing.assert_allclose(self.places.look[:, 0], picture[row, col], atol=6)
        self.assertEqual(self.places.look.shape[1], LEVELS)

    def test_nothing_is_learnt_twice_but_a_side_that_comes_into_view_is(self) -> None:
        again = self.places.learn(self.levels, self.pose, None)
        self.assertLess(again, 0.03 * self.count)
        other = stood(45)
        fresh = self.places.learn(Levels.of(filmed([other]).luma(0)), other, None)
        self.assertGreater(fresh, 300)
        normals = self.places.normal[-fresh:]
        before = np.unique(np.round(self.places.normal[: self.count]).astype(int), axis=0)
        new = [n for n in np.unique(np.round(normals).astype(int), axis=0).tolist() if n not in before.tolist()]
        self.assertEqual(len(new), 1)

    def test_where_it_may_not_look_nothing_is_learnt(self) -> None:
        ignored = np.zeros(SIZE[::-1], bool)
        ignored[:, : SIZE[0] // 2] = True
        places = Places(box(), FOCAL, SIZE, 0.6)
        places.learn(self.levels, self.pose, ignored)
        self.assertGreater(len(places.at), 200)
        self.assertGreater(float(self.pose.seen(places.at, FOCAL, SIZE)[:, 0].min()), SIZE[0] / 2)
        self.assertEqual(Places(box(), FOCAL, SIZE, 0.6).learn(self.levels, self.pose, np.ones(SIZE[::-1], bool)), 0)

    def test_what_turns_away_leaves_the_picture_or_is_covered_is_not_seen(self) -> None:
        self.assertGreater(float(self.places.seen(self.pose).mean()), 0.97)
        back = FormPose(turn=self.pose.turn @ np.diag([-1.0, 1.0, -1.0]), place=self.pose.place)
        # From behind, only its top is what it was.
        seen = self.places.seen(back)
        self.assertLess(float(np.abs(self.places.normal[seen] - [0, 1, 0]).max(initial=0)), 1e-6)
        aside = FormPose(turn=self.pose.turn, place=self.pose.place + [2.0, 0, 0])
        self.assertEqual(int(self.places.seen(aside).sum()), 0)
        ignored = np.zeros(SIZE[::-1], bool)
        ignored[: SIZE[1] // 2] = True
        half = self.places.seen(self.pose, ignored)
        self.assertGreater(float(self.pose.seen(self.places.at[half], FOCAL, SIZE)[:, 1].min()), SIZE[1] / 2 - 1)


class Compared(unittest.TestCase):
    def setUp(self) -> None:
        self.pose = stood(-30)
        self.levels = Levels.of(filmed([self.pose]).luma(0))
        self.places = Places(box(), FOCAL, SIZE, 0.6)
        self.places.learn(self.levels, self.pose, None)

    def sums(self, pose: FormPose, gain: float = 1.0, width: float = 60.0, soft: float = 0.0) -> tuple[F64, F64, F64, F64, float]:
        n = len(self.places.at)
        a, b = np.zeros((6, 6)), np.zeros(6)
        off, weight = np.zeros(n, np.float32), np.zeros(n, np.float32)
        picture = self.levels.pictures[0]
        if soft:
            picture = np.asarray(cv2.GaussianBlur(picture, (0, 0), soft), np.float32)
        cost = compared(picture, self.places.at, self.places.look[:, 0].copy(), pose.turn, pose.place, FOCAL,
                        SIZE[0] / 2, SIZE[1] / 2, gain, width, a, b, off, weight)  # fmt: skip
        return a, b, off.astype(np.float64), weight.astype(np.float64), cost

    def test_at_the_true_pose_nothing_is_left_to_do(self) -> None:
        a, b, off, weight, cost = self.sums(self.pose)
        self.assertLess(float(np.sqrt(cost)), 0.05)
        self.assertLess(float(np.abs(off).max()), 0.5)
        self.assertGreater(float(weight.min()), 0.99)
        step = np.linalg.solve(a, b)
        self.assertLess(float(np.abs(step).max()), 1e-5)
        np.testing.assert_allclose(a, a.T)

    def test_its_slopes_are_those_of_the_residuals(self) -> None:
        rng = np.random.default_rng(1)
        start = turned(self.pose, rng.normal(0, 1, 6) * [2e-3, 2e-3, 2e-3, 1e-3, 1e-3, 2e-3])
        # Slopes are taken over two pixels: they are exact where the picture is soft.
        _, b, off, weight, _ = self.sums(start, soft=4.0)
        # Against differences of the residuals themselves, with the weights as they are.
        for p in range(6):
            h = 3e-4
            step = np.zeros(6)
            step[p] = h
            up, down = (self.sums(turned(start, k * step), soft=4.0)[2] for k in (1, -1))
            slope = (up - down) / (2 * h)
            expected = -float((weight * slope * off).sum())
            scale = float(np.sqrt((weight * slope**2).sum() * (weight * off**2).sum()))
            self.assertAlmostEqual(float(b[p]) / scale, expected / scale, delta=0.06, msg=str(p))

    def test_steps_lead_to_the_true_pose(self) -> None:
        pose = turned(self.pose, np.array([0.004, -0.006, 0.005, 0.0012, -0.001, 0.004]))
        corners = unit_form("box").scaled(BOX).vertices
        true = self.pose.seen(corners, FOCAL, SIZE)
        before = float(np.linalg.norm(pose.seen(corners, FOCAL, SIZE) - true, axis=1).mean())
        for _ in range(12):
            a, b, *_ = self.sums(pose)
            pose = turned(pose, np.linalg.solve(a, b))
        after = float(np.linalg.norm(pose.seen(corners, FOCAL, SIZE) - true, axis=1).mean())
        self.assertGreater(before, 1.0)
        self.assertLess(after, 0.01)

    def test_what_is_far_off_counts_for_nothing(self) -> None:
        _, _, off, weight, _ = self.sums(turned(self.pose, np.array([0.0, 0, 0, 0.003, 0, 0])), width=8.0)
        self.assertTrue((weight[np.abs(off) >= 8] == 0).all())
        near = np.abs(off) < 8
        np.testing.assert_allclose(weight[near], (1 - (off[near] / 8) ** 2) ** 2, atol=1e-4)
        self.assertTrue((~near).any() and near.any())

    def test_behind_the_camera_there_is_nothing(self) -> None:
        behind = FormPose(turn=self.pose.turn, place=self.pose.place - [0, 0, 3])
        _, b, _, weight, cost = self.sums(behind)
        self.assertEqual((float(np.abs(b).max()), float(weight.max()), cost), (0, 0, 0))

    def test_slow_light_is_taken_off(self) -> None:
        luma = filmed([self.pose]).luma(0)
        ramp = np.linspace(0, 40, SIZE[0])[None, :]
        bright = np.clip(luma * 0.7 + ramp, 0, 255).astype(np.uint8)
        inside = np.s_[40:-40, 40:-40]
        for one, other in zip(Levels.of(luma).pictures, Levels.of(bright).pictures, strict=True):
            gap = other[inside] - 0.7 * one[inside]
            self.assertLess(float(np.abs(gap).mean()), 0.4)
