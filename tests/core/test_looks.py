"""Looks against closed forms: light and display code, edges, sizes, order, masks."""

from __future__ import annotations

import unittest
from typing import Any

import cv2
import numpy as np

from plonket.base.colour import decode, encode
from plonket.base.conventions import F32
from plonket.base.errors import BadInput
from plonket.base.outlines import polygon_outline
from plonket.document.hashes import plate_hash
from plonket.document.kinds import LOOKS
from plonket.document.shot import read_shot
from plonket.image.picture import Picture
from plonket.layers.still import StillLayer
from plonket.looks.apply import apply_looks
from plonket.looks.blur import Blur
from plonket.looks.colour import Colour
from plonket.looks.common import LookContext
from plonket.looks.glow import Glow
from plonket.looks.grain import Grain
from plonket.looks.levels import Levels
from plonket.looks.sharpen import Sharpen
from plonket.looks.wrap import Wrap
from plonket.masks.outlined import OutlineMask
from plonket.render.frame import render_frame
from plonket.render.picked import picked_values
from tests.core.test_masks import WhiteOnBlack, shot_of

SIZE = (160, 120)


def made(model: type, **settings: Any) -> Any:
    return model(id="look", name="Look", **settings)


def run(look: Any, rgba: F32, frame: int = 0, **context: Any) -> F32:
    out = LOOKS.get(look.kind).run(rgba, look, LookContext(frame=frame, **context))
    assert out.dtype == np.float32 and out.shape == rgba.shape
    return out


def flat(value: float | tuple[float, float, float], alpha: float = 1.0) -> F32:
    rgba = np.empty((*SIZE[::-1], 4), np.float32)
    rgba[..., :3] = np.asarray(value) * alpha
    rgba[..., 3] = alpha
    return rgba


def disc(radius: float = 20.0, value: float = 1.0) -> F32:
    y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]] + 0.5
    alpha = np.clip(radius + 0.5 - np.hypot(x - 80, y - 60), 0, 1)
    return np.dstack([alpha * value] * 3 + [alpha]).astype(np.float32)


class Tones(unittest.TestCase):
    def test_what_is_left_at_its_defaults_changes_nothing(self) -> None:
        rng = np.random.default_rng(1)
        alpha = rng.uniform(0, 1, (*SIZE[::-1], 1))
        rgba = np.concatenate([rng.uniform(0, 1.4, (*SIZE[::-1], 3)) * alpha, alpha], axis=2).astype(np.float32)
        for model in (Levels, Colour):
            np.testing.assert_allclose(run(made(model), rgba), rgba, atol=2e-4)

    def test_levels_follow_their_formula_in_display_code_under_any_coverage(self) -> None:
        look = made(Levels, black=10, white=80, middle=1.6, out_black=5, out_white=95)
        for code in (0.2, 0.5, 0.7):
            for alpha in (1.0, 0.3):
                out = run(look, flat(float(decode(np.array(code))), alpha))[0, 0]
                expected = 0.05 + 0.9 * ((code - 0.1) / 0.7) ** (1 / 1.6)
                self.assertAlmostEqual(float(encode(np.array(out[0] / alpha))), expected, places=3)
                self.assertAlmostEqual(float(out[3]), alpha, places=6)
        red = run(made(Levels, channel="red", white=50), flat(float(decode(np.array(0.25)))))[0, 0]
        self.assertAlmostEqual(float(encode(np.array(red[0]))), 0.5, places=3)
        self.assertAlmostEqual(float(encode(np.array(red[1]))), 0.25, places=3)

    def test_exposure_doubles_light_and_warmth_leaves_the_brightness_of_grey(self) -> None:
        np.testing.assert_allclose(run(made(Colour, exposure=1.0), flat(0.2))[0, 0, :3], 0.4, atol=1e-5)
        warm = run(made(Colour, warm=60.0), flat(0.3))[0, 0]
        self.assertGreater(warm[0], warm[2] + 0.1)
        self.assertAlmostEqual(float(warm[:3] @ np.array([0.2126, 0.7152, 0.0722])), 0.3, places=5)
        pale = run(made(Colour, saturation=0.0), flat((0.6, 0.2, 0.1)))[0, 0]
        self.assertAlmostEqual(float(np.ptp(pale[:3])), 0, places=6)
        self.assertAlmostEqual(float(pale[0]), 0.2126 * 0.6 + 0.7152 * 0.2 + 0.0722 * 0.1, places=5)
        for grey in (0.05, 0.18, 0.6):
            out = float(run(made(Colour, contrast=50.0), flat(grey))[0, 0, 0])
            self.assertAlmostEqual(out, 0.18 * (grey / 0.18) ** 1.5, places=5)


