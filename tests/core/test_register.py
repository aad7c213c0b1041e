"""A region registered directly with a frame: exact warps recovered, honest about what it knows, undisturbed by what covers it."""

from __future__ import annotations

import unittest

import cv2
import numpy as np
from scipy.ndimage import map_coordinates

from plonket.base.conventions import F32, F64, U8
from plonket.base.cubic import cubic_weights
from plonket.base.errors import Degenerate
from plonket.track.plane.kernels import ROWS, accumulate
from plonket.track.plane.register import FrameLevels, Registration, register
from plonket.track.plane.settings import FREEDOMS
from plonket.track.plane.template import BLURS_PX, TILES, cut_template

SIZE = (320, 240)
BOX = (90, 60, 230, 170)
CORNERS = np.array([[90, 60], [230, 60], [230, 170], [90, 170]], np.float64)
FULL = FREEDOMS.index("perspective") if "perspective" in FREEDOMS else len(FREEDOMS) - 1


def texture(seed: int = 1) -> F32:
    """Soft blobs of several sizes, (h, w) in code values."""
    rng = np.random.default_rng(seed)
    out = np.zeros((SIZE[1], SIZE[0]), np.float32)
    for sigma, share in ((2.0, 30), (5.0, 40), (14.0, 60)):
        part = cv2.GaussianBlur(rng.standard_normal(out.shape).astype(np.float32), (0, 0), sigma)
        out += share * part / part.std() / 2
    return out + 120


def warped(picture: F32, m: F64) -> F32:
    """The picture moved by a homography between pixel coordinates whose centres are at a half."""
    y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]] + 0.5
    from_ = through(np.linalg.inv(m), np.stack([x.ravel(), y.ravel()], axis=1)) - 0.5
    return np.asarray(map_coordinates(picture, from_[:, ::-1].T, order=5, mode="reflect").reshape(picture.shape), np.float32)


def coded(picture: F32) -> U8:
    return np.clip(picture + 0.5, 0, 255).astype(np.uint8)


def mask() -> U8:
    out = np.zeros((SIZE[1], SIZE[0]), np.uint8)
    out[BOX[1] : BOX[3], BOX[0] : BOX[2]] = 255
    return out


def through(m: F64, at: F64) -> F64:
    out = np.hstack([at, np.ones((len(at), 1))]) @ m.T
    return np.asarray(out[:, :2] / out[:, 2:])


def found(reference: F32, frame: F32, start: F64 | None = None, freedom: int = FULL, **more: object) -> Registration:
    levels = FrameLevels(coded(frame), (0, 0, *SIZE), more.pop("ignore", None))  # type: ignore[arg-type]
    return register(cut_template(coded(reference), mask()), levels, np.eye(3) if start is None else start, freedom=freedom,
                    **more)  # type: ignore[arg-type]  # fmt: skip


def off(one: Registration, m: F64) -> float:
    """Mean distance of the corners from where they truly are."""
    return float(np.linalg.norm(through(one.homography, CORNERS) - through(m, CORNERS), axis=1).mean())


def move(x: float, y: float, turn: float = 0.0, size: float = 1.0, lean: tuple[float, float] = (0.0, 0.0)) -> F64:
    """About the region's middle."""
    cx, cy = CORNERS.mean(axis=0)
    c, s = size * np.cos(turn), size * np.sin(turn)
    there = np.array([[c, -s, cx + x], [s, c, cy + y], [0, 0, 1]])
    return np.asarray(there @ np.array([[1, 0, 0], [0, 1, 0], [*lean, 1]]) @ np.array([[1, 0, -cx], [0, 1, -cy], [0, 0, 1]]))


