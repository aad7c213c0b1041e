"""Numbered pictures: their order, what is missing, and what stands for it; stills held as clips."""

from __future__ import annotations

import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np

from plonket.base.errors import BadInput
from plonket.media import open_clip, probe
from plonket.media.blank import write_held
from plonket.media.sequence import held, in_order, missing_numbers, numbers_of, spoken
from tests.core.photos import photo


class Sequences(unittest.TestCase):
    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)

    def test_by_their_numbers_whatever_their_digits(self) -> None:
        names = ["take-10.png", "take-9.png", "take-100.png", "take-1.png"]
        self.assertEqual([p.name for p in in_order([Path(n) for n in names])], ["take-1.png", "take-9.png", "take-10.png", "take-100.png"])
        self.assertEqual([p.name for p in in_order([Path("b2.png"), Path("a10.png"), Path("a9.png")])], ["a9.png", "a10.png", "b2.png"])

    def test_what_is_counted_and_what_only_has_numbers_in_it(self) -> None:
        for names, counted in (
            (["s.0007.exr", "s.0008.exr", "s.0010.exr"], [0, 1, 3]),
            (["f0.png", "f2.png", "f4.png", "f8.png"], [0, 1, 2, 4]),
            (["IMG_20261201_101500.jpg", "IMG_20261201_101730.jpg", "IMG_20261201_103012.jpg"], None),
            (["wall.png", "sea.png"], None), (["a1.png", "b2.png"], None), (["one1.png"], None),
        ):  # fmt: skip
            with self.subTest(names):
                self.assertEqual(numbers_of(names), counted)

    def test_missing_ones_by_their_own_numbers(self) -> None:
        for names, missing in (
            (["s.0010.exr", "s.0007.exr", "s.0008.exr"], [9]), (["f0.png", "f2.png", "f4.png", "f8.png"], [6]),
            (["f1.png", "f2.png"], []), (["wall.png", "sea.png"], []), ([], []), (["f5.png", "f8.png", "f9.png"], [6, 7]),
        ):  # fmt: skip
            with self.subTest(names):
                self.assertEqual(missing_numbers(names), missing)

    def test_the_one_before_stands_for_what_is_missing_and_it_is_told(self) -> None:
        for k in (1, 2, 3, 6, 7, 9):
            cv2.imwrite(str(self.folder / f"p{k}.png"), np.full((20, 32, 3), 20 * k, np.uint8))
        info = probe(self.folder)
        self.assertEqual((info.frames, info.missing), (9, (3, 4, 7)))
        clip = open_clip(self.folder)
        self.assertEqual([int(clip.rgb(k)[5, 5, 0]) // 20 for k in range(9)], [1, 2, 3, 3, 3, 6, 7, 7, 9])
        self.assertEqual(info.to_json()["missing"], (3, 4, 7))
        self.assertEqual(spoken([3, 4, 7]), "3 to 4, 7")
        self.assertEqual(spoken(range(0, 40, 2)), "0, 2, 4, 6, 8, 10 and 14 more stretches")
        self.assertEqual(held([]), ([], []))

    def test_a_still_is_held_with_all_of_its_colour(self) -> None:
        picture = photo("coffee.png", (160, 90))
        write_held(self.folder / "s.mp4", picture.astype(np.uint16) * 257, Fraction(30), 7)
        clip = open_clip(self.folder / "s.mp4")
        self.addCleanup(clip.close)
        self.assertEqual((clip.info.frames, clip.info.rate, clip.info.size), (7, 30, (160, 90)))
        for k in (0, 6):
            self.assertLess(float(np.abs(clip.rgb(k).astype(int) - picture).mean()), 0.7)
        with self.assertRaises(BadInput):
            write_held(self.folder / "t.mp4", picture, Fraction(30), 0)
