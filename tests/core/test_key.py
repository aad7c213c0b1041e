"""Keys against the truth they were filmed with: three cloths, folds, shadows, hair, blur, glass, compression."""

from __future__ import annotations

import tempfile
import unittest
from functools import cache
from pathlib import Path

import cv2
import numpy as np

from plonket.base.colour import decode, linear_from_codes
from plonket.base.conventions import F32, U8
from plonket.base.errors import Degenerate
from plonket.cli.main import main
from plonket.keying import brightness, colours, difference
from plonket.keying.chroma import restored
from plonket.keying.cloth import found_colour
from plonket.keying.common import KeyContext
from plonket.keying.screen import ScreenKey, key_screen, turned_to_green
from plonket.layers.still import StillLayer
from plonket.matting.calm import calmed
from plonket.media import open_clip
from plonket.render.frame import render_frame
from plonket.render.media_pool import MediaPool
from plonket.render.sources import ShotSources
from synth.phone.sensor import Sensor
from tests.core.test_steady import shot_with, tracked, whole_plane, write

SIZE = (640, 360)
CLOTHS = {"green": "#2f9a48", "blue": "#2a5cb8", "violet": "#7a3fb8"}


def linear(code: str) -> F32:
    return decode(np.array([int(code[k : k + 2], 16) for k in (1, 3, 5)]) / 255).astype(np.float32)


@cache
def subject(shift: float = 0.0) -> tuple[F32, F32]:
    """A puppet's bust: linear colour (h, w, 3) and coverage (h, w), with hair, a blurred arm and a pane of glass."""
    big = 4
    h, w = SIZE[1] * big, SIZE[0] * big
    dx = round(shift * big)
    body = np.zeros((h, w), np.float32)
    cv2.ellipse(body, (320 * big + dx, 150 * big), (62 * big, 80 * big), 0, 0, 360, 1, -1)
    cv2.fillPoly(body, [np.array([[210, 360], [250, 225], [390, 225], [430, 360]]) * big + [dx, 0]], 1)
    rng = np.random.default_rng(4)
    hair = np.zeros((h, w), np.float32)
    for k in range(70):
        angle = np.radians(rng.uniform(200, 340))
        x, y = 320 + 60 * np.cos(angle), 150 + 78 * np.sin(angle)
        tip = (x + rng.uniform(10, 34) * np.cos(angle + 0.3), y + rng.uniform(10, 34) * np.sin(angle + 0.3))
        cv2.line(hair, (int(x * big) + dx, int(y * big)), (int(tip[0] * big) + dx, int(tip[1] * big)), 1, 3 + k % 4)
    arm = np.zeros((h, w), np.float32)
    cv2.line(arm, (410 * big + dx, 300 * big), (500 * big + dx, 190 * big), 1, 34 * big)
    arm = cv2.GaussianBlur(arm, (0, 0), 6 * big)
    glass = np.zeros((h, w), np.float32)
    cv2.rectangle(glass, (90 * big + dx, 180 * big), (170 * big + dx, 300 * big), 0.45, -1)
    alpha = np.maximum.reduce([body, hair, arm, glass])
    colour = np.empty((h, w, 3), np.float32)
    colour[:] = linear("#c79a78")
    y, x = np.mgrid[0:h, 0:w].astype(np.float32) / big
    colour *= (0.75 + 0.3 * np.sin(x / 9) * np.cos(y / 13))[..., None]
    colour[hair > body] = linear("#3a2b22")
    colour[y > 225] = linear("#7a2f38")
    colour[(arm >= alpha) & (arm > 0)] = linear("#cfc4ae")
    colour[(glass >= alpha) & (glass > 0)] = linear("#d8dde4")
    area = lambda p: cv2.resize(p, SIZE, interpolation=cv2.INTER_AREA)  # noqa: E731
    a = area(alpha)
    premultiplied = area(colour * alpha[..., None])
    return (premultiplied / np.maximum(a, 1e-4)[..., None]).astype(np.float32), a.astype(np.float32)


def cloth_light(code: str, *, uneven: bool) -> F32:
    """A cloth with a gradient, folds and a soft shadow; or an even one."""
    w, h = SIZE
    y, x = np.mgrid[0:h, 0:w].astype(np.float32)
    light = np.ones((h, w), np.float32)
    if uneven:
        light *= 1.15 - 0.45 * np.hypot((x - 200) / 500, (y - 90) / 300) ** 1.5
        light *= 1 + 0.06 * np.sin(x / 23 + 1.5 * np.sin(y / 60)) + 0.03 * np.sin(x / 9.0)
        light *= 1 - 0.45 * np.exp(-(((x - 470) / 60) ** 2 + ((y - 250) / 90) ** 2))
    return np.asarray(linear(code) * np.clip(light, 0.2, 2)[..., None], np.float32)