class Light(unittest.TestCase):
    def test_a_blur_keeps_all_light_and_leaves_no_fringe(self) -> None:
        for shape in ("soft", "lens", "along"):
            out = run(made(Blur, shape=shape, radius=7.0), disc(20, 0.8))
            self.assertAlmostEqual(float(out[..., 3].sum()) / float(disc()[..., 3].sum()), 1, places=3)
            seen = out[..., 3] > 0.02
            np.testing.assert_allclose((out[..., 0] / np.maximum(out[..., 3], 1e-6))[seen], 0.8, atol=1e-4)
        along = run(made(Blur, shape="along", radius=12.0, angle=0.0), disc(6))[..., 3]
        self.assertGreater(float(along[60, 92]), 0.1)
        self.assertLess(float(along[74, 80]), 0.02)

    def test_a_blur_is_as_wide_at_half_size(self) -> None:
        whole = run(made(Blur, radius=8.0), disc())
        half = cv2.resize(disc(), (80, 60), interpolation=cv2.INTER_AREA)
        np.testing.assert_allclose(
            run(made(Blur, radius=8.0), half, scale=0.5), cv2.resize(whole, (80, 60), interpolation=cv2.INTER_AREA), atol=0.01
        )

    def test_a_lens_shows_its_opening_in_what_was_too_bright_to_be_shown(self) -> None:
        lamp = flat(0.05)
        lamp[60, 80, :3] = 1.0
        soft = run(made(Blur, shape="lens", radius=20, blades=6, bulge=0), lamp)[..., 1] - np.float32(0.05)
        self.assertAlmostEqual(float(soft.sum()), 0.95, delta=0.01, msg="no light is lost")
        ys, xs = np.nonzero(soft > 0.3 * soft.max())
        # A hexagon is as wide as its circle across corners, and by cos 30° narrower across its sides.
        self.assertAlmostEqual(float(np.ptp(xs)), 40, delta=2)
        self.assertAlmostEqual(float(np.ptp(ys)), 40 * np.cos(np.pi / 6), delta=2)
        turned = run(made(Blur, shape="lens", radius=20, blades=6, bulge=0, angle=30), lamp)[..., 1] - np.float32(0.05)
        np.testing.assert_allclose(np.ptp(np.nonzero(turned > 0.3 * turned.max())[0]), 40, atol=2)
        # A lamp that the picture clipped may be many times as bright; what is no lamp stays as it was.
        bright = run(made(Blur, shape="lens", radius=20, discs=900), lamp)[..., 1] - np.float32(0.05)
        self.assertAlmostEqual(float(bright.sum()), 9.95, delta=0.1)
        grey = flat(0.4)
        np.testing.assert_allclose(run(made(Blur, shape="lens", radius=9, discs=900, rim=80), grey), grey, atol=2e-3)
        rimmed = run(made(Blur, shape="lens", radius=20, rim=150), lamp)[60, :, 1] - np.float32(0.05)
        self.assertGreater(rimmed[97], 1.5 * rimmed[80])

    def test_sharpening_raises_detail_and_leaves_flat_parts_and_edges_of_coverage(self) -> None:
        x = np.arange(SIZE[0])
        code = 0.5 + 0.1 * np.sin(2 * np.pi * x / 5)
        waves = np.dstack([np.repeat(decode(code)[None], SIZE[1], axis=0)] * 3 + [np.ones(SIZE[::-1])]).astype(np.float32)
        out = encode(run(made(Sharpen, amount=100.0, radius=2.0), waves)[60, :, 0])
        self.assertGreater(float(np.ptp(out[20:140])), 1.6 * 0.2)
        np.testing.assert_allclose(run(made(Sharpen, amount=200.0), disc(20, 0.5)), disc(20, 0.5), atol=2e-3)

    def test_a_glow_adds_light_round_what_is_bright_and_hides_nothing(self) -> None:
        out = run(made(Glow, threshold=50.0, radius=10.0, tint="#ff8000"), disc(10, 2.0))
        np.testing.assert_array_equal(out[..., 3], disc(10)[..., 3])
        self.assertGreater(float(out[60, 95, 0]), 0.02)
        self.assertEqual(float(out[60, 95, 2]), 0.0)
        dim = run(made(Glow, threshold=90.0), disc(10, 0.2))
        np.testing.assert_allclose(dim, disc(10, 0.2), atol=1e-5)

    def test_light_wraps_only_inside_the_edge_and_only_from_what_is_behind(self) -> None:
        behind = flat((0.9, 0.1, 0.0))
        out = run(made(Wrap, width=6.0, strength=100.0), disc(30, 0.2), behind=behind)
        added = out[..., :3] - disc(30, 0.2)[..., :3]
        np.testing.assert_array_equal(out[..., 3], disc(30)[..., 3])
        self.assertLess(float(added[60, 80].max()), 0.01)
        self.assertGreater(float(added[60, 108, 0]), 0.15)
        self.assertLess(float(added[60, 108, 1]), 0.05)
        self.assertEqual(float(np.abs(added[60, 114]).max()), 0.0)
        np.testing.assert_array_equal(run(made(Wrap), disc()), disc())

    def test_grain_has_its_strength_and_is_new_in_every_frame(self) -> None:
        grey = flat(float(decode(np.array(0.4))))
        for strength in (2.0, 6.0):
            for softness in (0.0, 1.2):
                look = made(Grain, strength=strength, softness=softness)
                noise = (encode(run(look, grey)[..., :3]) - 0.4) * 255
                self.assertAlmostEqual(float(noise.std()) / strength, 1, delta=0.04)
                self.assertAlmostEqual(float(noise.mean()), 0, delta=0.15)
        one, again, other = (run(made(Grain), grey, frame=f) for f in (3, 3, 4))
        np.testing.assert_array_equal(one, again)
        a, b = (encode(p[..., 1]).ravel() - 0.4 for p in (one, other))
        self.assertLess(abs(float(np.corrcoef(a, b)[0, 1])), 0.03)
        bright = flat(float(decode(np.array(1.0))))
        quiet = encode(np.clip(run(made(Grain, highlights=0.0), bright)[..., 0], 0, 1))
        self.assertLess(float(quiet.std()) * 255, 0.1)


