"""Keyed numbers as files and back, and what steadying does as a table."""

from __future__ import annotations

import csv
import io
import json
import unittest
from fractions import Fraction
from typing import Any

import numpy as np

from plonket.base.errors import BadInput, FormatError
from plonket.base.fields import Keyed, Number, Wobbling, value_at
from plonket.document.curves import moving_numbers, with_curves
from plonket.document.shot import Shot, read_shot
from plonket.formats.key_curves import read_curves, write_curves_csv, write_curves_json
from plonket.formats.moves import write_moves_csv, write_moves_json
from plonket.formats.plane_json import read_plane

KEYS = [{"frame": 2, "value": 10.0, "ease": "curve", "out_time": 0.6, "out_value": 4.0},
        {"frame": 12, "value": 40.0, "in_value": -9.0}, {"frame": 20, "value": 0.0, "ease": "hold"}]  # fmt: skip


def shot() -> Shot:
    layer: dict[str, Any] = {
        "kind": "fill", "id": "fill", "name": "Fill", "opacity": {"keys": KEYS},
        "looks": [{"kind": "blur", "id": "b", "name": "B", "radius": {
            "base": {"keys": [{"frame": 0, "value": 3.0}, {"frame": 9, "value": 5.0}]}, "wobble": {"amount": 1.0}}}],
    }  # fmt: skip
    inside = layer | {"id": "inside", "looks": []}
    return read_shot({"name": "s", "stack": [layer], "parcels": [{"id": "q", "name": "Q", "stack": [inside]}],
                      "finish": [{"kind": "blur", "id": "f", "name": "F",
                                  "radius": {"keys": [{"frame": 0, "value": 1.0}]}}]})  # fmt: skip


def at(number: Number, frames: range = range(24)) -> list[float]:
    return [value_at(number, frame) for frame in frames]