def filmed(code: str, *, uneven: bool = True, shift: float = 0.0, seed: int = 1, spill: float = 0.03) -> tuple[U8, F32]:
    """A frame as the phone films it, and the true coverage."""
    colour, alpha = subject(shift)
    cloth = cloth_light(code, uneven=uneven)
    # The cloth shines on the subject, most near its edge.
    near = cv2.GaussianBlur(1 - alpha, (0, 0), 18)[..., None]
    lit = colour + spill * near * linear(code) * 3
    light = alpha[..., None] * lit + (1 - alpha[..., None]) * cloth
    return Sensor().photograph(light.astype(np.float32), np.random.default_rng(seed)), alpha


def keyed(rgb: U8, **settings: object) -> tuple[F32, F32]:
    found = key_screen(linear_from_codes(rgb), ScreenKey(**settings))  # type: ignore[arg-type]
    return found.rgba, found.rgba[..., 3]


class Screen(unittest.TestCase):
    def test_three_cloths_uneven_and_shadowed_within_a_hundredth(self) -> None:
        for name, code in CLOTHS.items():
            rgb, truth = filmed(code)
            _, alpha = keyed(rgb)
            error = float(np.abs(alpha - truth).mean())
            self.assertLess(error, 0.009, name)
            # Folds and the shadow are gone, the body is solid.
            far = cv2.dilate(truth, np.ones((15, 15))) == 0
            self.assertLess(float(alpha[far].mean()), 0.004, name)
            solid = cv2.erode(truth, np.ones((9, 9))) > 0.999
            self.assertGreater(float(alpha[solid].mean()), 0.99, name)

    def test_compressed_to_half_the_colour_it_still_holds(self) -> None:
        for name, code in CLOTHS.items():
            rgb, truth = filmed(code)
            with tempfile.TemporaryDirectory() as folder:
                clip = open_clip(write(Path(folder) / "c.mp4", [rgb] * 3, crf=20))
                self.addCleanup(clip.close)
                stored = clip.rgb(1)
            _, alpha = keyed(stored)
            _, sharp = keyed(restored(stored))
            # With its colour brought back to the edges it is better.
            self.assertLess(float(np.abs(sharp - truth).mean()), 0.0105, name)
            self.assertLess(float(np.abs(alpha - truth).mean()), 0.0115, name)

    def test_glass_keeps_its_density_whatever_the_cloth_s_noise(self) -> None:
        """Clipping the cloth's noise away does not thin what is half there."""
        for name, code in CLOTHS.items():
            rgb, truth = filmed(code)
            inside = np.s_[200:280, 105:155]
            told, plain = (keyed(rgb, auto=auto)[1][inside].mean() for auto in (True, False))
            self.assertAlmostEqual(float(told), float(plain), delta=0.005, msg=name)
            self.assertAlmostEqual(float(told), float(truth[inside].mean()), delta=0.1, msg=name)

    def test_restored_colour_follows_brightness_and_leaves_it_alone(self) -> None:
        # A brighter neighbour tells where the edge is; one just as bright does not, and nothing gets worse.
        for other, share in (((225, 210, 205), 0.75), ((230, 60, 50), 1.05)):
            rgb = np.empty((60, 80, 3), np.uint8)
            rgb[:, :41], rgb[:, 41:] = (40, 150, 70), other
            with tempfile.TemporaryDirectory() as name:
                clip = open_clip(write(Path(name) / "c.mp4", [rgb] * 3, crf=4))
                self.addCleanup(clip.close)
                stored = clip.rgb(1)
            off = [float(np.abs(p[:, 38:44].astype(int) - rgb[:, 38:44]).mean()) for p in (stored, restored(stored))]
            self.assertLess(off[1], share * off[0], other)
        grey = [cv2.cvtColor(p, cv2.COLOR_RGB2GRAY).astype(int) for p in (stored, restored(stored))]
        self.assertLess(float(np.abs(grey[0] - grey[1]).max()), 5)

    def test_the_matte_does_not_flicker_beyond_what_the_noise_makes_it(self) -> None:
        """Frames that differ in sensor noise only: the matte's changes, beside those of the ideal matte of the same noise."""
        mattes = np.array([keyed(filmed(CLOTHS["green"], seed=s)[0])[1] for s in range(4)])
        _, truth = filmed(CLOTHS["green"])
        between = (truth > 0.02) & (truth < 0.98)
        self.assertLess(float(mattes.std(axis=0)[between].mean()), 0.05)
        self.assertLess(float(mattes.std(axis=0)[~between].mean()), 0.004)

    def test_on_another_background_no_green_is_left_and_edges_are_right(self) -> None:
        """Laid over grey and compared with the true composite, most of all where it is half seen."""
        for name, code in CLOTHS.items():
            rgb, truth = filmed(code)
            rgba, alpha = keyed(rgb)
            behind = np.full((*truth.shape, 3), 0.25, np.float32)
            ours = rgba[..., :3] + (1 - alpha[..., None]) * behind
            colour, _ = subject()
            true = colour * truth[..., None] + (1 - truth[..., None]) * behind
            edge = (truth > 0.1) & (truth < 0.9)
            self.assertLess(float(np.abs(ours - true)[edge].mean()), 0.055, name)
            strong = linear(code) - linear(code).mean()
            strong /= np.linalg.norm(strong)
            left = float(((ours - true) @ strong)[edge].mean())
            self.assertLess(abs(left), 0.03, (name, left))

    def test_greys_stay_grey_when_hues_are_turned(self) -> None:
        for code in CLOTHS.values():
            turn = turned_to_green(linear(code).astype(float))
            np.testing.assert_allclose(turn @ np.ones(3), np.ones(3), atol=1e-9)
            np.testing.assert_allclose(turn @ turn.T, np.eye(3), atol=1e-9)
            turned = turn @ linear(code)
            self.assertEqual(int(np.argmax(turned)), 1)
            self.assertAlmostEqual(float(turned[0]), float(turned[2]), places=6)

    def test_the_cloth_is_found_by_itself_or_said_to_be_missing(self) -> None:
        for code in CLOTHS.values():
            found = found_colour(linear_from_codes(filmed(code)[0]))
            shares, true = found / found.sum(), linear(code) / linear(code).sum()
            self.assertLess(float(np.abs(shares - true).max()), 0.03)
        with self.assertRaisesRegex(Degenerate, "Pick its colour"):
            found_colour(np.full((90, 160, 3), 0.3, np.float32))

    def test_the_edge_moves_by_parts_of_a_pixel_and_specks_and_holes_go(self) -> None:
        rgb, truth = filmed(CLOTHS["green"], uneven=False)
        areas = [float(keyed(rgb, choke=c)[1].sum()) for c in (-1.0, -0.5, 0.0, 0.5, 1.0)]
        self.assertEqual(areas, sorted(areas, reverse=True))
        self.assertAlmostEqual((areas[1] - areas[2]) / (areas[0] - areas[2]), 0.5, delta=0.1)
        spotted = rgb.copy()
        cv2.circle(spotted, (60, 60), 2, (200, 180, 160), -1)
        cv2.circle(spotted, (320, 300), 3, tuple(int(v) for v in rgb[40, 40]), -1)
        _, plain = keyed(spotted)
        _, mended = keyed(spotted, specks=3, holes=4)
        self.assertGreater(float(plain[60, 60]), 0.8)
        self.assertLess(float(mended[60, 60]), 0.1)
        self.assertLess(float(plain[300, 320]), 0.5)
        self.assertGreater(float(mended[300, 320]), 0.9)
        crossed = rgb.copy()
        cv2.line(crossed, (40, 300), (80, 340), (225, 222, 205), 7)
        cv2.line(crossed, (80, 300), (40, 340), (225, 222, 205), 7)
        self.assertGreater(float(keyed(crossed)[1][320, 60]), 0.9)
        bare = keyed(crossed, lone=60)[1]
        self.assertLess(float(bare[290:350, 30:90].mean()), 0.003)
        self.assertGreater(float(bare[150, 320]), 0.99)
        self.assertLess(float(np.abs(mended - truth)[:200].mean()), 0.015)


