"""The cut-out against truth: a textured subject that moves before a busy set, from a few strokes on one frame."""

from __future__ import annotations

import tempfile
import unittest
from functools import lru_cache
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from plonket.base.colour import decode, encode, linear_from_codes
from plonket.base.conventions import F32, U8
from plonket.base.errors import Degenerate
from plonket.cli.main import main
from plonket.keying.common import KeyContext
from plonket.keying.cutout import CutOutKey, cut, run
from plonket.matting.carried import Carried, CutStroke

SIZE = (640, 360)
FRAMES = 16


@lru_cache(maxsize=1)
def textures() -> tuple[F32, F32]:
    rng = np.random.default_rng(5)

    def rough(colour: tuple[float, float, float], lump: float, depth: float) -> F32:
        noise = cv2.GaussianBlur(rng.normal(0, 1, (SIZE[1] + 80, SIZE[0] + 200)), (0, 0), lump)
        return np.asarray(np.clip(np.array(colour) * (1 + depth * noise / noise.std())[..., None], 0.005, 1), np.float32)

    wall = rough((0.16, 0.22, 0.30), 9.0, 0.25)
    for k in range(9):
        cv2.line(wall, (0, 20 + 45 * k), (SIZE[0] + 200, 34 + 45 * k), (0.06, 0.08, 0.10), 3)
    return wall, rough((0.45, 0.20, 0.08), 5.0, 0.25)


@lru_cache(maxsize=32)
def scene(frame: int) -> tuple[U8, F32]:
    """8-bit picture and the true matte: a body with a head, softly edged, that walks and grows while the camera pans."""
    wall, cloth = textures()
    y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]].astype(np.float32) + 0.5
    cx, grown = 240 + 9.0 * frame, 1 + 0.012 * frame
    head = 46 * grown - np.hypot(x - cx, y - 120)
    body = np.minimum(70 * grown - np.abs(x - cx), np.minimum(y - 150, 330 - y))
    alpha = np.clip(np.maximum(head, body) / 3.0 + 0.5, 0, 1)
    shift = 2 * frame
    back = wall[30 : 30 + SIZE[1], shift : shift + SIZE[0]]
    m = np.array([[grown, 0, cx - 240 * grown], [0, grown, 0]])
    front = cv2.warpAffine(cloth, m, SIZE, borderMode=cv2.BORDER_REFLECT)
    light = front * alpha[..., None] + back * (1 - alpha[..., None])
    noise = np.random.default_rng(frame).normal(0, 1.5, (*SIZE[::-1], 3))
    return np.clip(encode(light) * 255 + noise + 0.5, 0, 255).astype(np.uint8), np.asarray(alpha, np.float32)


STROKES = [
    CutStroke(frame=0, subject=True, width=24, points=[(240, 100), (240, 310)]),
    CutStroke(frame=0, subject=False, width=24, points=[(90, 60), (90, 320)]),
    CutStroke(frame=0, subject=False, width=24, points=[(420, 60), (420, 320)]),
]


def carried(strokes: list[CutStroke] | None = None, **how: Any) -> Carried:
    return Carried(lambda i: scene(i)[0], FRAMES, STROKES if strokes is None else strokes, **how)