class Recovered(unittest.TestCase):
    def test_warps_of_every_kind(self) -> None:
        reference = texture()
        for name, m in (
            ("translation", move(3.37, -2.61)),
            ("similarity", move(1.2, 2.3, turn=0.05, size=1.04)),
            ("affine", move(-1.4, 0.6) @ move(0, 0) @ np.array([[1.02, 0.03, -3.9], [-0.01, 0.98, 3.1], [0, 0, 1]])),
            ("perspective", move(2.0, -1.0, turn=-0.03, lean=(3e-4, -2e-4))),
        ):
            with self.subTest(name):
                one = found(reference, warped(reference, m))
                self.assertLess(off(one, m), 0.03)
                self.assertGreater(one.ncc_inliers, 0.99)
                self.assertGreater(one.coverage, 0.95)

    def test_no_more_is_changed_than_is_allowed(self) -> None:
        reference = texture()
        m = move(1.2, 2.3, turn=0.03, size=1.02)
        frame = warped(reference, m)
        shift = found(reference, frame, freedom=FREEDOMS.index("translation")).homography
        np.testing.assert_allclose(shift[:2, :2], np.eye(2), atol=1e-9)
        alike = found(reference, frame, freedom=FREEDOMS.index("similarity")).homography
        np.testing.assert_allclose([alike[0, 0], alike[1, 0]], [alike[1, 1], -alike[0, 1]], atol=1e-9)
        np.testing.assert_allclose(alike[2], [0, 0, 1], atol=1e-9)
        self.assertLess(float(np.abs(through(alike, CORNERS) - through(m, CORNERS)).max()), 0.05)

    def test_the_light_may_change_and_is_told(self) -> None:
        reference, m = texture(), move(1.7, -0.8, turn=0.01)
        slope = np.linspace(-12, 12, SIZE[0], dtype=np.float32)[None, :]
        one = found(reference, np.asarray(0.8 * warped(reference, m) + 14 + slope))
        self.assertLess(off(one, m), 0.04)
        gain, offset, across, down = one.light
        self.assertAlmostEqual(gain, 0.8, delta=0.01)
        radius = float(np.hypot(140, 110)) / 2
        self.assertAlmostEqual(across, 24 / (SIZE[0] - 1) * radius, delta=0.5)
        self.assertAlmostEqual(down, 0, delta=0.5)
        self.assertAlmostEqual(offset, 14, delta=2.5)

    def test_a_frame_out_of_focus_is_matched_with_a_soft_reference(self) -> None:
        reference, m = texture(), move(1.1, 0.4)
        for blur in (1, 3):
            soft = cv2.GaussianBlur(warped(reference, m), (0, 0), BLURS_PX[blur])
            one = found(reference, np.asarray(soft, np.float32))
            self.assertEqual(one.blur, blur)
            self.assertLess(off(one, m), 0.05)


class Covered(unittest.TestCase):
    def test_what_covers_a_part_is_left_out_and_counted(self) -> None:
        reference, m = texture(), move(1.3, -1.1, turn=0.01)
        frame = warped(reference, m)
        other = texture(9)
        # The right third of the region lies behind something with detail of its own.
        frame[:, 185:] = other[:, 185:]
        one = found(reference, frame)
        self.assertLess(off(one, m), 0.12)
        tiles = one.tiles.reshape(TILES, TILES)
        self.assertGreater(float(tiles[:, :7].mean()), 0.9)
        self.assertLess(float(tiles[:, -3:].mean()), 0.1)
        self.assertAlmostEqual(one.coverage, 0.68, delta=0.08)
        self.assertGreater(one.ncc_inliers, one.ncc_all + 0.1)

    def test_what_is_to_be_ignored_has_no_say(self) -> None:
        reference, m = texture(), move(1.3, -1.1)
        frame = warped(reference, m)
        frame[:, 185:] = warped(reference, move(6.0, 4.0))[:, 185:]
        ignore = np.zeros((SIZE[1], SIZE[0]), np.uint8)
        ignore[:, 183:] = 255
        one = found(reference, frame, ignore=ignore)
        self.assertLess(off(one, m), 0.05)
        self.assertAlmostEqual(one.inside, 0.67, delta=0.06)

    def test_beyond_the_frame_s_edge(self) -> None:
        reference = texture()
        m = move(130.0, 0.0)
        one = found(reference, warped(reference, m), start=move(127.5, 1.0))
        self.assertLess(off(one, m), 0.2)
        self.assertAlmostEqual(one.inside, (SIZE[0] - 220) / 140, delta=0.06)


