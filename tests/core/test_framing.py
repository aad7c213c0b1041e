"""Delivery frames: where they lie when they stay, are keyed and follow, and what is cut out, against closed forms."""

from __future__ import annotations

import unittest
from fractions import Fraction
from typing import Any

import cv2
import numpy as np

from plonket.base.colour import encode, linear_from_codes, linear_of
from plonket.base.conventions import F32, F64, U8
from plonket.base.errors import BadInput
from plonket.base.states import GIVEN, LOST, TRACKED
from plonket.document.delivery import DeliveryFrame
from plonket.document.hashes import picture_hash
from plonket.document.operations import remove
from plonket.document.shot import Shot, read_shot
from plonket.image.rescale import cut
from plonket.media.clip import ArrayClip
from plonket.render.framing import boxes_of, framed, pixels_of
from plonket.render.media_pool import MediaPool
from plonket.render.sources import ShotSources
from plonket.track.matte.matte_track import MatteTrack
from tests.core.photos import photo

SIZE = (320, 180)
FRAMES = 60


def opaque(light: F32) -> F32:
    return np.dstack([light, np.ones(light.shape[:2], np.float32)]).astype(np.float32)


class Cutting(unittest.TestCase):
    """Another size, in linear light."""

    def wave(self, width: int, height: int, per_picture: tuple[float, float], phase: float = 0.0) -> F32:
        y, x = (np.mgrid[0:height, 0:width] + 0.5) / np.array([height, width]).reshape(2, 1, 1)
        grey = 0.5 + 0.4 * np.sin(2 * np.pi * (x * per_picture[0] + y * per_picture[1]) + phase)
        return opaque(np.repeat(grey[..., None], 3, axis=2).astype(np.float32))

    def test_pixel_on_pixel_nothing_changes(self) -> None:
        rgba = opaque(linear_from_codes(photo("coffee.png", SIZE)))
        np.testing.assert_array_equal(cut(rgba, (40, 20, 160, 90), (160, 90)), rgba[20:110, 40:200])

    def test_waves_keep_their_height_and_place(self) -> None:
        """Larger and smaller; a part between pixels."""
        for size in ((640, 360), (500, 281), (160, 90), (97, 55)):
            with self.subTest(size):
                seen = cut(self.wave(320, 180, (9, 4)), (0, 0, 320, 180), size)
                error = np.abs(seen - self.wave(*size, (9, 4)))[8:-8, 8:-8]
                self.assertLess(float(error.max()), 0.03)
                self.assertLess(float(error.mean()), 0.01)
        y, x = np.mgrid[0:90, 0:160] + 0.5
        part = cut(self.wave(320, 180, (9, 4)), (40.3, 20.7, 160, 90), (160, 90))
        true = 0.5 + 0.4 * np.sin(2 * np.pi * ((x + 40.3) / 320 * 9 + (y + 20.7) / 180 * 4))
        self.assertLess(float(np.abs(part[..., 0] - true).max()), 0.004)

    def test_finer_than_the_new_pixels_becomes_grey(self) -> None:
        seen = cut(self.wave(640, 360, (260, 0)), (0, 0, 640, 360), (160, 90))[4:-4, 4:-4, 0]
        self.assertLess(float(np.abs(seen - 0.5).max()), 0.03)
        rough = cv2.resize(self.wave(640, 360, (260, 0)), (160, 90), interpolation=cv2.INTER_CUBIC)[4:-4, 4:-4, 0]
        self.assertGreater(float(np.abs(rough - 0.5).max()), 0.1, "as plain cubic does not")

    def test_edges_do_not_ring(self) -> None:
        edge = opaque(np.where(np.arange(80)[None, :, None] < 40, 0.02, 0.9).repeat(40, axis=0).repeat(3, axis=2).astype(np.float32))
        for size in ((240, 120), (211, 105), (40, 20), (33, 17)):
            with self.subTest(size):
                seen = cut(edge, (0, 0, 80, 40), size)[..., 0]
                self.assertGreaterEqual(float(seen.min()), 0.02 - 1e-6)
                self.assertLessEqual(float(seen.max()), 0.9 + 1e-6)

    def test_photographs_enlarged_are_nearer_to_the_truth_than_plain_cubic(self) -> None:
        for name in ("coffee.png", "astronaut.png", "chelsea.png", "gravel.png", "brick.png"):
            large = opaque(linear_from_codes(photo(name, (640, 360))))
            small = cv2.resize(large, (320, 180), interpolation=cv2.INTER_AREA)
            ours = cut(small, (0, 0, 320, 180), (640, 360))
            plain = cv2.resize(small, (640, 360), interpolation=cv2.INTER_LINEAR)
            errors = [float(np.abs(encode(np.clip(one, 0, 1)) - encode(large)).mean()) for one in (ours, plain)]
            with self.subTest(name):
                self.assertLess(errors[0], errors[1])

    def test_beyond_the_picture_it_is_clear(self) -> None:
        seen = cut(np.ones((40, 80, 4), np.float32), (-20, -10.5, 120, 60), (120, 60))
        self.assertEqual(float(seen[..., 3].sum()), 40 * 80)
        np.testing.assert_allclose(seen[:, 60, 3], np.r_[np.zeros(10), 0.5, np.ones(39), 0.5, np.zeros(9)], atol=1e-6)


