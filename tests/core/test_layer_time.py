"""Layers in time: their beginning and end, fades, splitting, moving with all their keys, clips at their own rate."""

from __future__ import annotations

import tempfile
import unittest
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from plonket.base.colour import decode
from plonket.base.conventions import U8
from plonket.base.errors import BadInput
from plonket.document.operations import shift, split
from plonket.document.shot import Shot, read_shot
from plonket.document.spot import Spot
from plonket.layers.light import LampLayer, lamp_of
from plonket.layers.model import MeshLayer, set_of
from plonket.media.write import Coding, VideoWriter
from plonket.render.frame import render_alone, render_frame
from plonket.render.media_pool import MediaPool
from plonket.render.sources import ShotSources
from tests.core.furnished import Furnished
from tests.core.test_scene import camera
from tests.core.test_stack import StackSources, seen, shot_of, still

RED = (255, 0, 0)


def fill(**more: Any) -> dict[str, Any]:
    return {"kind": "fill", "id": "f", "name": "F", "first": "#ff0000"} | more


def long(*stack: dict[str, Any], frames: int = 60, **more: Any) -> Shot:
    data = shot_of(*stack, **more).model_dump(mode="json")
    data["footage"] |= {"frames": frames, "out_frame": frames - 1}
    return read_shot(data)


class BeginningAndEnd(unittest.TestCase):
    def red(self, shot: Shot, frame: int, **how: Any) -> bool:
        return bool((seen(shot, frame, **how)[5, 5] == RED).all())

    def test_a_layer_is_there_from_its_first_frame_to_its_last(self) -> None:
        shot = long(fill(begins=10, ends=20))
        self.assertEqual([f for f in (0, 9, 10, 20, 21, 59) if self.red(shot, f)], [10, 20])
        self.assertEqual([f for f in (0, 10, 59) if self.red(long(fill(begins=10)), f)], [10, 59])
        self.assertEqual([f for f in (0, 20, 21) if self.red(long(fill(ends=20)), f)], [0, 20])
        self.assertEqual(int(seen(shot, 5, view="matte").max()), 0)
        np.testing.assert_array_equal(seen(shot, 5), seen(shot, 5, view="plate"))
        # By itself it is looked at in any frame.
        alone = render_alone(shot, StackSources(shot), 40, "f")
        self.assertTrue((alone[5, 5] == RED).all())
        with self.assertRaisesRegex(BadInput, "ends before it begins"):
            long(fill(begins=20, ends=10))

    def test_it_fades_in_and_out_evenly_in_light(self) -> None:
        shot = long(fill(begins=10, ends=30, fade_in=4, fade_out=9))
        plate = decode(np.array(90 / 255))

        def share(frame: int) -> float:
            light = decode(seen(shot, frame)[5, 5].astype(float) / 255)
            return float(1 - light[1] / plate)

        for frame, wanted in ((10, 0.2), (12, 0.6), (14, 1.0), (20, 1.0), (22, 0.9), (26, 0.5), (30, 0.1)):
            self.assertAlmostEqual(share(frame), wanted, delta=0.012, msg=str(frame))
        half = long(fill(begins=10, ends=30, fade_in=4, opacity=50.0))
        self.assertAlmostEqual(half.stack[0].presence(10), 0.1)
        self.assertEqual(half.stack[0].presence(9), 0)

    def test_washes_mattes_and_parcels_keep_their_time(self) -> None:
        exposed = {"kind": "colour", "id": "look-1", "name": "c", "exposure": 1.0}
        wash = {"kind": "wash", "id": "w", "name": "W", "looks": [exposed], "begins": 10, "ends": 12, "fade_in": 1}
        shot = long(wash)
        plate = int(seen(shot, 0)[5, 5, 0])
        self.assertEqual([int(seen(shot, f)[5, 5, 0]) > plate for f in (9, 10, 12, 13)], [False, True, True, False])
        self.assertLess(int(seen(shot, 10)[5, 5, 0]), int(seen(shot, 11)[5, 5, 0]))
        # Cut by a layer that is not there yet, nothing is left; turned round, all of it.
        cutter = still(name="cutter") | {"shown": False, "begins": 10, "width": 40, "height": 20}
        for inverted in (False, True):
            cut = long(fill(matte="cutter", matte_inverted=inverted), cutter)
            self.assertEqual([self.red(cut, f) for f in (5, 15)], [inverted, inverted], "beside it")
            self.assertEqual(bool((seen(cut, 5)[60, 100] == RED).all()), inverted)
            self.assertEqual(bool((seen(cut, 15)[60, 100] == RED).all()), not inverted)

    def test_a_lamp_gives_light_in_its_time_only(self) -> None:

        lamp = LampLayer(id="lamp", name="Lamp", begins=4, ends=8, follow={"target": "p"})  # type: ignore[arg-type]
        whale = MeshLayer(id="m", name="M", asset="a" * 64, extent=(1, 1, 1), follow={"target": "p"})  # type: ignore[arg-type]
        other = whale.model_copy(update={"id": "n", "begins": 6})
        seat = camera()
        room = Furnished(seat, {"p": Spot()}, {"a" * 64: Path("a.glb")}, [whale, other, lamp])
        self.assertEqual([len(set_of(whale, room, f).lamps) for f in (3, 4, 8, 9)], [0, 1, 1, 0])
        self.assertEqual([len(set_of(whale, room, f).things) for f in (5, 6)], [0, 1])
        # The last model that is there brings the shadows of all.
        self.assertEqual([set_of(whale, room, f).shadows for f in (5, 6)], [True, False])
        self.assertIsNone(lamp_of(lamp, seat, Spot(), 2))


