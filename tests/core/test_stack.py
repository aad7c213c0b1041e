"""The stack: washes, parcels, mattes, colours, mirrored, cropped and wiped pictures, what is kept from a key."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from plonket.base.colour import decode, encode
from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import BadInput
from plonket.base.fields import value_at
from plonket.document.bases import LayerBase
from plonket.document.hashes import picture_hash
from plonket.document.shot import Shot, read_shot
from plonket.image.picture import StillSource
from plonket.media.conform import conform
from plonket.render.frame import render_alone, render_frame
from plonket.render.media_pool import MediaPool
from plonket.render.stack import lay_stack
from plonket.track.spaces import Spaces
from tests.core.test_comp import FakeSources

SIZE = (200, 120)
FOOTAGE = {"asset": "a" * 64, "name": "c", "width": 200, "height": 120, "rate": "30/1", "frames": 40, "in_frame": 0,
           "out_frame": 39}  # fmt: skip


class StackSources(FakeSources):
    """A grey plate; elements are a red left half beside a green right half, opaque, 40 x 20."""

    def __init__(self, shot: Shot, movement: F64 | None = None) -> None:
        super().__init__(movement)
        self.spaces = Spaces(shot.perches, lambda motion, reference: movement, SIZE)
        self.shot = shot

    def element(self, asset: str, frame: int, key: object = None, level: int = 0) -> StillSource:
        rgba = np.zeros((20, 40, 4), np.uint8)
        rgba[:, :20] = (255, 0, 0, 255)
        rgba[:, 20:] = (0, 255, 0, 255)
        if key is not None:
            rgba[:, 20:, :3] = 0
            rgba[:, 20:, 3] = 0
        return StillSource(rgba)

    def layer(self, layer_id: str) -> LayerBase | None:  # type: ignore[override]
        return next((one for one in self.shot.layers if one.id == layer_id), None)

    def lay(self, canvas: F32, layers: list[LayerBase], frame: int, view: F64, scale: float) -> F32:
        return lay_stack(canvas, layers, self, frame, view, scale)  # type: ignore[arg-type]

    def parcel(self, parcel_id: str) -> list[LayerBase]:
        return next(list(p.stack) for p in self.shot.parcels if p.id == parcel_id)


def still(name: str = "l", x: float = 100.0, y: float = 60.0, **more: Any) -> dict[str, Any]:
    return {"kind": "still", "id": name, "name": name, "asset": "b" * 64, "width": 40, "height": 20, "x": x, "y": y} | more


def shot_of(*stack: dict[str, Any], **more: Any) -> Shot:
    return read_shot({"name": "s", "footage": FOOTAGE, "stack": list(stack)} | more)


def seen(shot: Shot, frame: int = 0, **how: Any) -> U8:
    return render_frame(shot, StackSources(shot), frame, **how)


def near(rgb: U8, colour: tuple[int, int, int], within: int = 12) -> np.ndarray:
    return np.abs(rgb.astype(int) - colour).max(axis=2) <= within


GREY = (90, 90, 90)
RED, GREEN = (255, 0, 0), (0, 255, 0)


class Washes(unittest.TestCase):
    EXPOSED = {"kind": "colour", "id": "look-1", "name": "c", "exposure": 1.0}

    def test_its_looks_are_on_everything_below_and_nothing_above(self) -> None:
        wash = {"kind": "wash", "id": "w", "name": "w", "looks": [self.EXPOSED]}
        plain = seen(shot_of(still()))
        under = seen(shot_of(wash, still()))
        above = seen(shot_of(still(), wash))
        bright = int(round(float(encode(np.array(float(decode(np.array(90 / 255))) * 2))) * 255))
        self.assertTrue(near(under[:40], (bright,) * 3, 1).all())
        self.assertTrue(near(above[:40], (bright,) * 3, 1).all())
        np.testing.assert_array_equal(above[55:65, 85:95], plain[55:65, 85:95])

    def test_opacity_masks_and_hiding_limit_it(self) -> None:
        box = {"kind": "outline", "id": "m", "name": "m", "outline": {"keys": [{"frame": 0, "points": [
            {"x": 0, "y": 0}, {"x": 100, "y": 0}, {"x": 100, "y": 120}, {"x": 0, "y": 120}]}]}}  # fmt: skip
        wash = {"kind": "wash", "id": "w", "name": "w", "looks": [self.EXPOSED], "masks": [box]}
        half = seen(shot_of(wash))
        self.assertTrue(near(half[:, 110:], GREY, 1).all())
        self.assertGreater(int(half[60, 50, 0]), 110)
        light = float(decode(np.array(90 / 255)))
        soft = seen(shot_of(wash | {"opacity": 50.0}))
        self.assertAlmostEqual(float(decode(np.array(soft[60, 50, 0] / 255))), light * 1.5, delta=0.01)
        self.assertTrue(near(seen(shot_of(wash | {"shown": False})), GREY, 0).all())
        # In a wash, the matte view shows nothing: it covers nothing.
        self.assertEqual(int(seen(shot_of(wash), view="matte").max()), 0)


class Parcels(unittest.TestCase):
    def packed(self, *shows: dict[str, Any], inside: list[dict[str, Any]] | None = None) -> Shot:
        layers = [{"kind": "parcel", "id": f"p{k}", "name": "p", "parcel": "q", "width": 200, "height": 120, "x": 100.0, "y": 60.0}
                  | s for k, s in enumerate(shows)]  # fmt: skip
        return shot_of(*layers, parcels=[{"id": "q", "name": "q", "stack": inside or [still()]}])

    def test_a_parcel_in_its_place_looks_like_its_layers(self) -> None:
        np.testing.assert_allclose(seen(self.packed({})).astype(int), seen(shot_of(still())).astype(int), atol=1)

    def test_it_moves_turns_and_grows_as_one_and_is_usable_twice(self) -> None:
        twice = seen(self.packed({"x": 50.0}, {"x": 150.0, "size": 50.0}))
        self.assertTrue(near(twice[55:65, 32:48], RED).all())
        self.assertTrue(near(twice[57:63, 141:149], RED).all())
        self.assertTrue(near(twice[57:63, 151:159], GREEN).all())
        self.assertTrue(near(twice[:, 162:], GREY, 2).all())
        turned = seen(self.packed({"turn": 90.0}))
        self.assertTrue(near(turned[42:58, 95:105], RED).all())
        faint = seen(self.packed({"opacity": 50.0}))
        self.assertAlmostEqual(float(decode(np.array(faint[60, 90, 0] / 255))), (1 + float(decode(np.array(90 / 255)))) / 2, delta=0.01)

    def test_its_time_can_be_shifted(self) -> None:
        keyed = {"keys": [{"frame": 0, "value": 60, "ease": "linear"}, {"frame": 10, "value": 140}]}
        shot = self.packed({"starts": 5}, inside=[still(x=keyed)])  # type: ignore[arg-type]
        self.assertTrue(near(seen(shot, 5)[55:65, 43:57], RED).all())
        self.assertTrue(near(seen(shot, 15)[55:65, 123:137], RED).all())

    def test_a_parcel_in_itself_and_one_that_is_not_there_are_refused(self) -> None:
        loop = {"kind": "parcel", "id": "again", "name": "again", "parcel": "q"}
        with self.assertRaises(BadInput) as caught:
            self.packed({}, inside=[loop])
        self.assertIn("need itself", caught.exception.message)
        with self.assertRaises(BadInput):
            shot_of({"kind": "parcel", "id": "p", "name": "p", "parcel": "none"})

    def test_what_is_inside_counts_in_the_pictures_hash(self) -> None:
        one, other = self.packed({}), self.packed({}, inside=[still(x=101.0)])
        self.assertNotEqual(picture_hash(one), picture_hash(other))
        self.assertEqual(picture_hash(one), picture_hash(self.packed({}, inside=[still() | {"name": "other"}])))


class Mattes(unittest.TestCase):
    def test_a_layer_is_cut_by_what_another_covers(self) -> None:
        colour = {"kind": "fill", "id": "f", "name": "f", "first": "#0000ff", "matte": "l"}
        hidden = still(shown=False)
        shown = seen(shot_of(colour, hidden))
        self.assertTrue(near(shown[52:68, 82:118], (0, 0, 255)).all())
        self.assertTrue(near(shown[:, :76], GREY, 1).all())
        inverted = seen(shot_of(colour | {"matte_inverted": True}, hidden))
        self.assertTrue(near(inverted[52:68, 82:118], GREY, 1).all())
        self.assertTrue(near(inverted[:, :76], (0, 0, 255)).all())
        luma = seen(shot_of(colour | {"matte_by": "luma"}, hidden))
        share = 0.7152
        blue = float(decode(np.array(luma[60, 110, 2] / 255)))
        self.assertAlmostEqual(blue, share + (1 - share) * float(decode(np.array(90 / 255))), delta=0.02)

    def test_mattes_in_a_circle_are_refused(self) -> None:
        with self.assertRaises(BadInput) as caught:
            shot_of(still("a", matte="b"), still("b", matte="a"))
        self.assertIn("need itself", caught.exception.message)
        with self.assertRaises(BadInput):
            shot_of(still("a", matte="nobody"))


class Cutting(unittest.TestCase):
    def test_mirrored_about_its_own_middle(self) -> None:
        for mirror, left in (("no", RED), ("across", GREEN), ("down", RED), ("both", GREEN)):
            self.assertTrue(near(seen(shot_of(still(mirror=mirror)))[55:65, 84:96], left).all(), mirror)

    def test_cropped_by_percent_with_edges_that_cover_in_part(self) -> None:
        out = seen(shot_of(still(crop_left=25.0, crop_bottom=50.0)))
        self.assertTrue(near(out[51:59, 92:98], RED).all())
        self.assertTrue(near(out[51:59, 81:88], GREY, 2).all())
        self.assertTrue(near(out[62:69, 82:118], GREY, 2).all())
        # A crop in the middle of a pixel covers half of it.
        half = seen(shot_of(still(crop_left=26.25)), view="matte")[55:65, 90, 0]
        self.assertTrue((np.abs(half.astype(int) - 128) < 14).all(), half)

    def test_a_wipe_takes_it_off_behind_a_moving_edge(self) -> None:
        covered = [int((seen(shot_of(still(wiped=float(w), wipe_soft=2.0)), view="matte")[..., 0] > 128).sum())
                   for w in (0, 25, 50, 75, 100)]  # fmt: skip
        self.assertEqual(covered, sorted(covered, reverse=True))
        self.assertAlmostEqual(covered[2] / covered[0], 0.5, delta=0.06)
        self.assertEqual(covered[4], 0)
        down = seen(shot_of(still(wiped=50.0, wipe_soft=1.0, wipe_angle=90.0)), view="matte")[..., 0]
        self.assertEqual(int(down[51:57, 85:115].max()), 0)
        self.assertEqual(int(down[63:69, 85:115].min()), 255)

    def test_it_turns_and_grows_about_its_anchor(self) -> None:
        corner = seen(shot_of(still(x=100.0, y=60.0, anchor_x=0.0, anchor_y=0.0, size=200.0)), view="matte")[..., 0]
        self.assertEqual(int(corner[62:98, 102:178].min()), 255)
        self.assertEqual(int(corner[:58].max()), 0)
        turned = seen(shot_of(still(anchor_x=0.0, anchor_y=50.0, turn=180.0)), view="matte")[..., 0]
        self.assertEqual(int(turned[52:68, 62:98].min()), 255)
        self.assertEqual(int(turned[:, 103:].max()), 0)

    def test_slow_motion_mixes_two_frames_in_light(self) -> None:
        class Clip(StackSources):
            def length(self, asset: str) -> int:
                return 4

            def element(self, asset: str, frame: int, key: object = None, level: int = 0) -> StillSource:
                return StillSource(np.full((20, 40, 3), (0, 120, 200, 255)[frame], np.uint8))

        shot = shot_of(still(speed=50.0, between="mixed"))
        levels = [int(render_frame(shot, Clip(shot), f)[60, 100, 0]) for f in range(3)]
        mean = float(decode(np.array(120 / 255))) / 2
        self.assertEqual((levels[0], levels[2]), (0, 120))
        self.assertAlmostEqual(levels[1], float(encode(np.array(mean))) * 255, delta=1)


class Colours(unittest.TestCase):
    def test_one_colour_and_gradients_even_in_light(self) -> None:
        self.assertTrue(near(seen(shot_of({"kind": "fill", "id": "f", "name": "f", "first": "#336699"})), (51, 102, 153), 1).all())
        line = {"kind": "fill", "id": "f", "name": "f", "course": "straight", "first": "#000000", "other": "#ffffff", "from_x": 0.0,
                "from_y": 0.0, "to_x": 200.0, "to_y": 0.0}  # fmt: skip
        row = decode(seen(shot_of(line))[60, :, 0] / 255)
        t = (np.arange(200) + 0.5) / 200
        np.testing.assert_allclose(row, t * t * (3 - 2 * t), atol=0.01)
        round_ = seen(shot_of(line | {"course": "round", "from_x": 100.0, "from_y": 60.0, "to_x": 140.0, "to_y": 60.0}))
        self.assertEqual(int(round_[60, 100, 0]), int(round_[59, 100, 0]))
        self.assertTrue((round_[60, 142:] == 255).all())
        see_through = seen(shot_of(line | {"other_cover": 0.0}))
        self.assertTrue(near(see_through[:, 198:], GREY, 2).all())

    def test_half_size_is_the_same_picture(self) -> None:
        line = {"kind": "fill", "id": "f", "name": "f", "course": "straight", "first": "#101010", "other": "#f0e0d0"}
        full, half = seen(shot_of(line)), seen(shot_of(line), scale=0.5)
        np.testing.assert_allclose(full[::2, ::2].astype(int)[:, :100], half.astype(int), atol=4)


class KeptFromTheKey(unittest.TestCase):
    def test_a_mask_keeps_what_the_key_would_take(self) -> None:
        box = {"kind": "outline", "id": "m", "name": "m", "mode": "keep", "rides": "own", "outline": {"keys": [
            {"frame": 0, "points": [{"x": 24, "y": 0}, {"x": 34, "y": 0}, {"x": 34, "y": 20}, {"x": 24, "y": 20}]}]}}  # fmt: skip
        keyed = still(key={"kind": "screen"})
        self.assertTrue(near(seen(shot_of(keyed))[55:65, 103:118], GREY, 2).all())
        kept = seen(shot_of(keyed | {"masks": [box]}))
        self.assertTrue(near(kept[55:65, 106:112], GREEN).all())
        self.assertTrue(near(kept[55:65, 84:96], RED).all())
        self.assertTrue(near(kept[55:65, 116:119], GREY, 2).all())


class Alone(unittest.TestCase):
    def test_a_hidden_layer_by_itself_over_a_checker(self) -> None:
        shot = shot_of(still(shown=False, opacity=50.0))
        checker = render_alone(shot, StackSources(shot), 0, "l", over=None)
        self.assertEqual(len(np.unique(checker[:40, :, 0])), 2)
        grey = render_alone(shot, StackSources(shot), 0, "l")
        self.assertEqual(len(np.unique(grey[:40])), 1)
        self.assertGreater(int(grey[60, 90, 0]), 180)
        teal = render_alone(shot, StackSources(shot), 0, "l", over="#208090")
        self.assertTrue(near(teal[:40], (0x20, 0x80, 0x90), 1).all())
        with self.assertRaises(BadInput):
            render_alone(shot, StackSources(shot), 0, "none")

    def test_its_matte_is_its_own_whatever_lies_below(self) -> None:
        below = {"kind": "fill", "id": "f", "name": "f"}
        shot = shot_of(still(opacity=50.0), below)
        whole = render_frame(shot, StackSources(shot), 0, view="matte")
        self.assertEqual(int(whole.min()), 255)
        own = render_alone(shot, StackSources(shot), 0, "l", matte=True)
        self.assertAlmostEqual(int(own[60, 100, 0]), 128, delta=1)
        self.assertEqual((int(own[5, 5].max()), int(own[60, 150].max())), (0, 0))


class RefusedMasks(unittest.TestCase):
    MASK = {"kind": "graded", "id": "m", "name": "Kept", "mode": "keep"}

    def test_masks_keep_something_only_where_there_can_be_a_key(self) -> None:
        shot_of(still(masks=[self.MASK]))
        look = {"kind": "blur", "id": "b", "name": "b", "masks": [self.MASK]}
        for bad in (
            {"stack": [{"kind": "wash", "id": "w", "name": "Wash", "masks": [self.MASK]}]}, {"finish": [look]},
            {"stack": [still(looks=[look])]},
            {"plate": [{"kind": "mend", "id": "p", "name": "Mend", "masks": [self.MASK]}]},
        ):  # fmt: skip
            with self.assertRaises(BadInput) as caught:
                shot_of(**bad)  # type: ignore[arg-type]
            self.assertIn("cannot be kept from a key", caught.exception.message)

    def test_one_that_was_stored_goes_on_doing_nothing(self) -> None:
        wash = {"kind": "wash", "id": "w", "name": "Wash", "masks": [self.MASK]}
        read = read_shot({"name": "s", "footage": FOOTAGE, "stack": [wash]}, stored=True)
        mask = read.stack[0].masks[0]
        self.assertEqual((mask.mode, mask.shown), ("add", False))
        read_shot(read.model_dump(mode="json"))


class Moving(unittest.TestCase):
    def test_opacity_may_wobble_and_stays_between_nothing_and_all(self) -> None:
        flicker = {"base": 50.0, "wobble": {"kind": "flicker", "amount": 80.0, "every": 1, "seed": 4}}
        shot = shot_of(still(opacity=flicker))
        layer = shot.stack[0]
        levels = []
        for f in range(0, 40, 3):
            share = float(np.clip(value_at(layer.opacity, f) / 100, 0, 1))
            told = float(decode(np.array(seen(shot, f)[60, 90, 0] / 255)))
            self.assertAlmostEqual(told, share + (1 - share) * float(decode(np.array(90 / 255))), delta=0.01)
            levels.append(share)
        self.assertGreater(len(set(levels)), 5)


class AlphaClips(unittest.TestCase):
    def test_a_clip_with_coverage_keeps_it_through_conforming(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            frames = folder / "frames"
            frames.mkdir()
            y, x = np.mgrid[0:48, 0:64] + 0.5
            for k in range(4):
                alpha = np.clip(14.5 - np.hypot(x - 20 - 6 * k, y - 24), 0, 1) * 255
                bgra = np.dstack([np.full((48, 64, 3), (40, 90, 220), np.uint8), alpha.astype(np.uint8)])
                cv2.imwrite(str(frames / f"{k:03d}.png"), bgra)
            made = conform(frames, folder / "out")
            pool = MediaPool(lambda _: made.clip, lambda _: None)  # type: ignore[arg-type, return-value]
            for k in (0, 3):
                seen = pool.clip("a" * 64).rgba(k)
                self.assertGreater(int(seen[24, 20 + 6 * k, 3]), 250)
                self.assertLess(int(seen[3, 3, 3]), 4)
                self.assertLess(float(np.abs(seen[24, 20 + 6 * k, :3].astype(int) - (220, 90, 40)).max()), 8)
                light, _ = pool.element("a" * 64, k).level(0)
                self.assertAlmostEqual(float(light[..., 3].sum()), np.pi * 14.2**2, delta=0.05 * np.pi * 14.2**2)
            pool.close()