class Curves(unittest.TestCase):
    def test_numbers_are_found_wherever_they_stand(self) -> None:
        self.assertEqual(list(moving_numbers(shot(), "fill")), ["opacity", "looks/0/radius"])
        self.assertEqual(list(moving_numbers(shot(), "inside")), ["opacity"])
        self.assertEqual(list(moving_numbers(shot(), "finish")), ["looks/0/radius"])
        self.assertEqual(moving_numbers(shot(), "footage"), {})
        with self.assertRaises(BadInput):
            moving_numbers(shot(), "gone")

    def test_json_keeps_every_key_and_handle(self) -> None:
        text = write_curves_json(moving_numbers(shot(), "fill"), Fraction(25))
        back = with_curves(with_curves(shot(), "fill", {"opacity": 5.0, "looks/0/radius": 2.0}), "fill", read_curves(text))
        self.assertEqual(moving_numbers(back, "fill")["opacity"], moving_numbers(shot(), "fill")["opacity"])
        radius = moving_numbers(back, "fill")["looks/0/radius"]
        # It was set to a plain number, so what wobbled does so no more.
        assert isinstance(radius, Keyed)
        self.assertEqual([key.value for key in radius.keys], [3, 5])
        kept = moving_numbers(with_curves(shot(), "fill", read_curves(text)), "fill")["looks/0/radius"]
        self.assertIsInstance(kept, Wobbling)

    def test_a_table_has_every_frame_and_comes_back_the_same_with_few_keys(self) -> None:
        numbers = moving_numbers(shot(), "fill")
        text = write_curves_csv(numbers, 24)
        rows = list(csv.DictReader(io.StringIO(text)))
        self.assertEqual((len(rows), list(rows[0])), (24, ["frame", "opacity", "looks/0/radius"]))
        np.testing.assert_allclose([float(row["opacity"]) for row in rows], at(numbers["opacity"]), rtol=1e-8)
        back = read_curves(text)
        np.testing.assert_allclose(at(back["opacity"]), at(numbers["opacity"]), atol=1e-4)
        ramp = read_curves("frame,x\n" + "\n".join(f"{k},{min(k, 10) * 2}" for k in range(30)))["x"]
        assert isinstance(ramp, Keyed)
        self.assertEqual([(key.frame, key.value, key.ease) for key in ramp.keys],
                         [(0, 0, "linear"), (10, 20, "linear"), (29, 20, "linear")])  # fmt: skip
        self.assertEqual(read_curves("frame,x\n0,7\n5,7\n"), {"x": 7.0})
        gaps = read_curves("frame,x,y\n0,1,\n5,,2\n9,4,3\n")
        self.assertEqual({name: [k.frame for k in one.keys] for name, one in gaps.items() if isinstance(one, Keyed)},
                         {"x": [0, 9], "y": [5, 9]})  # fmt: skip

    def test_they_move_the_thing_in_a_parcel_and_the_finish(self) -> None:
        moved = with_curves(shot(), "inside", read_curves("frame,opacity\n0,0\n10,100\n"))
        self.assertEqual(at(moving_numbers(moved, "inside")["opacity"])[5], 50)
        self.assertEqual(moving_numbers(moved, "fill"), moving_numbers(shot(), "fill"))
        finish = with_curves(shot(), "finish", {"looks/0/radius": 4.0})
        self.assertEqual(finish.finish[0].radius, 4.0)  # type: ignore[attr-defined]

    def test_what_cannot_be_taken_says_why(self) -> None:
        for path, value in (("nothing", 1.0), ("looks/4/radius", 1.0), ("name", 1.0), ("looks/0", 1.0), ("shown", 1.0)):
            with self.assertRaises(BadInput) as caught:
                with_curves(shot(), "fill", {path: value})
            self.assertIn(path, caught.exception.message)
        with self.assertRaises(BadInput) as caught:
            with_curves(shot(), "fill", read_curves("frame,opacity\n0,0\n3,900\n"))
        self.assertIn("Opacity", caught.exception.message)
        bad = json.dumps({"curves": [{"number": "opacity", "keys": [{"frame": 3, "value": 1}, {"frame": 1, "value": 1}]}]})
        for text, word in (("{", "needs"), ('{"curves": []}', "0 curves"), (bad, "opacity"), ("x,y\n1,2\n", "begins with"),
                           ("frame,x\n1,one\n", "Line 2"), ("frame,x\n-1,1\n", "Line 2"), ("frame,x\n1,nan\n", "Line 2"),
                           ("frame,x\n", "no values"), ("", "begins with")):  # fmt: skip
            with self.assertRaises(FormatError) as wrong:
                read_curves(text)
            self.assertIn(word, wrong.exception.message)


class Moves(unittest.TestCase):
    def test_shift_turn_and_size_of_the_middle_and_a_plane_that_does_it_again(self) -> None:
        angle, zoom = np.radians(5.0), 1.2
        c, s = zoom * np.cos(angle), zoom * np.sin(angle)
        about = np.array([[1, 0, 50], [0, 1, 40], [0, 0, 1.0]])
        moved = np.array([[1, 0, 3], [0, 1, -2], [0, 0, 1.0]]) @ about @ [[c, -s, 0], [s, c, 0], [0, 0, 1]] @ np.linalg.inv(about)
        rows = list(csv.DictReader(io.StringIO(write_moves_csv(np.stack([np.eye(3), moved]), (100, 80)))))
        np.testing.assert_allclose([float(rows[0][k]) for k in ("x", "y", "turn", "size")], [0, 0, 0, 100], atol=1e-9)
        np.testing.assert_allclose([float(rows[1][k]) for k in ("x", "y", "turn", "size")], [3, -2, 5, 120], atol=1e-3)
        plane = read_plane(write_moves_json(np.stack([np.eye(3), moved])))
        np.testing.assert_allclose(np.linalg.inv(plane.homography[1]) @ plane.homography[0], moved, atol=1e-6)
