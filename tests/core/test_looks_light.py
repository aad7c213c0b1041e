"""Looks that bend, spread, shade and table light, against closed forms."""

from __future__ import annotations

import unittest

import cv2
import numpy as np

from plonket.base.colour import decode, encode
from plonket.base.conventions import F32
from plonket.base.errors import FormatError
from plonket.base.fields import CurvePoint
from plonket.document.kinds import LOOKS
from plonket.formats.cube import read_cube
from plonket.image.picture import Picture
from plonket.looks.apply import apply_looks
from plonket.looks.colour_range import ColourRange
from plonket.looks.common import LookContext
from plonket.looks.cube import ColourTable
from plonket.looks.curves import Curves
from plonket.looks.haze import Haze
from plonket.looks.lift import LiftGammaGain
from plonket.looks.moved import Moved
from plonket.looks.projection import Projection
from plonket.looks.rays import Rays
from plonket.looks.ripple import Ripple
from plonket.looks.shadow import Shadow
from plonket.looks.streaks import Streaks
from plonket.looks.white import WhiteBalance, white_of
from tests.core.test_looks import SIZE, disc, flat, made, run


def code_of(rgba: F32, y: int = 60, x: int = 80) -> np.ndarray:
    return np.asarray(encode(rgba[y, x, :3].astype(np.float64)))


def coded(code: float) -> float:
    return float(decode(np.array(code)))


