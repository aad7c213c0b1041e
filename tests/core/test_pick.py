"""Things picked by one click and carried: photographs in the shape of a figure, walking over other photographs, whose truth is known."""

from __future__ import annotations

import unittest
from dataclasses import replace
from fractions import Fraction
from functools import cache
from pathlib import Path

import cv2
import numpy as np

from plonket.base.colour import decode, encode, linear_from_codes
from plonket.base.conventions import F32, U8
from plonket.base.errors import Degenerate
from plonket.cli.main import main
from plonket.keying.cutout import CutOutKey, cut, learn, run
from plonket.matting.carried import CutStroke
from plonket.matting.first_cut import clicked
from plonket.matting.pick import Picked
from plonket.media.write import Coding, VideoWriter
from plonket.track.matte.settings import PickBox, PickClick
from tests.core.photos import photo
from tests.core.test_media import InFolder

SIZE = (640, 360)
FRAMES = 10


@cache
def walk(behind: str, figure: str, seed: int, *, stands: bool = False) -> tuple[list[U8], list[F32]]:
    """A figure with a head and a swinging arm before a camera that pans a little, or `stands`: frames and true coverage (h, w)."""
    rng = np.random.default_rng(seed)
    w, h = SIZE
    rear = decode(photo(behind, (w + 120, h + 80)).astype(np.float64) / 255)
    front = decode(photo(figure, (320, 320)).astype(np.float64) / 255)
    x0, y0, r = rng.uniform(0.35, 0.65) * w, rng.uniform(0.45, 0.6) * h, rng.uniform(48, 75)
    swing = rng.uniform(0, 6)
    frames, truth = [], []
    for k in range(FRAMES):
        t = k / 16
        pan = (0.0, 0.0) if stands else (30 * np.sin(k / 7), 12 * np.cos(k / 5))
        seen = cv2.warpAffine(rear, np.array([[1, 0, -60 + pan[0]], [0, 1, -40 + pan[1]]]), SIZE, flags=cv2.INTER_CUBIC)
        x, y = x0 + 70 * t - 35, y0 + 8 * np.sin(3 * t)
        large = np.zeros((2 * h, 2 * w), np.float32)
        cv2.ellipse(large, (int(2 * x), int(2 * y)), (int(1.24 * r), int(2 * r)), 8 * np.sin(4 * t), 0, 360, 1.0, -1)
        cv2.circle(large, (int(2 * (x + 4 * np.sin(5 * t))), int(2 * (y - r * 1.25))), int(0.84 * r), 1.0, -1)
        a = -0.5 + 1.2 * np.sin(6 * t + swing)
        hand = (int(2 * (x + r * 1.3 * np.cos(a))), int(2 * (y - r * 0.3 + r * 1.3 * np.sin(a))))
        cv2.line(large, (int(2 * x), int(2 * (y - r * 0.3))), hand, 1.0, int(0.4 * r))
        cover = cv2.GaussianBlur(cv2.resize(large, SIZE, interpolation=cv2.INTER_AREA), (0, 0), 1.2)
        s = 2 * r * 1.6 / 320 * 1.2
        worn = cv2.warpAffine(front, np.array([[s, 0, x - 160 * s], [0, s, y - r * 0.3 - 160 * s]]), SIZE,
                              flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)  # fmt: skip
        light = worn * cover[..., None] + seen * (1 - cover[..., None])
        code = encode(np.clip(light, 0, 1)) * 255 + 2 * rng.standard_normal((h, w, 3))
        frames.append(np.clip(code + 0.5, 0, 255).astype(np.uint8))
        truth.append(np.asarray(cover, np.float32))
    return frames, truth


def deepest(cover: F32) -> tuple[float, float]:
    """The place (x, y) that lies farthest inside."""
    far = cv2.distanceTransform((cover > 0.5).astype(np.uint8), cv2.DIST_L2, 5)
    y, x = np.unravel_index(int(far.argmax()), far.shape)
    return float(x), float(y)


def one_click(frames: list[U8], x: float, y: float) -> Picked:
    return Picked(lambda k: frames[k], len(frames), clicked([PickClick(frame=0, x=x, y=y)], SIZE[0]), strict=True)


def likeness(alpha: F32, truth: F32) -> float:
    """Intersection over union of what is more than half covered."""
    a, b = alpha > 0.5, truth > 0.5
    return float((a & b).sum() / max((a | b).sum(), 1))


def mattes(frames: list[U8], picked: Picked) -> list[F32]:
    return [cut(linear_from_codes(one), picked.mask(k), CutOutKey(band=4.0))[..., 3] for k, one in enumerate(frames)]