class Picked(unittest.TestCase):
    """Black, grey and white points, picked on an element or on the plate."""

    def setUp(self) -> None:
        layer = StillLayer.model_validate({
            "id": "s", "name": "Still", "asset": "e" * 64, "width": 40, "height": 40, "x": 80, "y": 60,
            "looks": [{"kind": "levels", "id": "l", "name": "Levels"}, {"kind": "white", "id": "w", "name": "White"}],
        })  # fmt: skip
        self.shot = shot_of([layer], SIZE)
        self.sources = WhiteOnBlack()

    def values(self, look: str, point: Any, of: Any, at: tuple[float, float] = (80, 60)) -> dict[str, Any]:
        return picked_values(self.shot, self.sources, "s", look, point, of, 0, at)

    def test_white_of_the_element_and_black_of_the_plate(self) -> None:
        # The element is white on a black plate.
        self.assertAlmostEqual(self.values("l", "white", "it")["white"], 100, delta=0.5)
        self.assertAlmostEqual(self.values("l", "black", "plate")["out_black"], 0, delta=0.5)
        self.assertEqual(self.values("w", "grey", "it")["white"], "#ffffff")

    def test_black_and_white_never_meet(self) -> None:
        found = self.values("l", "black", "it")
        levels = Levels.model_validate({"id": "l", "name": "Levels", **found})
        self.assertLess(float(levels.black), float(levels.white))  # type: ignore[arg-type]

    def test_where_nothing_is_shown_nothing_is_picked(self) -> None:
        with self.assertRaises(BadInput):
            self.values("l", "white", "it", (5, 5))
        with self.assertRaises(BadInput):
            self.values("w", "black", "it")


