"""Masks: coverage against closed forms, at any zoom; how several go together; what they cut."""

from __future__ import annotations

import unittest

import numpy as np

from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import BadInput
from plonket.base.fields import Key, Keyed
from plonket.base.homography import translation
from plonket.base.outlines import Outline, OutlineKey, OutlinePoint, carry, polygon_outline
from plonket.document.bases import Mask
from plonket.document.follow import Follow
from plonket.document.hashes import picture_hash
from plonket.document.kinds import MASKS
from plonket.document.shot import Footage, Shot, read_shot
from plonket.image.picture import StillSource
from plonket.layers.still import StillLayer
from plonket.masks.combine import combined
from plonket.masks.graded import GradedMask
from plonket.masks.outlined import OutlineMask
from plonket.render.frame import render_frame
from tests.core.test_comp import FakeSources

SIZE = (160, 120)
ROUND = 0.5522847
"""Handle of a quarter circle, of its radius."""


class WhiteOnBlack(FakeSources):
    """A black clip and one white square."""

    def plate(self, asset: str, frame: int) -> U8:
        return np.zeros((120, 160, 3), np.uint8)

    def element(self, asset: str, frame: int, key: object = None, level: int = 0) -> StillSource:
        return StillSource(np.full((40, 40, 4), 255, np.uint8))


def shot_of(stack: list[StillLayer], size: tuple[int, int]) -> Shot:
    footage = Footage(asset="c" * 64, name="c", width=size[0], height=size[1], rate="30/1", frames=3, in_frame=0, out_frame=2)
    return Shot(name="s", footage=footage, stack=stack)  # type: ignore[arg-type]


def circle(cx: float, cy: float, r: float, feather: float = 0.0, frame: int = 0) -> Outline:
    """Four points whose cubics lie within 0.03 % of the radius of a circle."""
    k = ROUND * r
    spots = [(cx, cy - r, -k, 0), (cx + r, cy, 0, -k), (cx, cy + r, k, 0), (cx - r, cy, 0, k)]
    points = [OutlinePoint(x=x, y=y, in_x=ix, in_y=iy, out_x=-ix, out_y=-iy, feather=feather) for x, y, ix, iy in spots]
    return Outline(keys=[OutlineKey(frame=frame, points=points)])


def mask(outline: Outline, mask_id: str = "m", **more: object) -> OutlineMask:
    return OutlineMask(id=mask_id, name=mask_id, outline=outline, **more)  # type: ignore[arg-type]


def box(x0: float, y0: float, x1: float, y1: float) -> Outline:
    return polygon_outline(np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]]))


def cover(one: Mask, matrix: F64 | None = None, size: tuple[int, int] = SIZE, frame: float = 0) -> F32:
    found = MASKS.get(one.kind).run(one, frame, size, np.eye(3) if matrix is None else matrix)
    assert found.dtype == np.float32 and found.shape == (size[1], size[0])
    return found


def away(cx: float, cy: float, size: tuple[int, int] = SIZE) -> F64:
    y, x = np.mgrid[0 : size[1], 0 : size[0]] + 0.5
    return np.asarray(np.hypot(x - cx, y - cy))


