"""The matcher recovers known warps, in the presence of light changes and things in the way."""

from __future__ import annotations

import unittest

import cv2
import numpy as np
from scipy import ndimage

from plonket.track.points import matcher
from synth.phone.texture import layered_noise


def texture(seed: int = 3, cell: float = 40) -> np.ndarray:
    """A picture with detail at several scales, 0 to 255."""
    noise = layered_noise((240, 200), cell=(cell, cell), octaves=4, seed=seed, gain=0.75)
    return np.clip(128 + 150 * noise, 0, 255).astype(np.float32)


def warped(picture: np.ndarray, linear: np.ndarray, centre: np.ndarray, to: np.ndarray) -> np.ndarray:
    """The picture moved so that `centre` lands on `to` (array indices), turned and scaled by `linear`."""
    back = np.linalg.inv(linear)[::-1, ::-1]  # row-major order, as SciPy wants it
    offset = centre[::-1] - back @ to[::-1]
    return np.asarray(ndimage.affine_transform(picture, back, offset, order=5, mode="reflect"), np.float32)


def at(centre: np.ndarray) -> np.ndarray:
    """A pattern upright at a place."""
    return np.array([[1.0, 0, centre[0]], [0, 1.0, centre[1]], [0, 0, 1.0]])


class Recovering(unittest.TestCase):
    CENTRE = np.array([120.0, 100.0])

    def found(self, linear: np.ndarray, to: np.ndarray, dof: int, half: int = 14, change=lambda p: p,
              start: tuple[float, float] = (1.3, -0.9)) -> matcher.Match:  # type: ignore[no-untyped-def]  # fmt: skip
        picture = cv2.GaussianBlur(texture(), (0, 0), 1.0)
        pattern = matcher.cut_pattern(matcher.prepare(picture), self.CENTRE, half)
        other = matcher.prepare(change(warped(picture, linear, self.CENTRE, to)))
        warp = at(to + start)
        return matcher.refine(other, pattern, warp, dof)

    def test_shift(self) -> None:
        for dx, dy in ((0.0, 0.0), (0.25, -0.4), (3.71, 2.13), (-6.5, 4.9)):
            to = self.CENTRE + [dx, dy]
            match = self.found(np.eye(2), to, matcher.SHIFT)
            np.testing.assert_allclose(match.centre, to, atol=0.03)
            self.assertGreater(match.ncc_inliers, 0.98)

    def test_turn_and_size(self) -> None:
        for angle, scale in ((4.0, 1.0), (-7.0, 1.08), (0.0, 0.9)):
            a = np.radians(angle)
            linear = scale * np.array([[np.cos(a), -np.sin(a)], [np.sin(a), np.cos(a)]])
            match = self.found(linear, self.CENTRE + [2.2, 1.7], matcher.SIMILAR)
            np.testing.assert_allclose(match.centre, self.CENTRE + [2.2, 1.7], atol=0.04)
            np.testing.assert_allclose(match.linear, linear, atol=0.01)

    def test_skew(self) -> None:
        linear = np.array([[1.05, 0.08], [-0.03, 0.94]])
        match = self.found(linear, self.CENTRE + [1.5, -2.5], matcher.AFFINE)
        np.testing.assert_allclose(match.centre, self.CENTRE + [1.5, -2.5], atol=0.04)
        np.testing.assert_allclose(match.linear, linear, atol=0.012)

    def test_perspective(self) -> None:
        """A card turned away: its far side is smaller, which skew cannot say."""
        picture = cv2.GaussianBlur(texture(), (0, 0), 1.0)
        pattern = matcher.cut_pattern(matcher.prepare(picture), self.CENTRE, 30)
        true = np.array([[1.02, 0.03, 2.1], [-0.02, 0.97, -1.3], [0.0035, -0.0022, 1.0]])
        move = np.array([[1, 0, self.CENTRE[0]], [0, 1, self.CENTRE[1]], [0, 0, 1.0]])
        other = cv2.warpPerspective(picture, move @ true @ np.linalg.inv(move), picture.shape[::-1], flags=cv2.INTER_CUBIC)
        match = matcher.refine(matcher.prepare(other), pattern, at(self.CENTRE), matcher.PERSPECTIVE)
        np.testing.assert_allclose(match.centre, self.CENTRE + [2.1, -1.3], atol=0.04)
        np.testing.assert_allclose(match.warp[2, :2], true[2, :2], atol=3e-4)

    def test_light_gain_and_offset_do_not_pull(self) -> None:
        to = self.CENTRE + [1.6, 0.7]
        match = self.found(np.eye(2), to, matcher.SHIFT, change=lambda p: p * 0.55 + 60)
        np.testing.assert_allclose(match.centre, to, atol=0.03)
        self.assertAlmostEqual(match.gain, 0.55, delta=0.03)

    def test_a_thing_over_a_corner_does_not_pull(self) -> None:
        to = self.CENTRE + [0.8, 0.6]

        def covered(p: np.ndarray) -> np.ndarray:
            out = p.copy()
            out[int(to[1]) - 14 : int(to[1]) - 3, int(to[0]) - 14 : int(to[0]) + 1] = 15
            return out

        match = self.found(np.eye(2), to, matcher.SHIFT, change=covered, start=(0.5, -0.4))
        np.testing.assert_allclose(match.centre, to, atol=0.12)
        self.assertLess(match.inlier_share, 0.97)

    def test_search_finds_far_shifts(self) -> None:
        picture = texture()
        ready = matcher.prepare(picture)
        pattern = matcher.cut_pattern(ready, self.CENTRE, 12)
        moved = matcher.prepare(np.roll(picture, (-23, 31), axis=(0, 1)))
        spots = matcher.search(moved, pattern.patch, self.CENTRE, 45)
        self.assertLess(np.abs(spots[0][0] - (self.CENTRE + [31, -23])).max(), 1.6)
        self.assertEqual(matcher.search(moved[:10, :10], pattern.patch, np.array([5.0, 5.0]), 20), [])

    def test_something_else_is_not_like_it(self) -> None:
        pattern = matcher.cut_pattern(matcher.prepare(texture(3, 9)), self.CENTRE, 12)
        warp = at(self.CENTRE)
        match = matcher.refine(matcher.prepare(texture(99, 9)), pattern, warp, matcher.SIMILAR)
        self.assertLess(match.ncc_inliers * match.inlier_share, 0.6)

    def test_outside_the_picture_is_no_match(self) -> None:
        pattern = matcher.cut_pattern(matcher.prepare(texture()), self.CENTRE, 12)
        warp = at(np.array([-40.0, -40.0]))
        self.assertEqual(matcher.refine(matcher.prepare(texture()), pattern, warp, matcher.SHIFT).ncc_inliers, -1.0)