class Tables(unittest.TestCase):
    def test_what_is_left_at_its_defaults_changes_nothing(self) -> None:
        rng = np.random.default_rng(1)
        alpha = rng.uniform(0, 1, (*SIZE[::-1], 1))
        rgba = np.concatenate([rng.uniform(0, 1, (*SIZE[::-1], 3)) * alpha, alpha], axis=2).astype(np.float32)
        for model in (Curves, LiftGammaGain, WhiteBalance, ColourTable):
            np.testing.assert_allclose(run(made(model), rgba), rgba, atol=3e-3, err_msg=model.__name__)

    def test_curves_go_through_their_points_without_overshoot(self) -> None:
        points = [CurvePoint(x=0, y=0.1), CurvePoint(x=0.3, y=0.2), CurvePoint(x=0.5, y=0.8), CurvePoint(x=1, y=0.9)]
        look = made(Curves, master=points)
        for p in points:
            self.assertAlmostEqual(float(code_of(run(look, flat(coded(p.x))))[1]), p.y, delta=0.004)
        values = [float(code_of(run(look, flat(coded(c))))[0]) for c in np.linspace(0, 1, 41)]
        self.assertTrue((np.diff(values) >= -1e-4).all())
        red = run(made(Curves, red=[CurvePoint(x=0, y=1), CurvePoint(x=1, y=0)]), flat(coded(0.25)))
        np.testing.assert_allclose(code_of(red), [0.75, 0.25, 0.25], atol=0.005)

    def test_lift_gamma_gain_follow_their_formula(self) -> None:
        look = made(LiftGammaGain, lift=10, gamma=1.5, gain=80)
        for c in (0.0, 0.3, 0.9):
            expected = (0.8 * (c + 0.1 * (1 - c))) ** (1 / 1.5)
            np.testing.assert_allclose(code_of(run(look, flat(coded(c)))), expected, atol=0.004)
        warm = code_of(run(made(LiftGammaGain, gain_tint="#908070"), flat(coded(0.5))))
        self.assertGreater(warm[0], warm[1])
        self.assertGreater(warm[1], warm[2])
        # An offset moves black as far as white.
        for c in (0.1, 0.5, 0.8):
            np.testing.assert_allclose(code_of(run(made(LiftGammaGain, offset=10), flat(coded(c)))), c + 0.1, atol=0.004)
        blue = code_of(run(made(LiftGammaGain, offset_tint="#7878a0"), flat(coded(0.2))))
        self.assertGreater(blue[2], 0.22)
        self.assertLess(blue[0], 0.2)

    def test_white_balance_makes_grey_of_what_was_white(self) -> None:
        cast = decode(np.array([0xF0, 0xD8, 0xB0]) / 255)
        out = run(made(WhiteBalance, white="#f0d8b0"), flat(tuple(cast * 0.5)))[0, 0, :3]  # type: ignore[arg-type]
        np.testing.assert_allclose(out / out.mean(), 1, atol=0.01)
        # A lamp's picture taken as daylight is warm; saying so takes the warmth off.
        lamp = white_of(2900.0)
        self.assertGreater(lamp[0], 2 * lamp[2])
        out = run(made(WhiteBalance, kelvin=2900.0), flat(tuple(lamp / lamp.max() * 0.6)))[0, 0, :3]  # type: ignore[arg-type]
        np.testing.assert_allclose(out / out.mean(), 1, atol=0.04)

    def test_only_the_range_changes(self) -> None:
        look = made(ColourRange, colour="#c03020", hue=120.0)
        red, blue = flat((0.5, 0.03, 0.02)), flat((0.02, 0.05, 0.5))
        turned = run(look, red)[60, 80]
        self.assertGreater(float(turned[1]), float(turned[0]) * 4)
        np.testing.assert_allclose(run(look, blue), blue, atol=2e-3)
        np.testing.assert_allclose(run(look, flat(0.3)), flat(0.3), atol=2e-3)
        alone = run(made(ColourRange, colour="#c03020", others=True), blue)[60, 80]
        self.assertAlmostEqual(float(alone[0]), float(alone[2]), places=4)

    CUBE = 'TITLE "swap"\n# red and blue change places\nLUT_3D_SIZE 2\n' + "\n".join(
        f"{b} {g} {r}" for b in (0, 1) for g in (0, 1) for r in (0, 1)
    )

    def test_a_cube_table_is_read_red_fastest_and_interpolated(self) -> None:
        table = read_cube(self.CUBE.splitlines())
        np.testing.assert_array_equal(table[1, 0, 0], [0, 0, 1])
        look = made(ColourTable, table="d" * 64)
        context = LookContext(frame=0, table=lambda _: table)
        light = tuple(coded(c) for c in (0.2, 0.5, 0.9))
        out = LOOKS.get("cube").run(flat(light), look, context)  # type: ignore[arg-type]
        np.testing.assert_allclose(code_of(out), [0.9, 0.5, 0.2], atol=0.005)
        flat_table = read_cube("LUT_1D_SIZE 3\n0 0 0\n0.5 0.2 0.5\n1 1 1\n".splitlines())
        one = LOOKS.get("cube").run(flat(coded(0.25)), look, LookContext(frame=0, table=lambda _: flat_table))
        np.testing.assert_allclose(code_of(one), [0.25, 0.1, 0.25], atol=0.005)

    def test_a_smooth_table_is_met_everywhere(self) -> None:
        n = 17
        g = np.linspace(0, 1, n)
        r, gg, b = np.meshgrid(g, g, g, indexing="ij")
        table = np.stack([r**1.2, (gg + 0.2 * r) / 1.2, b * 0.9], axis=-1).astype(np.float32)
        rng = np.random.default_rng(2)
        code = rng.uniform(0, 1, (*SIZE[::-1], 3))
        rgba = np.dstack([decode(code), np.ones(SIZE[::-1])]).astype(np.float32)
        out = LOOKS.get("cube").run(rgba, made(ColourTable, table="d" * 64), LookContext(frame=0, table=lambda _: table))
        expected = np.stack([code[..., 0] ** 1.2, (code[..., 1] + 0.2 * code[..., 0]) / 1.2, code[..., 2] * 0.9], axis=-1)
        np.testing.assert_allclose(encode(out[..., :3].astype(np.float64)), expected, atol=0.006)

    def test_tables_that_cannot_be_used_say_why(self) -> None:
        for text, word in (("hello", "no size"), ("LUT_3D_SIZE 2\n0 0 0\n", "8 rows"), ("LUT_3D_SIZE 2\n0 zero 0\n", "Line 2"),
                           (self.CUBE + "\nDOMAIN_MAX 4 4 4", "0 to 1"), ("LUT_3D_SIZE 5000\n", "sensible")):  # fmt: skip
            with self.assertRaises(FormatError) as caught:
                read_cube(text.splitlines())
            self.assertIn(word, caught.exception.message)