class OneClick(unittest.TestCase):
    def check(self, shot: tuple[list[U8], list[F32]], mean: float, worst: float) -> None:
        frames, truth = shot
        x, y = deepest(truth[0])
        found = mattes(frames, one_click(frames, x, y))
        like = [likeness(a, b) for a, b in zip(found, truth, strict=True)]
        self.assertGreater(float(np.mean(like)), mean, like)
        self.assertGreater(min(like), worst, like)
        off = []
        for a, b in zip(found, truth, strict=True):
            edge = cv2.dilate(((b > 0.02) & (b < 0.98)).astype(np.uint8), np.ones((25, 25), np.uint8)) > 0
            off.append(float(np.abs(a - b)[edge].mean()))
        self.assertLess(float(np.mean(off)), 0.12)

    def test_a_figure_in_many_colours_over_stones(self) -> None:
        self.check(walk("gravel.png", "coffee.png", 1), 0.92, 0.88)

    def test_one_over_bricks_that_has_their_grey(self) -> None:
        self.check(walk("brick.png", "astronaut.png", 2), 0.9, 0.86)

    def test_one_over_a_busy_photograph_that_stands(self) -> None:
        self.check(walk("coffee.png", "motorcycle_left.png", 4, stands=True), 0.87, 0.82)

    def test_mirrored_it_is_the_same(self) -> None:
        frames, truth = walk("gravel.png", "coffee.png", 1)
        flipped = [np.ascontiguousarray(one[:, ::-1]) for one in frames]
        x, y = deepest(truth[0])
        picked = one_click(flipped, SIZE[0] - 1 - x, y)
        alpha = cut(linear_from_codes(flipped[5]), picked.mask(5), CutOutKey(band=4.0))[..., 3]
        self.assertGreater(likeness(alpha[:, ::-1], truth[5]), 0.88)


class Given(InFolder):
    def test_clicks_beside_it_take_away_and_a_second_stake_puts_right(self) -> None:
        frames, truth = walk("brick.png", "astronaut.png", 2)
        x, y = deepest(truth[0])
        late = deepest(truth[8])
        beside = (x + 140.0, y)
        clicks = [PickClick(frame=0, x=x, y=y), PickClick(frame=0, x=beside[0], y=beside[1], subject=False),
                  PickClick(frame=8, x=late[0], y=late[1])]  # fmt: skip
        picked = Picked(lambda k: frames[k], FRAMES, clicked(clicks, SIZE[0]))
        self.assertEqual(picked.staked, [0, 8])
        scale = picked.mask(0).shape[1] / SIZE[0]
        self.assertEqual(int(picked.mask(0)[int(beside[1] * scale), int(beside[0] * scale)]), 0)
        found = mattes(frames, picked)
        self.assertGreater(min(likeness(found[k], truth[k]) for k in (0, 4, 8)), 0.86)

    def test_a_loose_box_is_enough(self) -> None:
        frames, truth = walk("gravel.png", "coffee.png", 1)
        ys, xs = np.nonzero(truth[0] > 0.5)
        box = PickBox(frame=0, x0=xs.min() - 25.0, y0=ys.min() - 20.0, x1=xs.max() + 25.0, y1=ys.max() + 20.0)
        found = mattes(frames, Picked(lambda k: frames[k], FRAMES, [], [box]))
        self.assertGreater(float(np.mean([likeness(a, b) for a, b in zip(found, truth, strict=True)])), 0.88)

    def test_one_click_is_enough_for_a_cut_out(self) -> None:
        frames, truth = walk("gravel.png", "coffee.png", 1)

        class Element:
            def rgb(self, frame: int) -> U8:
                return frames[frame]

            def kept(self, what: str, text: str) -> None:
                return None

        element = Element()
        element.frames = FRAMES  # type: ignore[attr-defined]
        key = CutOutKey(strokes=[CutStroke(frame=0, points=[deepest(truth[0])])])
        context = learn(key, element)  # type: ignore[arg-type]
        found = run(linear_from_codes(frames[4]), key, replace(context, frame=4))
        self.assertGreater(likeness(np.asarray(found[..., 3], np.float32), truth[4]), 0.88)

    def test_what_cannot_be_told_is_said(self) -> None:
        plain = [np.full((180, 320, 3), 120, np.uint8)] * 4
        with self.assertRaises(Degenerate):
            Picked(lambda k: plain[k], 4, clicked([PickClick(frame=0, x=100, y=80)], 320), strict=True).mask(0)
        with self.assertRaises(Degenerate):
            Picked(lambda k: plain[k], 4, clicked([PickClick(frame=0, x=100, y=80, subject=False)], 320))
        with self.assertRaises(Degenerate):
            Picked(lambda k: plain[k], 4, [], [PickBox(frame=0, x0=-5, y0=-5, x1=400, y1=300)]).mask(0)

    def test_the_command_writes_a_grey_picture_for_each_frame(self) -> None:
        frames, truth = walk("gravel.png", "coffee.png", 1)
        clip = self.folder / "clip.mp4"
        with VideoWriter(clip, SIZE, Fraction(30), coding=Coding(crf=12)) as out:
            for one in frames:
                out.write(one)
        x, y = deepest(truth[0])
        folder: Path = self.folder / "matte"
        self.assertEqual(main(["matte", str(clip), "--click", f"0,{x:.0f},{y:.0f}", "--range", "0:3", "--out", str(folder)]), 0)
        names = sorted(one.name for one in folder.iterdir())
        self.assertEqual(names, ["000000.png", "000001.png", "000002.png"])
        grey = cv2.imread(str(folder / names[2]), cv2.IMREAD_UNCHANGED)
        self.assertEqual(grey.shape, SIZE[::-1])
        self.assertGreater(likeness(np.asarray(grey / 255, np.float32), truth[2]), 0.88)
        for wrong in (["--click", "0,x,1"], ["--click", "99,5,5"], ["--click", "0,9999,5"], ["--click", "0,5,5,out"], []):
            self.assertNotEqual(main(["matte", str(clip), *wrong, "--out", str(folder)]), 0)
