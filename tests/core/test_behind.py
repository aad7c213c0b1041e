"""Borrowing by depth: what walks before many distances is taken out of a moving camera's picture."""

from __future__ import annotations

import contextlib
import io
import tempfile
import unittest
from fractions import Fraction
from functools import cache, cached_property
from pathlib import Path

import cv2
import numpy as np

from plonket.base.conventions import F32, U8
from plonket.cli.main import main
from plonket.depth.files import depths_in, write_depth
from plonket.formats.camera_json import write_camera
from plonket.media import open_clip
from plonket.media.write import Coding, VideoWriter
from plonket.plate.repair.behind import Behind, MeasuredDepth
from plonket.plate.repair.borrow import Borrower, Mended
from plonket.plate.repair.filled import Filled
from synth.phone.quickroom import RoomShot, room_shot

SIZE = (360, 202)
FRAMES = 15
MIDDLE = 7


class Shot:
    """A room past which a puppet walks while the camera trucks; the same without it; and what it covers."""

    def __init__(self, *, lens: bool) -> None:
        bent = {"k1": -0.09, "readout_s": 0.016} if lens else {}
        self.filmed, self.clean = (self.film(puppet, bent) for puppet in (True, False))
        self.track = self.clean.track()
        self.mattes = [self._matte(k) for k in range(FRAMES)]
        self.lumas = [np.asarray(cv2.cvtColor(one, cv2.COLOR_RGB2GRAY), np.uint8) for one in self.filmed.frames]

    @staticmethod
    def film(puppet: bool, bent: dict[str, float]) -> RoomShot:
        return room_shot("truck", size=SIZE, frames=FRAMES, seed=3, puppet=puppet, samples=2, **bent)  # type: ignore[arg-type]

    def _matte(self, frame: int) -> U8:
        assert self.filmed.puppet is not None
        t = float(self.filmed.times[frame])
        spots = self.filmed.camera.project(t, self.filmed.puppet(t))
        out = np.zeros(SIZE[::-1], np.uint8)
        cv2.fillPoly(out, [np.round((spots - 0.5) * 16).astype(np.int32)], 255, cv2.LINE_AA, 4)
        return np.asarray(cv2.dilate((out > 0).astype(np.uint8) * 255, np.ones((7, 7), np.uint8)), np.uint8)

    @cache  # noqa: B019 -- shots live as long as the tests
    def depth(self, frame: int) -> F32:
        """As it is measured where the puppet is left out: nothing is known of what it covers."""
        return np.where(self.mattes[frame] > 0, 0, self.clean.depth(frame)).astype(np.float32)

    def behind(self, by: float = 1.0) -> Behind:
        """With a depth that is wrong by a factor."""
        return Behind(MeasuredDepth(self.track, lambda k: self.depth(k) * np.float32(by)), lambda k: self.mattes[k])

    def mend(self, behind: Behind | None) -> Mended:
        return Borrower(
            lambda k: self.filmed.frames[k], lambda k: self.lumas[k], lambda k: self.mattes[k], FRAMES, None, behind
        ).mend(MIDDLE)  # fmt: skip

    @cached_property
    def plain(self) -> Mended:
        """Without depth."""
        return self.mend(None)

    @cached_property
    def deep(self) -> Mended:
        return self.mend(self.behind())

    def off(self, rgb: U8, frame: int = MIDDLE) -> float:
        """Mean error where the puppet was, codes; grain, which differs from take to take, averaged away."""
        error = rgb.astype(np.float32) - self.clean.frames[frame].astype(np.float32)
        return float(np.abs(cv2.GaussianBlur(error, (0, 0), 1.5))[self.mattes[frame] > 0].mean())


@cache
def shot(*, lens: bool = False) -> Shot:
    return Shot(lens=lens)


