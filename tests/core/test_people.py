"""People picked by one click: a real photograph of one before others, and what the hint does with several and with none."""

from __future__ import annotations

import unittest
from functools import cache

import cv2
import numpy as np

from plonket.base.colour import decode, encode
from plonket.base.conventions import F32, U8
from plonket.checks.movers import Box, Mover
from plonket.checks.who_moves import told_apart
from plonket.matting.carried import Before
from plonket.matting.first_cut import clicked
from plonket.matting.people import person_at, person_in
from plonket.matting.person_hint import one_of_several, other_people
from plonket.matting.person_memory import PersonMemory
from plonket.matting.pick import Picked
from plonket.track.matte.settings import PickBox, PickClick
from tests.core.photos import photo
from tests.core.test_pick import likeness, mattes

SIZE = (640, 360)
FRAMES = 8
OUTLINE = np.array([
    (14, 530), (28, 470), (22, 430), (20, 400), (28, 330), (45, 290), (62, 250), (90, 222), (113, 208), (116, 190), (125, 170),
    (140, 156), (165, 149), (183, 148), (183, 130), (172, 122), (160, 100), (155, 80), (159, 60), (172, 47), (190, 37),
    (200, 26), (230, 17), (262, 23), (285, 41), (297, 65), (299, 95), (290, 125), (275, 135), (266, 137), (258, 165),
    (256, 175), (280, 190), (297, 215), (303, 236), (322, 246), (340, 262), (350, 290), (357, 325), (361, 350), (340, 356),
    (315, 379), (295, 401), (286, 430), (281, 460), (279, 530),
], np.float32)  # fmt: skip
"""Of the person in scikit-image's `astronaut.png`, drawn by hand."""


@cache
def before(behind: str, scale: float = 0.62, post: bool = False) -> tuple[list[U8], list[F32]]:
    """A person who hardly moves before a photograph: frames, and true coverage (h, w); `post` stands before her and slides."""
    rng = np.random.default_rng(5)
    w, h = SIZE
    rear = decode(photo(behind, SIZE).astype(np.float64) / 255)
    front = decode(photo("astronaut.png").astype(np.float64) / 255)
    whole = cv2.fillPoly(np.zeros((512, 512), np.float32), [np.round(OUTLINE * 16).astype(np.int32)], 1.0, cv2.LINE_AA, 4)
    frames, truth = [], []
    for k in range(FRAMES):
        x, y = 200 + 2.5 * np.sin(k / 3), h - 512 * scale + 2 * np.cos(k / 4) + 3
        to = np.array([[scale, 0, x], [0, scale, y]])
        cover = cv2.GaussianBlur(cv2.warpAffine(whole, to, SIZE, flags=cv2.INTER_AREA), (0, 0), 0.8)
        light = cv2.warpAffine(front, to, SIZE, flags=cv2.INTER_AREA) * cover[..., None] + rear * (1 - cover[..., None])
        if post:
            stands = slice(150 + 14 * k, 172 + 14 * k)
            light[:, stands], cover[:, stands] = (0.03, 0.035, 0.03), 0
        code = encode(np.clip(light, 0, 1)) * 255 + 2 * rng.standard_normal((h, w, 3))
        frames.append(np.clip(code + 0.5, 0, 255).astype(np.uint8))
        truth.append(np.asarray(cover, np.float32))
    return frames, truth


def one_click(frames: list[U8], x: float, y: float, frame: int = 0) -> Picked:
    clicks = clicked([PickClick(frame=frame, x=x, y=y)], SIZE[0])
    return Picked(lambda k: frames[k], len(frames), clicks, strict=True)


