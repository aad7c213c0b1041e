"""Shots in scripts, and the examples of the documentation as they stand there."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np

import plonket
from plonket.base.errors import BadInput, PlonketError
from plonket.formats.shot_file import read_shot_file
from plonket.media import open_clip, probe
from plonket.media.write import Coding, VideoWriter
from tests.core.photos import photo

ROOT = Path(__file__).resolve().parents[2]
SIZE = (320, 180)
STEP = np.array([2.5, -1.0])
FRAMES = 10


class Scripts(unittest.TestCase):
    def setUp(self) -> None:
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        wall = photo("gravel.png", (480, 300))
        self.clip = self.folder / "wall.mp4"
        with VideoWriter(self.clip, SIZE, Fraction(25), coding=Coding(crf=6)) as out:
            for k in range(FRAMES):
                moved = np.array([[1, 0, -60 + STEP[0] * k], [0, 1, -50 + STEP[1] * k]])
                out.write(cv2.warpAffine(wall, moved, SIZE, flags=cv2.INTER_CUBIC))
        self.boat = self.folder / "boat.png"
        cv2.imwrite(str(self.boat), np.dstack([np.zeros((16, 24, 2), np.uint8), np.full((16, 24, 2), 255, np.uint8)]))

    def shot(self) -> plonket.Shot:  # type: ignore[name-defined]
        shot = plonket.Shot(self.clip)
        lamp = shot.add("motions", kind="points", points=[
            {"id": "p", "name": "P", "pattern_px": 31, "given": [{"frame": 0, "x": 150, "y": 100}]}])  # fmt: skip
        shot.add("stack", kind="still", asset=self.boat, x=150, y=100, follow={"target": lamp, "turn": False, "size": False})
        return shot

    def where(self, rgb: np.ndarray) -> np.ndarray:
        """The middle of what is red."""
        red = (rgb[..., 0] > 220) & (rgb[..., 1] < 60)
        return np.array([np.nonzero(red)[1].mean() + 0.5, np.nonzero(red)[0].mean() + 0.5])

    def test_made_measured_rendered_saved_and_loaded(self) -> None:
        shot = self.shot()
        plonket.measure(shot)
        seen = plonket.render_frame(shot, 8)
        self.assertLess(float(np.abs(self.where(seen) - (150 + 8 * STEP[0], 100 + 8 * STEP[1])).max()), 0.3)
        shot.save(self.folder / "shot.json")
        again = plonket.load(self.folder / "shot.json")
        np.testing.assert_array_equal(plonket.render_frame(again, 8), seen)
        self.assertEqual(shot.light(8).shape, (*seen.shape[:2], 4))
        shot.change("still-1", opacity=0)
        shot.change("footage", in_frame=2)
        self.assertEqual(shot.frames, range(2, FRAMES))
        clip = open_clip(self.clip)
        np.testing.assert_array_equal(shot.render_frame(8), clip.rgb(8))
        shot.render(self.folder / "o.webm", frames=range(3, 7))
        self.assertEqual(probe(self.folder / "o.webm").frames, 4)

    def test_what_does_not_fit_changes_nothing(self) -> None:
        shot = self.shot()
        before = shot.document
        for wrong in (
            lambda: shot.add("stack", kind="still", asset=Path("nowhere.png"), x=1, y=1),
            lambda: shot.add("stack", kind="nothing"), lambda: shot.add("cupboard", kind="still"),
            lambda: shot.change("still-1", size=-4), lambda: shot.change("nobody", x=1),
            lambda: plonket.Shot(self.boat), lambda: plonket.Shot(self.folder / "none.mp4"),
            lambda: shot.render(self.folder / "o.xyz"),
            lambda: shot.render(self.folder / "o.mp4", quality="superb"), lambda: shot.render(self.folder / "o.mp4", taste="good"),
        ):  # fmt: skip
            with self.assertRaises(PlonketError):
                wrong()
        self.assertIs(shot.document, before)
        with self.assertRaises(AttributeError):
            _ = plonket.nothing
        self.assertRaises(BadInput, shot.render_frame, 99)

    def run_example(self, name: str, *arguments: str) -> str:
        done = subprocess.run(
            [sys.executable, ROOT / "docs/examples" / name, *arguments], capture_output=True, text=True, timeout=300, check=False,
            env={**os.environ, "PYTHONPATH": str(ROOT / "core")},
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        return done.stdout

    def test_the_examples_run_as_they_stand(self) -> None:
        out = self.folder / "boat.mp4"
        said = self.run_example("boat_on_a_lamp.py", str(self.clip), str(self.boat), "150", "100", str(out))
        self.assertIn("mean of the middle frame", said)
        self.assertEqual(probe(out).frames, FRAMES)
        self.assertLess(float(np.abs(self.where(open_clip(out).rgb(9)) - (150 + 9 * STEP[0], 100 + 9 * STEP[1])).max()), 0.8)
        file = read_shot_file(self.folder / "boat.json")
        self.assertEqual(len(file.measurements), 1)
        self.run_example("upright.py", str(self.folder / "boat.json"), "160", str(self.folder / "up"))
        self.assertEqual(probe(self.folder / "up" / "upright.mp4").size, (102, 180))
        self.assertEqual(probe(self.folder / "up" / "cover.png").size, (102, 180))
        lines = self.run_example("brightness.py", str(self.folder / "boat.json")).splitlines()
        self.assertEqual(len(lines), FRAMES)
        self.assertTrue(all(0.05 < float(line.split()[1]) < 0.6 and line.endswith("1.000") for line in lines))

    def test_all_examples_are_told_of(self) -> None:
        told = (ROOT / "docs/scripts.md").read_text()
        for path in (ROOT / "docs/examples").glob("*.py"):
            self.assertIn(f"examples/{path.name}", told)