class Cutting(unittest.TestCase):
    def test_a_split_layer_goes_on_as_if_it_had_not_been(self) -> None:
        moving = {"keys": [{"frame": 0, "value": 40, "ease": "linear"}, {"frame": 40, "value": 160}]}
        shot = long(still(name="boat") | {"x": moving, "begins": 5, "ends": 45, "fade_in": 3, "fade_out": 6})
        cut, second = split(shot, "boat", 20)
        first, last = cut.layer("boat"), cut.layer(second)
        self.assertEqual((first.begins, first.ends, first.fade_in, first.fade_out), (5, 19, 3, 0))
        self.assertEqual((last.begins, last.ends, last.fade_in, last.fade_out), (20, 45, 0, 6))
        for frame in (0, 5, 19, 20, 44, 50):
            np.testing.assert_array_equal(seen(cut, frame), seen(shot, frame), err_msg=str(frame))
        for frame in (5, 46, 0):
            with self.assertRaisesRegex(BadInput, "can be split between frames 5 and 45"):
                split(shot, "boat", frame)
        whole, made = split(long(fill()), "f", 30)
        self.assertEqual((whole.layer("f").ends, whole.layer(made).begins), (29, 30))

    def test_it_is_moved_with_its_keys_and_its_clip_but_not_what_rides_on_the_footage(self) -> None:
        moving = {"keys": [{"frame": 10, "value": 40}, {"frame": 30, "value": 160}]}
        masks = [{"kind": "graded", "id": f"m{k}", "name": "m", "rides": rides, "from_x": moving, "to_y": 1.0}
                 for k, rides in enumerate(("own", "footage"))]  # fmt: skip
        look = {"kind": "colour", "id": "look-1", "name": "c", "contrast": {"keys": [{"frame": 10, "value": 4}, {"frame": 30, "value": 9}]}}  # fmt: skip
        shot = long(still(name="s") | {"x": moving, "begins": 8, "ends": 40, "starts": 3, "masks": masks, "looks": [look]})
        later: Any = shift(shot, "s", 7).layer("s")
        self.assertEqual((later.begins, later.ends, later.starts), (15, 47, 10))
        self.assertEqual([k.frame for k in later.x.keys], [17, 37])
        self.assertEqual([k.frame for k in later.looks[0].contrast.keys], [17, 37])
        self.assertEqual([[k.frame for k in m.from_x.keys] for m in later.masks], [[17, 37], [10, 30]])
        # No further back than what comes first.
        early: Any = shift(shot, "s", -100).layer("s")
        self.assertEqual((early.begins, early.ends, early.starts, early.x.keys[0].frame), (0, 32, -5, 2))
        self.assertIs(shift(shot, "s", 0), shot)


class OwnRate(unittest.TestCase):
    def test_an_element_clip_keeps_its_own_rate(self) -> None:
        """A second of it lasts a second, whatever the shot's rate is."""
        with tempfile.TemporaryDirectory() as folder:
            paths = {}
            for name, rate, count in (("a", 30, 60), ("b", 12, 24)):
                path = Path(folder) / f"{name}.mp4"
                with VideoWriter(path, (64, 36), Fraction(rate), coding=Coding(crf=4, key_every=1, b_frames=0)) as out:
                    for k in range(count):
                        out.write(np.full((36, 64, 3), 10 + 10 * (k % 24), np.uint8))
                paths[name * 64] = path
            pool = MediaPool(lambda d: paths[d], lambda _: None)  # type: ignore[arg-type, return-value]
            self.addCleanup(pool.close)
            footage = {"asset": "a" * 64, "name": "a", "width": 64, "height": 36, "rate": "30/1", "frames": 60, "in_frame": 0,
                       "out_frame": 59}  # fmt: skip

            def code(frame: int, **settings: Any) -> int:
                layer = {"kind": "still", "id": "s", "name": "s", "asset": "b" * 64, "width": 64, "height": 36, "x": 32.0,
                         "y": 18.0} | settings  # fmt: skip
                shot = read_shot({"name": "s", "footage": footage, "stack": [layer]})
                picture: U8 = render_frame(shot, ShotSources(shot, pool), frame)
                return round((float(picture[18, 32].mean()) - 10) / 10)

            # At 30 frames a second, frame 45 of the shot is at 1.5 s: frame 18 of a clip with 12 a second.
            self.assertEqual([code(f, pace="own") for f in (0, 5, 45, 59)], [0, 2, 18, 23])
            self.assertEqual([code(f, pace="own", starts=15) for f in (15, 45)], [0, 12])
            self.assertEqual(code(40, pace="own", speed=50.0), 8)
            self.assertEqual(code(20), 20, "as before, a frame of it for each frame")