class OneClick(unittest.TestCase):
    def check(self, shot: tuple[list[U8], list[F32]], x: float, y: float, *, mean: float, worst: float) -> None:
        frames, truth = shot
        like = [likeness(a, b) for a, b in zip(mattes(frames, one_click(frames, x, y)), truth, strict=True)]
        self.assertGreater(float(np.mean(like)), mean, like)
        self.assertGreater(min(like), worst, like)

    def test_its_edge_is_calm(self) -> None:
        frames, truth = before("coffee.png")
        found = mattes(frames, one_click(frames, 270, 300))
        beats = [np.abs((b - a) - (d - c)).sum() / c.sum() for a, b, c, d in zip(found, found[1:], truth, truth[1:], strict=False)]
        self.assertLess(float(np.mean(beats)), 0.017, beats)

    def test_a_click_on_the_clothes_takes_the_head_along(self) -> None:
        self.check(before("coffee.png"), 270, 300, mean=0.95, worst=0.9)

    def test_and_one_on_the_face_the_clothes(self) -> None:
        self.check(before("gravel.png"), 338, 115, mean=0.95, worst=0.93)

    def test_she_is_found_small_too(self) -> None:
        self.check(before("brick.png", 0.3), 250, 330, mean=0.92, worst=0.88)

    def test_what_stands_before_her_is_not_hers(self) -> None:
        frames, truth = before("gravel.png", post=True)
        found = mattes(frames, one_click(frames, 300, 330))
        like = [likeness(a, b) for a, b in zip(found, truth, strict=True)]
        self.assertGreater(float(np.mean(like)), 0.9, like)
        for k, alpha in enumerate(found):
            self.assertLess(float(alpha[:, 153 + 14 * k : 169 + 14 * k].mean()), 0.02, k)

    def test_a_box_does_the_same(self) -> None:
        frames, truth = before("coffee.png")
        picked = Picked(lambda k: frames[k], FRAMES, [], [PickBox(frame=0, x0=195, y0=40, x1=450, y1=358)], strict=True)
        self.assertGreater(likeness(mattes(frames, picked)[0], truth[0]), 0.9)