def dot(x: int, y: int, r: int = 2) -> F32:
    out = np.zeros((*SIZE[::-1], 4), np.float32)
    cv2.circle(out, (x, y), r, (4.0, 4.0, 4.0, 1.0), -1)
    return out


def spread(rgba: F32) -> tuple[float, float]:
    """SDs of a picture's light across and down."""
    light = rgba[..., 1].astype(np.float64)
    y, x = np.mgrid[0 : light.shape[0], 0 : light.shape[1]]
    mx, my = (light * x).sum() / light.sum(), (light * y).sum() / light.sum()
    return float(np.sqrt((light * (x - mx) ** 2).sum() / light.sum())), float(np.sqrt((light * (y - my) ** 2).sum() / light.sum()))


class Spreading(unittest.TestCase):
    def test_zoom_draws_out_away_from_the_point_and_spin_round_it(self) -> None:
        zoom = spread(run(made(Rays, does="zoom", x=20.0, y=60.0, length=30), dot(120, 60)))
        self.assertGreater(zoom[0], 3 * zoom[1])
        spin = spread(run(made(Rays, does="spin", x=20.0, y=60.0, length=20), dot(120, 60)))
        self.assertGreater(spin[1], 3 * spin[0])
        still = dot(20, 60)
        near = run(made(Rays, does="zoom", x=20.5, y=60.5, length=30), still)
        self.assertGreater(float(near[60, 20, 0]), 3.5)

    def test_rays_shine_away_from_their_point_and_hide_nothing(self) -> None:
        out = run(made(Rays, x=80.0, y=60.0, length=80, threshold=20), dot(100, 60, 4))
        added = out - dot(100, 60, 4)
        self.assertGreater(float(added[60, 125, 0]), 10 * max(float(added[60, 60, 0]), 1e-4))
        self.assertEqual(float(np.abs(added[..., 3]).max()), 0.0)

    def test_streaks_go_along_their_direction_only(self) -> None:
        out = run(made(Streaks, threshold=50, length=40, rays=2, angle=90), dot(80, 60, 3)) - dot(80, 60, 3)
        self.assertGreater(float(out[30, 80, 2]), 0.02)
        self.assertLess(float(out[60, 110, 2]), 0.002)
        star = run(made(Streaks, threshold=50, length=40, rays=4, angle=0), dot(80, 60, 3)) - dot(80, 60, 3)
        self.assertGreater(min(float(star[60, 105, 2]), float(star[35, 80, 2])), 0.02)

    def test_haze_and_blur_grow_from_near_to_far(self) -> None:
        look = made(Haze, near_x=80.0, near_y=110.0, far_x=80.0, far_y=10.0, colour="#808080", density=100)
        out = run(look, flat(0.02))
        column = out[:, 80, 0]
        self.assertAlmostEqual(float(column[112]), 0.02, delta=1e-3)
        self.assertAlmostEqual(float(column[6]), coded(128 / 255), delta=2e-3)
        self.assertTrue((np.diff(column) <= 1e-6).all())
        stripes = flat(0.2)
        stripes[:, ::4, :3] = 0.6
        soft = run(made(Haze, does="blur", near_x=80.0, near_y=110.0, far_x=80.0, far_y=10.0, radius=6), stripes)
        contrast = soft[..., 0].std(axis=1)
        self.assertAlmostEqual(float(contrast[115]), float(stripes[115, :, 0].std()), delta=1e-4)
        self.assertLess(float(contrast[20:60].max()), 0.5 * float(contrast[115]))
        both = run(made(Haze, does="blur", near_x=80.0, near_y=60.0, far_x=80.0, far_y=10.0, sides="both", radius=6), stripes)
        rows = both[..., 0].std(axis=1)
        self.assertGreater(float(rows[60]), 5 * float(rows[20]))
        self.assertAlmostEqual(float(rows[20]), float(rows[99]), delta=2e-3)

    def test_premultiplied_edges_get_no_dark_fringe(self) -> None:
        for look in (made(Haze, does="blur", radius=5), made(Rays, does="zoom", length=10), made(Ripple, amount=6.0)):
            out = run(look, disc())
            edge = (out[..., 3] > 0.2) & (out[..., 3] < 0.8)
            straight = out[edge][:, :3] / out[edge][:, 3:]
            self.assertGreater(float(straight.min()), 0.93, type(look).__name__)

    def test_motion_blur_draws_out_what_moves_and_only_that(self) -> None:
        def scene(frame: int) -> F32:
            rng = np.random.default_rng(1)
            out = np.dstack([cv2.GaussianBlur(rng.uniform(0.1, 0.4, SIZE[::-1]), (0, 0), 1.5)] * 3 + [np.ones(SIZE[::-1])])
            moving = cv2.GaussianBlur(rng.uniform(0, 1, (40, 40)), (0, 0), 1.2)
            x = 40 + 8 * frame
            out[50:90, x : x + 40, :3] = moving[..., None] * 0.8 + 0.1
            return out.astype(np.float32)

        look = made(Moved, shutter=360)
        out = LOOKS.get("moved").run(scene(3), look, LookContext(frame=3, neighbour=scene))
        inner = np.s_[56:84, 72:96]
        along = np.abs(np.diff(out[inner][..., 0], axis=1)).mean() / np.abs(np.diff(scene(3)[inner][..., 0], axis=1)).mean()
        across = np.abs(np.diff(out[inner][..., 0], axis=0)).mean() / np.abs(np.diff(scene(3)[inner][..., 0], axis=0)).mean()
        self.assertLess(along, 0.55)
        self.assertGreater(across, along)
        still = np.s_[5:40, 5:150]
        self.assertLess(float(np.abs(out[still] - scene(3)[still]).mean()), 0.01)