class Laid(unittest.TestCase):
    """Looks on layers and over everything."""

    def layer(self, **more: Any) -> StillLayer:
        return StillLayer(id="s", name="S", asset="a" * 64, width=40, height=40, x=80, y=60, **more)

    def test_a_layers_blur_spreads_beyond_its_window_and_its_order_counts(self) -> None:
        sharp = render_frame(shot_of([self.layer()], SIZE), WhiteOnBlack(), 0)
        soft = render_frame(shot_of([self.layer(looks=[made(Blur, radius=6.0)])], SIZE), WhiteOnBlack(), 0)
        self.assertEqual(int(sharp[60, 105, 0]), 0)
        self.assertGreater(int(soft[60, 105, 0]), 60)
        dark = Colour(id="dark", name="D", exposure=-2.0)
        glow = Glow(id="glow", name="G", threshold=80.0)
        first, last = (
            render_frame(shot_of([self.layer(looks=looks)], SIZE), WhiteOnBlack(), 0) for looks in ([glow, dark], [dark, glow])
        )
        self.assertGreater(int(first[60, 108, 0]), 10)
        self.assertEqual(int(last[60, 108, 0]), 0, "what was darkened before does not glow")
        half = render_frame(shot_of([self.layer(looks=[made(Blur, radius=6.0)])], SIZE), WhiteOnBlack(), 0, scale=0.5)
        self.assertLess(abs(int(half[30, 52, 0]) - int(soft[60, 104:106, 0].mean())), 12)

    def test_the_finish_covers_everything_as_much_and_where_it_is_wanted(self) -> None:
        mask = OutlineMask(id="m", name="M", outline=polygon_outline(np.array([[0.0, 0], [80, 0], [80, 120], [0, 120]])))
        look = made(Colour, exposure=-1.0, masks=[mask])
        shot = shot_of([self.layer()], SIZE).model_copy(update={"finish": [look]})
        out = render_frame(shot, WhiteOnBlack(), 0)
        self.assertEqual(int(out[60, 90, 0]), 255)
        self.assertEqual(int(out[60, 70, 0]), 188)
        part = shot.model_copy(update={"finish": [look.model_copy(update={"mix": 50.0})]})
        self.assertEqual(int(render_frame(part, WhiteOnBlack(), 0)[60, 70, 0]), 225)
        off = shot.model_copy(update={"finish": [look.model_copy(update={"shown": False})]})
        self.assertEqual(int(render_frame(off, WhiteOnBlack(), 0)[60, 70, 0]), 255)
        plain = shot_of([self.layer()], SIZE)
        bare, untouched = (render_frame(s, WhiteOnBlack(), 0, view="plate") for s in (shot, plain))
        np.testing.assert_array_equal(bare, untouched)
        self.assertEqual(plate_hash(shot), plate_hash(plain))

    def test_nothing_to_look_at_stays_nothing_and_ids_are_single(self) -> None:
        empty = Picture(rgba=np.zeros((0, 0, 4), np.float32))
        self.assertEqual(apply_looks([made(Blur)], empty, 0, SIZE, 1.0, lambda _: None).rgba.size, 0)
        record = shot_of([self.layer(looks=[made(Blur)])], SIZE).model_dump(mode="json")
        record["stack"][0]["looks"] *= 2
        with self.assertRaisesRegex(BadInput, "two looks have the same id"):
            read_shot(record)
