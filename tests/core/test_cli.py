"""The command line, as a script would use it."""

from __future__ import annotations

import contextlib
import io
import json
import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np

from bench import stack, whole
from plonket.base.errors import BadInput
from plonket.cli.main import main, parse_point
from plonket.cli.terminal import parse_range
from plonket.formats.plane_json import read_plane
from plonket.formats.points_csv import read_points
from plonket.media import open_clip, probe
from plonket.media.write import Coding, VideoWriter
from synth.__main__ import main as synth_main
from tests.core.clips import number_of, phone_clip
from tests.core.shots import SHARP, chart_corners, corner_errors, plain_shot


class CommandLine(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def run_it(self, *arguments: object) -> tuple[int, str, str]:
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            code = main([str(a) for a in arguments])
        return code, out.getvalue(), err.getvalue()

    def chart(self) -> Path:
        path = self.folder / "chart.mp4"
        with VideoWriter(path, (640, 360), Fraction(30), coding=Coding(crf=8)) as out:
            for frame in plain_shot().frames[:30]:
                out.write(frame)
        return path

    def test_probe(self) -> None:
        path = phone_clip(self.folder / "c.mp4", frames=20, rate=Fraction(25), rotation=90)
        code, out, _ = self.run_it("probe", path)
        facts = json.loads(out)
        self.assertEqual(code, 0)
        self.assertEqual((facts["width"], facts["height"], facts["fps"], facts["frames"]), (320, 180, "25/1", 20))
        self.assertEqual((facts["rotation"], facts["has_alpha"], facts["has_audio"]), (90, False, True))

    def test_track_plane_with_a_matte_and_as_corners(self) -> None:
        clip = self.chart()
        corners = chart_corners(plain_shot())[:30]
        middle = corners[5].mean(axis=0)
        region = " ".join(f"{x:.2f},{y:.2f}" for x, y in middle + (corners[5] - middle) * 0.97)
        mattes = self.folder / "mattes"
        mattes.mkdir()
        for i in range(30):
            matte = np.zeros((360, 640), np.uint8)
            matte[150:210, 300:380] = 255
            cv2.imwrite(str(mattes / f"{i:04d}.png"), matte)
        out = self.folder / "plane.json"
        code, _, err = self.run_it("track-plane", clip, "--frame", 5, "--region", region, "--ignore", mattes, "--out", out)
        self.assertEqual(code, 0, err)
        track = read_plane(out.read_text())
        self.assertEqual((track.reference_frame, track.frames), (5, 30))
        self.assertLess(float(corner_errors(track, corners).max()), 0.3)
        svg = self.folder / "r.svg"
        d = "M" + " L".join(f"{x:.2f} {y:.2f}" for x, y in corners[5]) + "Z"
        svg.write_text(f'<svg xmlns="http://www.w3.org/2000/svg"><path d="{d}"/></svg>')
        table = self.folder / "corners.csv"
        code, _, err = self.run_it("track-plane", clip, "--frame", 5, "--regions", svg, "--motion", "affine", "--range", "0:10",
                                   "--out", table)  # fmt: skip
        self.assertEqual(code, 0, err)
        self.assertEqual(len(table.read_text().splitlines()), 11)

    def test_track_plane_says_what_is_wrong(self) -> None:
        clip = self.chart()
        out = self.folder / "p.json"
        for arguments, word in (
            (["--region", "1,2 3,4"], "not an outline"), ([], "No region"),
            (["--region", "900,900 990,900 990,990"], "outside the picture"),
            (["--frame", "99", "--region", "1,1 90,1 90,90"], "outside the clip"),
            (["--region", "1,1 90,1 90,90", "--ignore", str(self.folder / "gone")], "gone"),
        ):  # fmt: skip
            code, _, err = self.run_it("track-plane", clip, *arguments, "--out", out)
            self.assertEqual(code, 1, arguments)
            self.assertIn(word, err)
            self.assertEqual(len(err.strip().splitlines()), 1)
            self.assertFalse(out.exists())

    def test_track_points_then_render_what_follows(self) -> None:
        clip = self.chart()
        truth = plain_shot().on_chart(*SHARP["rose"])[:30]
        csv = self.folder / "points.csv"
        code, _, err = self.run_it("track-points", clip, "--point", f"rose=12,{truth[12, 0]:.3f},{truth[12, 1]:.3f}", "--out", csv)
        self.assertEqual(code, 0, err)
        tracks = read_points(csv.read_text())
        self.assertLess(float(np.abs(tracks.xy[0] - truth).max()), 0.2)
        self.assertEqual(csv.read_text().splitlines()[13].split(",")[5], "given")
        dot = np.zeros((41, 41, 4), np.uint8)
        cv2.circle(dot, (20, 20), 14, (255, 0, 255, 255), -1)
        cv2.imwrite(str(self.folder / "dot.png"), dot)
        shot = {
            "plonket": 1, "media": {"clip": "chart.mp4", "dot": "dot.png"}, "measurements": {"rose": "points.csv"},
            "shot": {
                "name": "Scripted", "footage": {"asset": "clip"},
                "motions": [{"kind": "points", "id": "rose", "name": "Rose", "measurement": "rose"}],
                "stack": [{"kind": "still", "id": "dot", "name": "Dot", "asset": "dot", "x": truth[12, 0], "y": truth[12, 1],
                           "follow": {"target": "rose", "reference_frame": 12}}],
            },
        }  # fmt: skip
        (self.folder / "shot.json").write_text(json.dumps(shot))
        out = self.folder / "out"
        code, _, err = self.run_it("render", self.folder / "shot.json", "--out", out, "--range", "5:20")
        self.assertEqual(code, 0, err)
        files = sorted(out.glob("*.png"))
        self.assertEqual([f.name for f in files[:2]], ["000000.png", "000001.png"])
        self.assertEqual(len(files), 15)
        for k, file in enumerate(files):
            picture = cv2.imread(str(file))
            assert picture is not None
            v = picture[..., ::-1].astype(float)
            weight = np.clip((np.minimum(v[..., 0], v[..., 2]) - v[..., 1] - 60) / 120, 0, 1)
            y, x = np.mgrid[0:360, 0:640] + 0.5
            at = np.array([(x * weight).sum(), (y * weight).sum()]) / weight.sum()
            self.assertLess(np.hypot(*(at - truth[5 + k])), 0.3)
        code, _, _ = self.run_it("render", self.folder / "shot.json", "--out", self.folder / "o.mp4", "--scale", "0.5")
        self.assertEqual((code, probe(self.folder / "o.mp4").size, probe(self.folder / "o.mp4").frames), (0, (320, 180), 30))
        parts = self.folder / "parts"
        code, _, err = self.run_it("render", self.folder / "shot.json", "--out", parts, "--range", "5:7", "--passes", "beauty,matte",
                                   "--format", "png")  # fmt: skip
        self.assertEqual((code, len(json.loads((parts / "passes.json").read_text())["layers"])), (0, 1), err)
        self.assertEqual(len(list(parts.rglob("*.png"))), 2 * 3)
        for wrong in (("--passes", "light"), ("--passes", "depth", "--format", "png"), ("--format", "h264")):
            code, _, err = self.run_it("render", self.folder / "shot.json", "--out", self.folder / "no", *wrong)
            self.assertNotEqual(code, 0)
            self.assertEqual(len(err.strip().splitlines()), 1, err)

    def test_sound_of_a_rendered_range_stays_with_its_frames(self) -> None:
        phone_clip(self.folder / "c.mp4", frames=40)
        shot = {"plonket": 1, "media": {"clip": "c.mp4"}, "shot": {"name": "S", "footage": {"asset": "clip"}}}
        (self.folder / "shot.json").write_text(json.dumps(shot))
        code, _, err = self.run_it("render", self.folder / "shot.json", "--out", self.folder / "o.mp4", "--range", "10:35")
        self.assertEqual(code, 0, err)
        clip = open_clip(self.folder / "o.mp4")
        self.assertEqual([number_of(clip.rgb(i)) for i in (0, 24)], [10, 34])
        self.assertTrue(clip.info.has_audio)

    def test_errors_are_one_clear_line(self) -> None:
        clip = phone_clip(self.folder / "c.mp4", frames=8)
        (self.folder / "bad.json").write_text("{")
        for arguments, words in (
            (("probe", self.folder / "gone.mp4"), "not found"),
            (("track-points", clip, "--point", "lamp", "--out", "x.csv"), "NAME=FRAME,X,Y"),
            (("track-points", clip, "--point", "a=0,9999,5", "--out", "x.csv"), "outside the picture"),
            (("track-points", clip, "--point", "a=0,160,130", "--pattern", "3", "--out", "x.csv"), "--pattern"),
            (("track-points", clip, "--point", "a=77,10,10", "--out", "x.csv"), "ends at 7"),
            (("track-points", clip, "--point", "a=0,290,165", "--out", "x.csv"), "flat"),
            (("render", self.folder / "bad.json", "--out", "o.mp4"), "not a shot file"),
        ):
            code, out, err = self.run_it(*arguments)
            self.assertEqual((code, out), (1, ""), arguments)
            self.assertIn(words, err)
            self.assertEqual(len(err.strip().splitlines()), 1, err)
            self.assertTrue(err.startswith("plonket: "))

    def test_what_is_made_up_has_commands_of_its_own(self) -> None:
        with contextlib.redirect_stderr(io.StringIO()) as err:
            self.assertEqual(synth_main(["film", "moon", "--out", str(self.folder)]), 1)
        self.assertIn("no set called moon", err.getvalue())
        self.assertTrue(whole.DEMO.exists() and (stack.DEMO / "clips").is_dir(), "the benchmark finds the demo's clips")

    def test_arguments(self) -> None:
        self.assertEqual(parse_point("lamp=3,10.5,20"), ("lamp", 3, 10.5, 20.0))
        self.assertEqual(parse_range("5:", 40), (5, 40))
        self.assertEqual(parse_range(None, 40), (0, 40))
        for bad in ("5", "9:3", "a:b", "0:41"):
            with self.assertRaises(BadInput):
                parse_range(bad, 40)