def disc_track(middles: F64, lost: range = range(0)) -> MatteTrack:
    """A matte of a disc that goes its way."""
    track = MatteTrack.empty(SIZE, len(middles))
    for k, (x, y) in enumerate(middles):
        alpha = np.zeros((SIZE[1], SIZE[0]), np.uint8)
        cv2.circle(alpha, (round((x - 0.5) * 16), round((y - 0.5) * 16)), 14 * 16, 255, -1, cv2.LINE_AA, 4)
        track = track.with_frame(k, None if k in lost else alpha, "x", 1.0, LOST if k in lost else TRACKED if k else GIVEN)
    return track


class Framing(unittest.TestCase):
    def shot(self, frame: dict[str, Any], **more: Any) -> Shot:
        footage = {"asset": "a" * 64, "name": "a", "width": SIZE[0], "height": SIZE[1], "rate": "30/1", "frames": FRAMES,
                   "in_frame": 0, "out_frame": FRAMES - 1} | more.pop("footage", {})  # fmt: skip
        return read_shot({"name": "s", "footage": footage, "frames": [{"id": "f", "name": "F", "x": 160, "y": 90, **frame}], **more})

    def boxes(self, shot: Shot, measured: Any = None) -> F64:
        clip = ArrayClip([np.zeros((SIZE[1], SIZE[0], 3), np.uint8)] * FRAMES, Fraction(30))
        pool = MediaPool(lambda _: None, lambda _: measured)  # type: ignore[arg-type, return-value]
        pool.clip = lambda _: clip  # type: ignore[method-assign, assignment, return-value]
        return boxes_of(shot.frames[0], shot, ShotSources(shot, pool))

    def test_shapes_and_pixels(self) -> None:
        for values, size, box in (
            ({}, (1080, 1920), (101.25, 180)), ({"shape": "1:1", "pixels": "720"}, (720, 720), (180, 180)),
            ({"shape": "4:5", "pixels": "1440"}, (1440, 1800), (144, 180)), ({"shape": "16:9"}, (1920, 1080), (320, 180)),
            ({"shape": "free", "width": 1000, "height": 250}, (1000, 250), (320, 80)),
            ({"pixels": "cut"}, (102, 180), (101.25, 180)), ({"pixels": "cut", "size": 50}, (50, 90), (50.625, 90)),
        ):  # fmt: skip
            with self.subTest(values):
                shot = self.shot(values)
                self.assertEqual(pixels_of(shot.frames[0], shot), size)
                np.testing.assert_allclose(self.boxes(shot)[7, 2:], box)
        self.assertEqual(pixels_of(shot.frames[0], shot, 0.5), (26, 46))

    def test_it_stops_at_the_edge_or_goes_on(self) -> None:
        inside = self.boxes(self.shot({"x": 5, "y": -400}))
        np.testing.assert_allclose(inside[0], [0, 0, 101.25, 180])
        beyond = self.boxes(self.shot({"x": 5, "y": -400, "within": False}))
        np.testing.assert_allclose(beyond[0, :2], [5 - 101.25 / 2, -490])
        wide = self.boxes(self.shot({"shape": "16:9", "size": 200, "x": 3}))
        np.testing.assert_allclose(wide[0], [-160, -90, 640, 360], err_msg="larger than the picture it has that in its middle")

    def test_keys_move_it(self) -> None:
        keys = {"keys": [{"frame": 0, "value": 100, "ease": "linear"}, {"frame": 50, "value": 200}]}
        boxes = self.boxes(self.shot({"x": keys}))
        np.testing.assert_allclose(boxes[[0, 25, 50], 0] + 101.25 / 2, [100, 150, 200])

    def walk(self) -> F64:
        """To the right, bobbing by three pixels at every step of six frames."""
        t = np.arange(FRAMES)
        return np.stack([90 + 2.4 * t, 90 + 3 * np.sin(2 * np.pi * t / 6)], axis=1)

    def followed(self, frame: dict[str, Any], track: Any, **motion: Any) -> F64:
        asked = {"kind": "matte", "id": "m", "name": "Keeper", "measurement": "b" * 64, "clicks": []} | motion
        return self.boxes(self.shot({"x": 0, "y": 0, "target": "m", **frame}, motions=[asked]), track)

    def test_who_walks_stays_in_the_middle_and_his_bobbing_is_left_out(self) -> None:
        walk = self.walk()
        boxes = self.followed({"size": 50}, disc_track(walk))
        middles = boxes[:, :2] + boxes[:, 2:] / 2
        self.assertLess(float(np.abs(middles[:, 0] - walk[:, 0]).max()), 1.0, "no end lags")
        self.assertLess(float(np.ptp(middles[:, 1])), 0.9)
        tight = self.followed({"size": 50, "smooth": 0}, disc_track(walk))
        self.assertLess(float(np.abs(tight[:, :2] + tight[:, 2:] / 2 - walk).max()), 0.15)

    def test_while_he_is_hidden_it_goes_on_evenly(self) -> None:
        walk = self.walk()
        boxes = self.followed({"size": 50, "smooth": 0.5}, disc_track(walk, range(20, 32)))
        self.assertLess(float(np.abs(boxes[:, 0] + boxes[:, 2] / 2 - walk[:, 0]).max()), 1.2)

    def test_at_the_edge_it_slows_down_before_it_stops(self) -> None:
        walk = np.stack([np.linspace(40, 300, FRAMES), np.full(FRAMES, 90.0)], axis=1)
        boxes = self.followed({"smooth": 0.6}, disc_track(walk))
        self.assertTrue((boxes[:, 0] >= -1e-6).all() and (boxes[:, 0] + boxes[:, 2] <= 320 + 1e-6).all())
        jerk = np.abs(np.diff(boxes[:, 0], n=2)).max()
        hard = self.followed({"smooth": 0}, disc_track(walk))
        self.assertLess(float(jerk), 0.25 * float(np.abs(np.diff(hard[:, 0], n=2)).max()))

    def test_a_shot_that_runs_slower_is_followed_in_its_own_time(self) -> None:
        keys = [{"frame": 0, "value": 0, "ease": "linear"}, {"frame": FRAMES - 1, "value": (FRAMES - 1) / 2}]
        time = {"between": "mixed", "moment": {"keys": keys}}
        asked = {"kind": "matte", "id": "m", "name": "Keeper", "measurement": "b" * 64, "clicks": []}
        shot = self.shot({"x": 0, "y": 0, "target": "m", "size": 40, "smooth": 0}, motions=[asked], footage={"time": time})
        boxes = self.boxes(shot, disc_track(self.walk()))
        self.assertLess(float(np.abs(boxes[:, 0] + boxes[:, 2] / 2 - (90 + 1.2 * np.arange(FRAMES))).max()), 0.3)

    def test_what_is_not_measured_leaves_it_where_it_is(self) -> None:
        boxes = self.followed({"x": 100, "y": 90}, None, measurement=None)
        np.testing.assert_allclose(boxes[0, :2], [100 - 101.25 / 2, 0])

    def test_pictures_do_not_depend_on_it_and_it_stays_without_its_motion(self) -> None:
        asked = {"kind": "matte", "id": "m", "name": "Keeper", "clicks": []}
        shot = self.shot({"target": "m"}, motions=[asked], delivery={"outputs": [{"kind": "h264", "id": "o", "name": "O", "frame": "f"}]})
        self.assertEqual(picture_hash(shot), picture_hash(self.shot({"x": 7}, motions=[asked])))
        self.assertIsNone(remove(shot, "m").frames[0].target)
        self.assertIsNone(remove(shot, "f").delivery.outputs[0].frame)  # type: ignore[attr-defined]
        with self.assertRaises(BadInput):
            self.shot({"target": "nobody"})

    def picture(self) -> F32:
        rgb: U8 = photo("coffee.png", SIZE)
        return opaque(linear_from_codes(rgb))

    def test_what_lies_beyond(self) -> None:
        canvas = self.picture()
        box = np.array([-160.0, -320, 640, 820])
        frame = DeliveryFrame(id="f", name="F", shape="free", width=160, height=206, size=200)
        seen = {how: framed(canvas, box, frame.model_copy(update={"beyond": how, "colour": "#3060a0"}), (160, 206), 1.0)
                for how in ("blur", "colour", "clear")}  # fmt: skip
        np.testing.assert_allclose(seen["colour"][5, 5], [*linear_of("#3060a0"), 1], atol=1e-5)
        self.assertEqual(float(seen["clear"][5, 5, 3]), 0.0)
        np.testing.assert_allclose(seen["blur"][..., 3], 1, atol=1e-5)
        self.assertLess(float(seen["blur"][:60, :, :3].std()), 0.5 * float(canvas[..., :3].std()))
        self.assertGreater(float(seen["blur"][:60, :, :3].mean()), 0.1 * float(canvas[..., :3].mean()))
        inner = (slice(85, 120), slice(45, 115))
        np.testing.assert_allclose(seen["blur"][inner], seen["clear"][inner], atol=1e-5)
        half = framed(canvas[::2, ::2], box, frame.model_copy(update={"beyond": "clear"}), (160, 206), 0.5)
        self.assertLess(float(np.abs(half[inner] - seen["clear"][inner]).mean()), 0.06, "a smaller picture is cut alike")