class Edges(unittest.TestCase):
    def test_a_hard_circle_covers_its_area_and_its_edge_is_one_pixel_wide(self) -> None:
        for grow in (0.0, 5.0, -5.0):
            found = cover(mask(circle(80.3, 60.6, 30), grow=grow))
            r = 30 + grow
            self.assertAlmostEqual(float(found.sum()) / (np.pi * r * r), 1, delta=0.006)
            d = away(80.3, 60.6)
            self.assertTrue((found[d < r - 1] == 1).all() and (found[d > r + 1] == 0).all())
            np.testing.assert_allclose(found, np.clip(r + 0.5 - d, 0, 1), atol=0.13)

    def test_a_feathered_circle_fades_with_distance_as_the_closed_form_says(self) -> None:
        d = away(80, 60)
        for feather, low, high in ((20.0, 30, 50), (-20.0, 10, 30)):
            u = np.clip((high - d) / (high - low), 0, 1)
            np.testing.assert_allclose(cover(mask(circle(80, 60, 30, feather))), u * u * (3 - 2 * u), atol=0.012)
        u = np.clip((36 - d) / 12, 0, 1)
        np.testing.assert_allclose(cover(mask(circle(80, 60, 30), soft=12.0)), u * u * (3 - 2 * u), atol=0.012)

    def test_each_point_has_its_own_feather(self) -> None:
        outline = box(40, 30, 120, 90)
        points = outline.keys[0].points
        soft_left = [p.model_copy(update={"feather": 24.0 if p.x < 80 else 0.0}) for p in points]
        found = cover(mask(Outline(keys=[OutlineKey(frame=0, points=soft_left)])))
        row = found[60]
        self.assertTrue((row[41:119] == 1).all())
        self.assertAlmostEqual(float(row[27]), 0.44, delta=0.03)  # 12.5 px out of 24: smoothly half gone.
        self.assertEqual(float(row[122]), 0.0)
        self.assertTrue((np.diff(row[:42]) >= -1e-6).all())

    def test_any_zoom_and_scale_shows_the_same_mask(self) -> None:
        """Drawn four times as large and averaged, it is what it is at full size; widths scale along."""
        for one in (mask(circle(80, 60, 30, 12)), mask(circle(80, 60, 30), soft=9.0, grow=3.0), mask(circle(80, 60, 30))):
            fine = cover(one, np.diag([4.0, 4, 1]), (640, 480)).reshape(120, 4, 160, 4).mean(axis=(1, 3))
            np.testing.assert_allclose(cover(one), fine, atol=0.09)
            half = cover(one, np.diag([0.5, 0.5, 1]), (80, 60))
            np.testing.assert_allclose(half, fine.reshape(60, 2, 80, 2).mean(axis=(1, 3)), atol=0.09)

    def test_perspective_widens_the_feather_where_the_surface_is_near(self) -> None:
        tilt = np.array([[1, 0, 0], [0, 1, 0], [0.004, 0, 1.0]])
        one = mask(box(20, 30, 140, 90), soft=16.0)
        found = cover(one, tilt)
        # Each spot of the picture asks the plain mask what it shows there.
        y, x = np.mgrid[0:120, 0:160] + 0.5
        there = carry(np.stack([x.ravel(), y.ravel()], axis=1), np.linalg.inv(tilt))
        plain = cover(one, np.diag([4.0, 4, 1]), (640, 480))
        index = np.clip(np.nan_to_num(there, nan=-1) * 4, 0, [639, 479]).astype(int)
        expected = plain[index[:, 1], index[:, 0]].reshape(120, 160)
        self.assertLess(float(np.abs(found - expected).mean()), 0.02)

    def test_an_outline_moves_from_key_to_key(self) -> None:
        a, b = circle(40, 60, 20).keys[0], circle(100, 60, 20, frame=10).keys[0]
        one = mask(Outline(keys=[a, b]))
        for frame, x in ((0, 40), (5, 70), (10, 100), (30, 100)):
            found = cover(one, frame=frame)
            centre = float((found * (np.arange(160) + 0.5)).sum() / found.sum())
            self.assertAlmostEqual(centre, x, delta=0.05)

    def test_a_graded_mask_fades_between_its_two_spots(self) -> None:
        one = GradedMask(id="g", name="Sky", from_x=0, from_y=20, to_x=0, to_y=80, fade="even")
        column = cover(one)[:, 7]
        np.testing.assert_allclose(column, np.clip((80 - np.arange(120) - 0.5) / 60, 0, 1), atol=1e-5)
        half = cover(one, np.diag([0.5, 0.5, 1]), (80, 60))[:, 3]
        np.testing.assert_allclose(half, (column[::2] + column[1::2]) / 2, atol=0.01)
        smooth = cover(one.model_copy(update={"fade": "smooth"}))[:, 7]
        self.assertLess(float(np.abs(np.diff(smooth)).max()), 1.6 / 60)