class Calm(unittest.TestCase):
    def test_sums_kept_from_row_to_row_are_those_of_plain_means(self) -> None:
        rng = np.random.default_rng(0)
        size = (157, 211)
        soft = cv2.GaussianBlur((rng.random(size) > 0.5).astype(np.float32), (0, 0), 6)
        matte = np.clip(soft * 3 - 1 + rng.normal(0, 0.05, size), 0, 1).astype(np.float32)
        guide = np.clip(matte * 0.6 + rng.normal(0, 0.03, size), 0, 1).astype(np.float32)
        for radius in (1.0, 3.0, 8.0):
            mean = lambda a, r=radius: cv2.blur(a, (2 * round(r) + 1,) * 2)  # noqa: E731
            out, total = np.zeros_like(matte), np.zeros_like(matte)
            for g in (cv2.GaussianBlur(guide, (5, 5), 0.6), cv2.GaussianBlur(matte, (7, 7), 1.0)):
                spread = mean(g * g) - mean(g) ** 2
                some = np.sort(spread[::3, ::3].ravel())
                slope = (mean(g * matte) - mean(g) * mean(matte)) / (spread + max(4 * float(some[len(some) // 5]), 1e-6))
                smooth = mean(slope) * g + mean(mean(matte) - slope * mean(g))
                fit = 1 / (mean((smooth - matte) ** 2) + 1e-5)
                out, total = out + fit * smooth, total + fit
            np.testing.assert_allclose(calmed(matte, guide, radius), np.clip(out / total, 0, 1), atol=2e-5)
        flat = np.full((3, 3), 0.4, np.float32)
        np.testing.assert_array_equal(calmed(flat, flat, 8.0), flat, "too small to be averaged")


class OtherKeys(unittest.TestCase):
    def test_brightness_keeps_light_on_black_and_either_side_of_a_threshold(self) -> None:
        ramp = np.repeat(np.linspace(0, 1, 256, dtype=np.float32)[None, :, None], 4, axis=0).repeat(3, axis=2)
        light = decode(ramp).astype(np.float32)
        shine = brightness.run(light, brightness.BrightnessKey(), KeyContext())
        np.testing.assert_allclose(shine[..., :3], light, atol=1e-6)
        np.testing.assert_allclose(shine[..., 3], light[..., 0], atol=1e-6)
        bright = brightness.run(light, brightness.BrightnessKey(keeps="bright", threshold=60, soft=20, clean=0), KeyContext())[0, :, 3]
        dark = brightness.run(light, brightness.BrightnessKey(keeps="dark", threshold=60, soft=20, clean=0), KeyContext())[0, :, 3]
        np.testing.assert_allclose(bright + dark, 1, atol=1e-6)
        self.assertTrue(bright[: int(0.49 * 256)].max() == 0 and bright[int(0.71 * 256) :].min() == 1)
        self.assertAlmostEqual(float(bright[153]), 0.5, delta=0.02)

    def test_light_on_black_has_a_black_level_that_moves_evenly_and_may_be_soft(self) -> None:
        code = np.repeat(np.linspace(0, 1, 256, dtype=np.float32)[None, :, None], 2, axis=0).repeat(3, axis=2)
        light = decode(code).astype(np.float32)

        def kept(**settings: float) -> F32:
            return np.asarray(brightness.run(light, brightness.BrightnessKey(**settings), KeyContext())[0, :, 3])  # type: ignore[arg-type]

        hard, soft = kept(black=20, soft=0), kept(black=20, soft=60)
        self.assertTrue((hard[:50] == 0).all() and np.allclose(hard[54:], light[0, 54:, 0]))
        self.assertTrue(0 < soft[30] < light[0, 30, 0] and 0 < soft[70] < light[0, 70, 0] + 1e-6)
        # From one step of the slider to the next nothing jumps, least of all where the threshold stands by default.
        steps = [kept(black=b, soft=30) for b in np.arange(0, 100.5, 0.5)]
        self.assertLess(max(float(np.abs(b - a).max()) for a, b in zip(steps[:-1], steps[1:], strict=True)), 0.06)

    def test_a_threshold_that_once_said_what_is_black_goes_on_doing_so(self) -> None:
        old = brightness.BrightnessKey.model_validate({"kind": "brightness", "keeps": "light", "threshold": 70, "soft": 15})
        self.assertAlmostEqual(float(decode(np.array(old.black / 100))), 0.7**2.2 * 0.1, delta=0.002)
        self.assertEqual(brightness.BrightnessKey.model_validate({"kind": "brightness", "threshold": 50}).black, 0)
        self.assertEqual(brightness.BrightnessKey.model_validate(old.model_dump()), old)

    def test_a_colour_range_takes_away_what_looks_like_its_samples(self) -> None:
        picture = np.zeros((40, 120, 3), np.float32)
        picture[:, :40], picture[:, 40:80], picture[:, 80:] = linear("#c83030"), linear("#3050c8"), linear("#808080")
        gone = colours.run(picture, colours.ColourKey(colours=["#3050c8"]), KeyContext())[..., 3]
        self.assertTrue((gone[:, 45:75] == 0).all() and (gone[:, :35] == 1).all() and (gone[:, 85:] == 1).all())
        kept = colours.run(picture, colours.ColourKey(colours=["#3050c8"], inverted=True), KeyContext())[..., 3]
        np.testing.assert_allclose(gone + kept, 1, atol=1e-6)
        darker = colours.run(picture * 0.25, colours.ColourKey(colours=["#3050c8"], brightness=100), KeyContext())[..., 3]
        self.assertTrue((darker[:, 45:75] == 0).all(), "whatever its brightness")
        narrow = colours.run(picture * 0.25, colours.ColourKey(colours=["#3050c8"], brightness=10), KeyContext())[..., 3]
        self.assertTrue((narrow[:, 45:75] > 0.8).all())

    def test_a_difference_to_a_clean_plate_in_other_light(self) -> None:
        rng = np.random.default_rng(2)
        clean = np.asarray(cv2.GaussianBlur(rng.uniform(0.1, 0.6, (90, 160, 3)).astype(np.float32), (0, 0), 2), np.float32)
        seen = clean * np.float32(0.85) + rng.normal(0, 0.004, clean.shape).astype(np.float32)
        seen[30:60, 50:90] = linear("#d0c020")
        alpha = difference.run(seen, difference.DifferenceKey(), KeyContext(clean=clean))[..., 3]
        self.assertGreater(float(alpha[36:54, 56:84].mean()), 0.98)
        self.assertLess(float(alpha[:20].mean()), 0.02)
        self.assertTrue((difference.run(seen, difference.DifferenceKey(), KeyContext())[..., 3] == 1).all())


class OnLayers(unittest.TestCase):
    def test_a_keyed_layer_shows_the_plate_behind_it(self) -> None:
        rgb, truth = filmed(CLOTHS["green"])
        with tempfile.TemporaryDirectory() as name:
            clip = write(Path(name) / "keeper.mp4", [rgb] * 2, crf=6)
            plate = write(Path(name) / "plate.mp4", [np.full((360, 640, 3), (30, 40, 90), np.uint8)] * 2, crf=6)
            pool = MediaPool(lambda d: clip if d == "b" * 64 else plate, lambda _: tracked(np.tile(np.eye(3), (2, 1, 1))))
            self.addCleanup(pool.close)
            layer = StillLayer(id="k", name="K", asset="b" * 64, width=640, height=360, x=320, y=180, key=ScreenKey())
            shot = shot_with(whole_plane(SIZE), 2, SIZE, stack=[layer])
            out = render_frame(shot, ShotSources(shot, pool), 1)
            matte = render_frame(shot, ShotSources(shot, pool), 1, view="matte")[..., 0] / 255
        far = cv2.dilate(truth, np.ones((15, 15))) == 0
        self.assertLess(float(np.abs(out[far].astype(int) - (30, 40, 90)).mean()), 2.0)
        solid = cv2.erode(truth, np.ones((9, 9))) > 0.999
        self.assertLess(float(np.abs(out[solid].astype(int) - rgb[solid]).mean()), 12)
        self.assertLess(float(np.abs(matte - truth).mean()), 0.012)

    def test_the_command_writes_straight_pictures_and_says_what_is_wrong(self) -> None:
        rgb, truth = filmed(CLOTHS["blue"])
        with tempfile.TemporaryDirectory() as name:
            clip = write(Path(name) / "b.mp4", [rgb] * 3, crf=6)
            for screen in ("auto", "42,92,184"):
                out = Path(name) / screen
                self.assertEqual(main(["key", str(clip), "--screen", screen, "--range", "1:3", "--out", str(out)]), 0)
                files = sorted(out.glob("*.png"))
                self.assertEqual([f.name for f in files], ["000000.png", "000001.png"])
                picture = cv2.imread(str(files[0]), cv2.IMREAD_UNCHANGED)
                assert picture is not None
                self.assertEqual(picture.shape, (360, 640, 4))
                self.assertLess(float(np.abs(picture[..., 3] / 255 - truth).mean()), 0.014)
            self.assertNotEqual(main(["key", str(clip), "--screen", "green", "--out", str(Path(name) / "x")]), 0)