class Movers(unittest.TestCase):
    def mover(self, boxes: list[Box]) -> Mover:
        return Mover(first=0, last=FRAMES - 1, box=boxes[0], at=tuple(enumerate(boxes)))

    def test_a_person_is_told_from_a_thing_and_from_what_passes_before_one(self) -> None:
        frames, truth = before("brick.png", 0.45)
        spans = [[np.flatnonzero((one > 0.5).any(axis=k)) for k in (0, 1)] for one in truth]
        hers = [(float(x[0]), float(y[0]), float(x[-1]), float(y[-1])) for x, y in spans]
        beside = [(x0 - 150, y0, x1 - 150, y1) for x0, y0, x1, y1 in hers]
        legs = [(x0 - 40, y1 - 0.3 * (y1 - y0), x1 + 40, y1) for x0, y0, x1, y1 in hers]
        told = told_apart([self.mover(one) for one in (hers, beside, legs)], lambda k: frames[k])
        self.assertEqual([m.who for m in told], ["person", "thing", "thing"])
        flipped = [np.ascontiguousarray(one[:, ::-1] // 2) for one in frames]
        back = [(SIZE[0] - x1, y0, SIZE[0] - x0, y1) for x0, y0, x1, y1 in hers]
        self.assertEqual(told_apart([self.mover(back)], lambda k: flipped[k])[0].who, "person")


class Remembered(unittest.TestCase):
    def before(self, mask: U8, alike: bool = True) -> Before:
        y, x = np.mgrid[0:40, 0:60].astype(np.float32)
        return Before(0, 3, mask, np.dstack([x, y]), np.full(mask.shape, alike))

    def arm(self, there: bool) -> U8:
        mask = np.zeros((40, 60), np.uint8)
        mask[10:36, 24:44] = 255
        mask[16:20, 8:24] = 255 * there
        return mask

    def test_an_arm_that_one_cut_misses_stays_and_one_that_many_miss_goes(self) -> None:
        seen = np.full((40, 60), 0.5, np.float32)
        memory = PersonMemory.of(3, seen, np.asarray(self.arm(True) / 255, np.float32))
        shown = []
        for frame in range(4, 12):
            was = self.before(self.arm(True))
            now = memory.gone_on(frame, seen, was)
            decided = now.decision(self.arm(False), was, PersonMemory(3, memory.seen, memory.decided))
            shown.append(bool((decided[17, 10:22] > 0.5).all()))
            memory = PersonMemory.of(3, now.likely, decided)
        self.assertTrue(shown[0])
        self.assertFalse(shown[-1])

    def test_where_movement_is_not_to_be_believed_the_cut_counts(self) -> None:
        was = self.before(self.arm(True), alike=False)
        memory = PersonMemory.of(3, np.ones((40, 60), np.float32), np.ones((40, 60), np.float32))
        decided = memory.gone_on(4, memory.likely, was).decision(self.arm(False), was, memory)
        self.assertEqual(float(decided[17, 12]), 0)

    def test_what_was_taken_off_since_does_not_come_back(self) -> None:
        seen = np.zeros((40, 60), np.float32)
        memory = PersonMemory.of(3, seen, np.asarray(self.arm(True) / 255, np.float32))
        was = self.before(self.arm(False))
        decided = memory.gone_on(4, seen, was).decision(self.arm(False), was, memory)
        self.assertLess(float(decided[17, 12]), 0.5)

    def test_kept_and_read_it_is_the_same(self) -> None:
        rng = np.random.default_rng(3)
        memory = PersonMemory.of(5, rng.random((4, 6), np.float32), rng.random((4, 6), np.float32))
        again = PersonMemory.read(5, memory.kept(), 4)
        self.assertTrue((again.seen == memory.seen).all())
        self.assertTrue(again.decided is not None and (again.decided == memory.decided).all())
        self.assertIsNone(PersonMemory.read(5, memory.seen, 4).decided)


class Kept(unittest.TestCase):
    def test_gone_on_from_kept_masks_it_is_the_same(self) -> None:
        frames, _ = before("coffee.png")
        clicks = clicked([PickClick(frame=0, x=270, y=300)], SIZE[0])
        kept: dict[str, U8] = {}
        whole = Picked(lambda k: frames[k], FRAMES, clicks, save=lambda name, mask: kept.update({name: mask})).mask(FRAMES - 1)
        some = {name: mask for name, mask in kept.items() if int(name.split("-")[1]) <= 4}
        again = Picked(lambda k: frames[k], FRAMES, clicks, load=some.get).mask(FRAMES - 1)
        self.assertTrue((whole == again).all())


class Hint(unittest.TestCase):
    def test_nobody_is_seen_in_photographs_without_people(self) -> None:
        for name in ("brick.png", "gravel.png", "grass.png", "chelsea.png"):
            picture = photo(name, SIZE)
            for x, y in ((160, 90), (320, 180), (500, 300)):
                found = person_at(picture, x, y)
                self.assertIsNone(found, (name, x, y))

    def test_a_person_is_seen_at_half_the_exposure_and_mirrored(self) -> None:
        frames, truth = before("gravel.png")
        for seen, true in ((frames[0] // 2, truth[0]), (np.ascontiguousarray(frames[0][:, ::-1]), truth[0][:, ::-1])):
            ys, xs = np.nonzero(true > 0.9)
            found = person_at(seen, float(np.median(xs)), float(np.median(ys)))
            assert found is not None
            self.assertGreater(likeness(found, true), 0.9)

    def test_an_empty_region_and_a_tiny_picture_are_nobody(self) -> None:
        self.assertIsNone(person_in(np.full((40, 60, 3), 128, np.uint8), np.ones((40, 60), bool)))
        self.assertIsNone(person_at(np.full((8, 8, 3), 90, np.uint8), 3, 3))

    def test_of_two_the_one_with_its_colours_is_kept(self) -> None:
        mask, colours = np.zeros((120, 200), np.uint8), np.full((120, 200), -1, np.float32)
        mask[20:100, 40:70], mask[30:110, 110:138] = 255, 255
        colours[30:110, 110:138] = 2
        kept = one_of_several(mask, colours, 80 * 28)
        self.assertFalse(kept[:, :90].any())
        self.assertTrue((kept[30:110, 110:138] == 255).all())

    def test_one_whom_a_post_cuts_in_two_stays_whole(self) -> None:
        mask = np.zeros((120, 200), np.uint8)
        mask[20:100, 40:58], mask[20:100, 64:82] = 255, 255
        kept = one_of_several(mask, np.zeros((120, 200), np.float32), 80 * 42)
        self.assertTrue((kept == mask).all())

    def test_another_one_beside_is_told_from_a_limb(self) -> None:
        seen, mask = np.zeros((120, 200), np.float32), np.zeros((120, 200), np.uint8)
        seen[20:100, 40:70], seen[40:46, 70:84], seen[20:100, 110:138] = 1, 1, 1
        mask[20:100, 40:70] = 255
        others = other_people(seen, mask)
        self.assertTrue(others[30:90, 112:136].all())
        self.assertFalse(others[:, :100].any())