class Together(unittest.TestCase):
    def both(self, *masks: Mask) -> F32:
        found = combined(masks, 0, SIZE, lambda _: np.eye(3))
        assert found is not None
        return found

    def test_with_off_and_only_where_both_are(self) -> None:
        a, b = box(20, 20, 80, 80), box(60, 40, 120, 100)
        left, right = cover(mask(a)), cover(mask(b))
        np.testing.assert_allclose(self.both(mask(a), mask(b, "n")), np.maximum(left, right), atol=0.26)
        np.testing.assert_allclose(self.both(mask(a), mask(b, "n", mode="subtract")), left * (1 - right), atol=1e-6)
        np.testing.assert_allclose(self.both(mask(a), mask(b, "n", mode="intersect")), left * right, atol=1e-6)
        # A list that begins by taking off begins with everything.
        np.testing.assert_allclose(self.both(mask(a, mode="subtract")), 1 - left, atol=1e-6)
        np.testing.assert_allclose(self.both(mask(a, inverted=True)), 1 - left, atol=1e-6)

    def test_strength_can_be_keyed_and_what_is_off_does_nothing(self) -> None:
        keyed = Keyed(keys=[Key(frame=0, value=0, ease="linear"), Key(frame=10, value=100)])
        one = mask(box(20, 20, 80, 80), strength=keyed)
        found = combined([one], 4, SIZE, lambda _: np.eye(3))
        assert found is not None
        self.assertAlmostEqual(float(found[50, 50]), 0.4, places=5)
        self.assertIsNone(combined([one.model_copy(update={"shown": False})], 4, SIZE, lambda _: np.eye(3)))
        self.assertIsNone(combined([], 0, SIZE, lambda _: np.eye(3)))


class OnLayers(unittest.TestCase):
    """A mask cuts a layer, on the footage, or on the layer's own picture, where it moves along."""

    def layer(self, masks: list[Mask], **more: object) -> StillLayer:
        return StillLayer(id="s", name="S", asset="a" * 64, width=40, height=40, x=80, y=60, follow=Follow(), masks=masks,
                          **more)  # type: ignore[arg-type]  # fmt: skip

    def test_it_cuts_on_the_footage_and_on_the_layers_own_picture(self) -> None:
        sources = WhiteOnBlack()
        half = box(80, 0, 160, 120)
        own_half = mask(box(20, -5, 60, 60), rides="own")
        for masks in ([mask(half)], [own_half]):
            out = render_frame(shot_of([self.layer(masks)], SIZE), sources, 0)
            self.assertTrue((out[60, 61:79] == 0).all() and (out[60, 82:99] == 255).all())
        # Moved, the layer takes the mask along that rides on it; the other stays on the footage.
        moved = render_frame(shot_of([self.layer([own_half]).model_copy(update={"x": 50.0})], SIZE), sources, 0)
        self.assertTrue((moved[60, 31:49] == 0).all() and (moved[60, 52:69] == 255).all())
        gone = render_frame(shot_of([self.layer([mask(half)]).model_copy(update={"x": 50.0})], SIZE), sources, 0)
        self.assertEqual(int(gone.max()), 0)
        small = render_frame(shot_of([self.layer([own_half])], SIZE), sources, 0, scale=0.5)
        self.assertTrue((small[30, 31:39] == 0).all() and (small[30, 42:49] == 255).all())

    def test_names_and_colours_do_not_change_pictures_and_ids_are_single(self) -> None:
        one = mask(box(1, 1, 9, 9))
        shot = shot_of([self.layer([one])], SIZE)
        again = shot_of([self.layer([one.model_copy(update={"name": "Other", "colour": "#123456"})])], SIZE)
        self.assertEqual(picture_hash(shot), picture_hash(again))
        wider = shot_of([self.layer([one.model_copy(update={"grow": 2.0})])], SIZE)
        self.assertNotEqual(picture_hash(shot), picture_hash(wider))
        record = shot.model_dump(mode="json")
        record["stack"][0]["masks"] *= 2
        with self.assertRaisesRegex(BadInput, "two masks have the same id"):
            read_shot(record)

    def test_a_window_shows_the_same_part(self) -> None:
        """Cut in its layer's own window, a mask is what it is on the whole picture."""
        one = mask(circle(80, 60, 30, 10))
        whole = cover(one)
        np.testing.assert_allclose(cover(one, translation(-50, -40), (60, 40)), whole[40:80, 50:110], atol=1e-5)