class Honest(unittest.TestCase):
    def test_its_expected_error_is_its_true_one(self) -> None:
        reference, m = texture(), move(1.3, -0.7, turn=0.008)
        clean = warped(reference, m)
        rng = np.random.default_rng(5)
        true, told = [], []
        for _ in range(24):
            noisy = np.asarray(clean + rng.normal(0, 6, clean.shape), np.float32)
            one = found(np.asarray(reference + rng.normal(0, 6, clean.shape), np.float32), noisy)
            d = through(one.homography, CORNERS) - through(m, CORNERS)
            true.append(float((d**2).sum(axis=1).mean()))
            told.append(one.error_px)
        self.assertLess(float(np.sqrt(np.mean(true))), 0.15)
        self.assertTrue(0.5 < float(np.median(told)) / float(np.sqrt(np.mean(true))) < 3, (np.median(told), np.mean(true)))

    def test_its_sums_are_those_of_plain_least_squares(self) -> None:
        rng = np.random.default_rng(2)
        n = 900
        picture = texture()
        uv = rng.uniform(-0.8, 0.8, (n, 2)).astype(np.float32)
        m = np.array([[90.0, 3.0, 158.0], [-2.0, 88.0, 121.0], [0.004, -0.003, 1.0]])
        tile = rng.integers(0, TILES * TILES, n).astype(np.int32)
        at = through(m, uv.astype(np.float64))
        seen = cv2.remap(picture, at[None, :, 0].astype(np.float32), at[None, :, 1].astype(np.float32), cv2.INTER_LINEAR)[0]
        values = (0.9 * seen - 6 + rng.normal(0, 1.5, n)).astype(np.float32)
        grad = rng.normal(0, 40, (n, 2)).astype(np.float32)
        ones = np.ones(n, np.float32)
        normal, right, asked, weights, _, _, light, *_ = accumulate(
            picture, np.zeros((1, 1), np.uint8), 1.0, m, uv, tile, values, grad, ones, np.ones(TILES * TILES),
            np.array([1.0, 0, 0, 0]), False, False, True, True, 1e3, 0.01)  # fmt: skip
        u, v = uv.astype(np.float64).T
        design = np.stack([values, np.ones(n), u, v], axis=1).astype(np.float64)
        ncc_all = np.linalg.lstsq(design, seen.astype(np.float64), rcond=None)[0]
        np.testing.assert_allclose(light, ncc_all, rtol=2e-3, atol=0.05)
        residual = seen - design @ light
        gx, gy = light[0] * grad.astype(np.float64).T
        along = gx * u + gy * v
        rows = np.stack([gx * u, gy * u, gx * v, gy * v, gx, gy, -u * along, -v * along, values, np.ones(n), u, v], axis=1)
        w = weights.astype(np.float64)
        self.assertGreater(float(w.mean()), 0.5)
        expected = rows.T @ (w[:, None] * rows)
        np.testing.assert_allclose(normal, expected, rtol=2e-3, atol=2e-4 * float(np.abs(expected).max()))
        pull = rows.T @ (w * residual)
        np.testing.assert_allclose(right, pull, atol=3e-3 * float(np.abs(pull).max()))
        # What the tiles ask for, each by itself, is all of it.
        self.assertEqual(asked.shape, (TILES * TILES, ROWS))
        np.testing.assert_allclose(asked.sum(axis=0), right, atol=3e-3 * float(np.abs(pull).max()))

    def test_nothing_to_hold_on_to_is_said(self) -> None:
        flat = np.full((SIZE[1], SIZE[0]), 128, np.uint8)
        with self.assertRaises(Degenerate) as told:
            cut_template(flat, mask())
        self.assertIn("no detail", told.exception.message)
        small = np.zeros_like(mask())
        small[100:109, 100:109] = 255
        with self.assertRaises(Degenerate) as told:
            cut_template(coded(texture()), small)
        self.assertIn("81 pixels", told.exception.message)


class Sampling(unittest.TestCase):
    def test_cubic_weights_give_a_parabola_back_exactly(self) -> None:
        w = np.empty(4)
        at = np.arange(-1.0, 3.0)
        for u in np.linspace(0, 0.999, 23):
            cubic_weights(u, w)
            self.assertAlmostEqual(float(w.sum()), 1, places=12)
            for a, b, c in ((1.0, 0.0, 0.0), (0.0, 2.0, 1.0), (-0.7, 0.3, 5.0)):
                self.assertAlmostEqual(float(w @ (a * at**2 + b * at + c)), a * u**2 + b * u + c, places=10)
        cubic_weights(0.0, w)
        np.testing.assert_array_equal(w, [0, 1, 0, 0])