class AgainstTruth(unittest.TestCase):
    def check(self, filmed: Shot) -> None:
        plain, deep = filmed.plain, filmed.deep
        hole = filmed.mattes[MIDDLE] > 0
        self.assertFalse((deep.unseen & hole).any())
        self.assertGreater(float(deep.by_depth[hole].mean()), 0.97)
        self.assertFalse(plain.by_depth.any())
        self.assertLess(filmed.off(deep.rgb), 2.2)
        self.assertLess(filmed.off(deep.rgb), 0.6 * filmed.off(plain.rgb))

    def test_what_lies_at_many_distances_comes_back_as_it_was(self) -> None:
        self.check(shot())

    def test_by_a_lens_that_bends_and_a_shutter_that_rolls(self) -> None:
        self.check(shot(lens=True))

    def test_depth_that_leads_elsewhere_is_not_believed(self) -> None:
        filmed = shot()
        plain, wrong, worse = filmed.plain, filmed.mend(filmed.behind(1.2)), filmed.mend(filmed.behind(3.0))
        self.assertFalse(worse.by_depth.any())
        np.testing.assert_array_equal(worse.rgb, plain.rgb)
        # Where it agrees by chance with what lies round, it is no worse than without.
        self.assertLess(filmed.off(wrong.rgb), 1.2 * filmed.off(plain.rgb))

    def test_where_nothing_is_known_movement_tells(self) -> None:
        filmed = shot()

        def half(frame: int) -> F32:
            out = filmed.depth(frame).copy()
            out[: SIZE[1] // 2] = 0
            return out

        found = filmed.mend(Behind(MeasuredDepth(filmed.track, half), lambda k: filmed.mattes[k]))
        hole = filmed.mattes[MIDDLE] > 0
        self.assertTrue(0.15 < float(found.by_depth[hole].mean()) < 0.9)
        self.assertFalse((found.unseen & hole).any())
        self.assertLess(filmed.off(found.rgb), filmed.off(filmed.plain.rgb))
        nothing = filmed.mend(Behind(MeasuredDepth(filmed.track, lambda _: None), lambda k: filmed.mattes[k]))
        np.testing.assert_array_equal(nothing.rgb, filmed.plain.rgb)

    def test_it_is_told(self) -> None:
        told = Filled()
        hole = shot().mattes[MIDDLE] > 0
        told.count(hole, shot().deep)
        self.assertIn("by the measured depth of the footage", told.says())
        self.assertEqual(Filled.sum([told, told]).by_depth, 2 * told.by_depth)


class CommandLine(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def fill(self, *more: str) -> tuple[int, str]:
        said = io.StringIO()
        with contextlib.redirect_stderr(said), contextlib.redirect_stdout(said):
            code = main(["fill", str(self.folder / "clip.mp4"), "--matte", str(self.folder / "mattes"), "--range",
                         f"{MIDDLE}:{MIDDLE + 1}", "--out", str(self.folder / "out"), *more])  # fmt: skip
        return code, said.getvalue()

    def test_a_clip_is_filled_by_depth_in_files(self) -> None:
        filmed = shot()
        with VideoWriter(self.folder / "clip.mp4", SIZE, Fraction(30), coding=Coding(crf=6)) as out:
            for frame in filmed.filmed.frames:
                out.write(frame)
        (self.folder / "mattes").mkdir()
        (self.folder / "depth").mkdir()
        for k in range(FRAMES):
            cv2.imwrite(str(self.folder / "mattes" / f"{k:06d}.png"), filmed.mattes[k])
        camera = self.folder / "camera.json"
        camera.write_text(write_camera(filmed.track, Fraction(30)))
        code, said = self.fill("--depth", str(self.folder / "depth"))
        self.assertEqual(code, 1, said)
        self.assertIn("both --camera and --depth", said)
        by = ("--camera", str(camera), "--depth", str(self.folder / "depth"))
        code, said = self.fill(*by)
        self.assertEqual(code, 1, said)
        self.assertIn("no EXR files of depth in depth", said)
        for k in range(FRAMES):
            write_depth(filmed.depth(k), self.folder / "depth" / f"{k:06d}.exr")
        code, said = self.fill(*by)
        self.assertEqual(code, 0, said)
        self.assertIn("by the measured depth", said)
        self.assertLess(filmed.off(open_clip(self.folder / "out").rgb(0)), 2.6)

        of = depths_in(self.folder / "depth", SIZE)
        told = of(3)
        assert told is not None
        np.testing.assert_allclose(told, filmed.depth(3), rtol=1e-6)
        self.assertIsNone(of(FRAMES))
        with self.assertRaisesRegex(Exception, "360 x 202, the clip 320 x 200"):
            depths_in(self.folder / "depth", (320, 200))(0)