class Bending(unittest.TestCase):
    def ramp(self) -> F32:
        x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]][1] / 200
        return np.dstack([x, x, x, np.ones_like(x)]).astype(np.float32)

    def test_it_bends_by_at_most_its_amount_and_changes_smoothly(self) -> None:
        look = made(Ripple, amount=5.0, lump=30.0)
        inner = np.s_[20:-20, 20:-20]
        frames = [(run(look, self.ramp(), f)[inner][..., 0] - self.ramp()[inner][..., 0]) * 200 for f in (10, 11, 40)]
        self.assertLess(float(np.abs(frames[0]).max()), 11)
        self.assertGreater(float(frames[0].std()), 0.8)
        self.assertLess(float(np.abs(frames[1] - frames[0]).mean()), float(np.abs(frames[2] - frames[0]).mean()))

    def test_glass_stands_still_and_air_does_not(self) -> None:
        glass = made(Ripple, form="glass", amount=5.0)
        np.testing.assert_array_equal(run(glass, self.ramp(), 0), run(glass, self.ramp(), 30))
        air = made(Ripple, amount=5.0)
        self.assertGreater(float(np.abs(run(air, self.ramp(), 0) - run(air, self.ramp(), 30)).max()), 0.01)

    def test_half_size_bends_alike(self) -> None:
        look = made(Ripple, form="glass", amount=6.0, lump=40.0)
        full = run(look, self.ramp())
        small = cv2.resize(self.ramp(), (SIZE[0] // 2, SIZE[1] // 2), interpolation=cv2.INTER_AREA)
        half = run(look, small, scale=0.5)
        expected = cv2.resize(full, (SIZE[0] // 2, SIZE[1] // 2), interpolation=cv2.INTER_AREA)
        self.assertLess(float(np.abs(half - expected)[10:-10, 10:-10].mean()), 0.004)


class Shading(unittest.TestCase):
    def standing(self) -> F32:
        """A post, 16 wide and 50 tall, whose foot is at row 90."""
        out = np.zeros((*SIZE[::-1], 4), np.float32)
        out[40:90, 72:88] = (0.5, 0.5, 0.5, 1)
        return out

    def test_a_shadow_lies_on_the_ground_from_the_foot_on(self) -> None:
        look = made(Shadow, length=-60.0, lean=0.0, narrows=0.0, near=0.0, far=0.1, strength=100.0)
        out = run(look, self.standing())
        np.testing.assert_allclose(out[40:90, 72:88], self.standing()[40:90, 72:88], atol=1e-5)
        cast = out[90:, :, 3]
        self.assertGreater(float(cast[4, 80]), 0.8)
        self.assertEqual(float(out[30, 80, 3]), 0.0)
        # It ends where 60 % of the height is over, and is weaker there.
        rows = np.flatnonzero(cast[:, 80] > 0.2)
        self.assertAlmostEqual(float(rows[-1] + 1), 30, delta=2)
        self.assertLess(float(cast[26, 80]), float(cast[3, 80]))
        self.assertLess(float(out[100, 80, :3].max()), 0.01)

    def test_it_leans_softens_and_falls_behind(self) -> None:
        look = made(Shadow, length=60.0, lean=50.0, near=0.5, far=8.0, strength=100.0)
        out = run(look, self.standing())
        self.assertGreater(float(out[75, 100, 3]), 0.2)
        self.assertEqual(float(out[95, 60, 3]), 0.0)
        edge_near = np.abs(np.diff(out[84, 90:, 3])).max()
        edge_far = np.abs(np.diff(out[64, 90:, 3])).max()
        self.assertGreater(float(edge_near), 1.5 * float(edge_far))
        wall = run(made(Shadow, falls="wall", away_x=20.0, away_y=10.0, near=0.0, far=0.1, strength=80.0), self.standing())
        self.assertGreater(float(wall[80, 100, 3]), 0.5)

    def test_its_window_grows_so_that_nothing_is_cut(self) -> None:
        post = Picture(rgba=np.ascontiguousarray(self.standing()[40:90, 72:88]), x=72, y=40)
        look = made(Shadow, length=60.0, lean=50.0)
        out = apply_looks([look], post, 0, SIZE, 1.0, lambda _: None)
        self.assertGreater(out.rgba.shape[1], 60)


class Projected(unittest.TestCase):
    def test_lines_have_their_pitch_and_it_only_shines(self) -> None:
        look = made(Projection, pitch=8.0, depth=80.0, drift=0.0, bar=0.0, tinted=0.0)
        out = run(look, flat(0.5))
        column = out[:, 80, 0]
        spectrum = np.abs(np.fft.rfft(column - column.mean()))
        self.assertEqual(int(spectrum.argmax()), SIZE[1] // 8)
        self.assertEqual(float(out[..., 3].max()), 0.0)
        self.assertAlmostEqual(float(column.max()), 0.5, delta=0.02)

    def test_at_a_small_size_lines_are_averaged_not_left_to_beat(self) -> None:
        look = made(Projection, pitch=3.0, depth=80.0, bar=0.0, tinted=0.0)
        out = run(look, flat(0.5), scale=0.25)
        self.assertLess(float(out[:, 80, 0].std()), 1e-3)

    def test_the_tint_keeps_brightness(self) -> None:
        out = run(made(Projection, depth=0.0, bar=0.0, tinted=100.0, tint="#40a0ff"), flat((0.4, 0.2, 0.1)))[60, 80, :3]
        luma = np.array([0.2126, 0.7152, 0.0722])
        self.assertAlmostEqual(float(out @ luma), float(np.array([0.4, 0.2, 0.1]) @ luma), delta=2e-3)
        self.assertGreater(float(out[2]), float(out[0]))