class CutOut(unittest.TestCase):
    shared = carried()

    def matte(self, frame: int, key: CutOutKey | None = None, using: Carried | None = None) -> F32:
        light = linear_from_codes(scene(frame)[0])
        return cut(light, (using or self.shared).mask(frame), key or CutOutKey())

    def test_a_few_strokes_cut_it_on_their_frame_and_far_from_it(self) -> None:
        for frame in (0, 7, 15):
            out = self.matte(frame)[..., 3]
            off = np.abs(out - scene(frame)[1])
            self.assertLess(float(off.mean()), 0.008, frame)
            self.assertLess(float((off > 0.5).mean()), 0.004, frame)

    def test_edges_are_soft_where_the_truth_is(self) -> None:
        out, true = self.matte(3)[..., 3], scene(3)[1]
        edge = (true > 0.05) & (true < 0.95)
        self.assertLess(float(np.abs(out[edge] - true[edge]).mean()), 0.16)
        soft = ((out > 0.05) & (out < 0.95)).sum() / edge.sum()
        self.assertTrue(0.5 < soft < 2.5, soft)

    def test_nothing_of_what_is_behind_shines_through_the_edge(self) -> None:
        rgba = self.matte(3)
        edge = (rgba[..., 3] > 0.2) & (rgba[..., 3] < 0.8)
        straight = rgba[edge][:, :3] / rgba[edge][:, 3:]
        # The wall is blue: the subject's edge stays as warm as the subject.
        self.assertGreater(float(np.median(straight[:, 0] / np.maximum(straight[:, 2], 1e-3))), 2.5)

    def test_it_holds_still_from_frame_to_frame(self) -> None:
        mattes = [self.matte(f)[..., 3] for f in (6, 7, 8)]
        truth = [scene(f)[1] for f in (6, 7, 8)]
        flicker = float(np.abs(mattes[0] - 2 * mattes[1] + mattes[2]).mean())
        true = float(np.abs(truth[0] - 2 * truth[1] + truth[2]).mean())
        self.assertLess(flicker, 3 * true + 0.002)

    def test_a_stroke_elsewhere_puts_it_right(self) -> None:
        wrong = [*STROKES, CutStroke(frame=10, subject=False, width=60, points=[(330, 170), (330, 320)])]
        out = carried(wrong).mask(10)
        self.assertEqual(int(out[int(250 * 0.75), int(330 * 0.75)]), 0)
        again = carried([*wrong, CutStroke(frame=12, subject=True, width=40, points=[(348, 100), (348, 310)]),
                         CutStroke(frame=12, subject=False, width=24, points=[(200, 60), (200, 320)]),
                         CutStroke(frame=12, subject=False, width=24, points=[(520, 60), (520, 320)])])  # fmt: skip
        mask = cv2.resize(again.mask(13), SIZE) > 127
        self.assertGreater(float((mask & (scene(13)[1] > 0.5)).sum() / (scene(13)[1] > 0.5).sum()), 0.97)

    def test_what_was_worked_out_is_kept_and_taken_up(self) -> None:
        store: dict[str, U8] = {}
        first = carried(save=lambda name, mask: store.update({name: mask})).mask(5)
        self.assertEqual(len(store), 5)
        asked: list[str] = []

        def load(name: str) -> U8 | None:
            asked.append(name)
            return store.get(name)

        np.testing.assert_array_equal(carried(load=load).mask(5), first)
        self.assertEqual(asked, ["0-5"])

    def test_without_strokes_it_is_whole_and_without_a_subject_it_says_so(self) -> None:
        light = np.asarray(decode(np.full((20, 30, 3), 0.5)), np.float32)
        self.assertEqual(float(run(light, CutOutKey(), KeyContext())[..., 3].min()), 1.0)
        with self.assertRaises(Degenerate) as caught:
            carried([STROKES[1]]).mask(3)
        self.assertIn("stroke over the subject", caught.exception.message)


class CommandLine(unittest.TestCase):
    def test_a_subject_is_cut_out_by_strokes_on_the_command_line(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            for f in range(4):
                cv2.imwrite(str(folder / f"{f:06d}.png"), cv2.cvtColor(scene(f)[0], cv2.COLOR_RGB2BGR))
            out = folder / "out"
            arguments = ["cut-out", str(folder), "--subject", "1:249,110 249,300", "--other", "1:90,60 90,320",
                         "--other", "1:420,60 420,320", "--range", "1:4", "--out", str(out)]  # fmt: skip
            self.assertEqual(main(arguments), 0)
            self.assertEqual(sorted(p.name for p in out.iterdir()), ["000000.png", "000001.png", "000002.png"])
            for k in range(3):
                made = cv2.imread(str(out / f"{k:06d}.png"), cv2.IMREAD_UNCHANGED)
                assert made is not None
                self.assertLess(float(np.abs(made[..., 3] / 255 - scene(k + 1)[1]).mean()), 0.02)
            for bad in ("x", "1:", "99:1,1", "1:9999,1"):
                self.assertEqual(main(["cut-out", str(folder), "--subject", bad, "--out", str(out)]), 1, bad)
