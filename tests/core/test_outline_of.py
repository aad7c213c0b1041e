"""Outlines drawn round mattes: as near as asked for, with few points, with holes, and cut off by the picture's rim."""

from __future__ import annotations

import unittest

import cv2
import numpy as np

from plonket.base.conventions import F32
from plonket.base.outlines import fill, flatten
from plonket.masks.outline_of import FoundOutline, outlines_of
from tests.core.test_people import before

SIZE = (640, 360)


def disc(x: int, y: int, radius: int) -> F32:
    out = np.zeros((SIZE[1], SIZE[0]), np.float32)
    return np.asarray(cv2.circle(out, (x, y), radius, 1, -1, cv2.LINE_AA), np.float32)


def covered(found: list[FoundOutline]) -> F32:
    out = np.zeros((SIZE[1], SIZE[0]), np.float32)
    for one in found:
        cover = fill(flatten(one.shape), SIZE).astype(np.float32) / 255
        out = out * (1 - cover) if one.hole else np.maximum(out, cover)
    return out


def likeness(a: F32, b: F32) -> float:
    return float(((a > 0.5) & (b > 0.5)).sum() / ((a > 0.5) | (b > 0.5)).sum())


class Outlines(unittest.TestCase):
    def test_a_ring_is_two_of_four_points(self) -> None:
        ring = disc(300, 180, 120) * (1 - disc(330, 170, 50))
        found = outlines_of(ring)
        self.assertEqual([(len(o.shape), o.hole) for o in found], [(4, False), (4, True)])
        self.assertGreater(likeness(covered(found), ring), 0.99)

    def test_a_square_has_its_corners(self) -> None:
        square = np.zeros((SIZE[1], SIZE[0]), np.float32)
        square[80:300, 100:420] = 1
        (found,) = outlines_of(cv2.GaussianBlur(square, (0, 0), 0.7))
        corners = sorted((round(float(x)), round(float(y))) for x, y in found.shape[:, :2])
        self.assertEqual(len(corners), 4)
        for seen, true in zip(corners, [(100, 80), (100, 300), (420, 80), (420, 300)], strict=True):
            self.assertLess(max(abs(seen[0] - true[0]), abs(seen[1] - true[1])), 2.5)

    def test_a_person_takes_few_points(self) -> None:
        truth = before("brick.png")[1][0]
        found = outlines_of(truth)
        self.assertLess(sum(len(o.shape) for o in found), 60)
        self.assertGreater(likeness(covered(found), truth), 0.985)
        rougher = outlines_of(truth, 3.0)
        self.assertLess(sum(len(o.shape) for o in rougher), 30)
        self.assertGreater(likeness(covered(rougher), truth), 0.95)

    def test_what_the_rim_cuts_off_ends_there(self) -> None:
        cut = disc(10, 350, 120)
        found = outlines_of(cut)
        self.assertGreater(likeness(covered(found), cut), 0.985)
        self.assertGreaterEqual(min(float(o.shape[:, :2].min()) for o in found), 0)

    def test_pieces_come_by_size_and_crumbs_not_at_all(self) -> None:
        pieces = np.maximum(np.maximum(disc(150, 180, 40), disc(420, 180, 90)), disc(600, 40, 3))
        found = outlines_of(pieces)
        self.assertEqual(len(found), 2)
        self.assertGreater(float(found[0].shape[:, 0].mean()), 300)

    def test_nothing_has_none(self) -> None:
        self.assertEqual(outlines_of(np.zeros((40, 60), np.float32)), [])
