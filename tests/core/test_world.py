"""The made-up world: elements, sensor, takes and the sets' truth."""

from __future__ import annotations

import csv
import importlib
import json
import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np

from plonket.base.errors import BadInput
from plonket.image.blend import lay_over
from plonket.image.picture import StillSource
from plonket.image.resample import place_still
from plonket.media.light_map import light_map_preview, read_light_map
from synth.elements.shelf import ELEMENTS, lamp_flare, write_elements
from synth.phone.camera import PhoneCamera
from synth.phone.demo import RECORDINGS, SETS, film
from synth.phone.sensor import Sensor, develop
from synth.phone.sound import RATE, room_with_clap
from synth.phone.take import Recording, frame_times, truth_of, write_truth


class Elements(unittest.TestCase):
    def test_every_element_is_clear_at_its_border_and_has_content(self) -> None:
        for element in ELEMENTS:
            picture = element.draw()
            if isinstance(picture, bytes):
                self.assertEqual(picture[:4], b"glTF", element.name)
                continue
            if picture.dtype == np.float32:
                self.assertTrue(np.isfinite(picture).all() and (picture >= 0).all(), element.name)
                continue
            alpha = picture[..., 3]
            self.assertGreater(int(alpha.max()), 200, element.name)
            self.assertGreater(float((alpha > 20).mean()), 0.005, element.name)
            # A sheet of paper and a background fill their frames.
            if element.file not in ("night-chart.png", "night-harbour.png", "dusk-sky.png"):
                border = np.concatenate([alpha[0], alpha[-1], alpha[:, 0], alpha[:, -1]])
                self.assertLess(float(border.mean()), 12, element.name)
            np.testing.assert_array_equal(picture, element.draw(), element.name)

    def test_flare_only_adds_light(self) -> None:
        canvas = np.full((300, 300, 4), 0.2, np.float32)
        canvas[..., 3] = 1
        before = canvas.copy()
        place = np.array([[0.4, 0, 6], [0, 0.4, 6], [0, 0, 1.0]])
        lay_over(canvas, place_still(StillSource(lamp_flare()), place, (300, 300)), "add")
        self.assertGreaterEqual(float((canvas - before).min()), 0.0)
        self.assertGreater(float(canvas[150, 150, 0]), 1.0)

    def test_shelf_folder(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            write_elements(Path(name))
            for entry in json.loads((Path(name) / "shelf.json").read_text()):
                if entry["file"].endswith(".glb"):
                    self.assertGreater((Path(name) / entry["file"]).stat().st_size, 10_000)
                    continue
                if entry["file"].endswith(".hdr"):
                    light = read_light_map(Path(name) / entry["file"])
                    self.assertEqual(light.shape[1], 2 * light.shape[0])
                    # Lights are far brighter than white, and the preview still shows what is round them.
                    self.assertGreater(float(light.max()), 8)
                    self.assertTrue(30 < light_map_preview(Path(name) / entry["file"]).mean() < 200)
                    continue
                picture = cv2.imread(str(Path(name) / entry["file"]), cv2.IMREAD_UNCHANGED)
                assert picture is not None
                self.assertEqual(picture.shape[2], 4)


class Phone(unittest.TestCase):
    def test_noise_grows_with_light_as_stated(self) -> None:
        sensor = Sensor(blur_px=0, sharpen=0, vignette=0)
        rng = np.random.default_rng(0)
        spread = []
        for level in (0.05, 0.3):
            codes = sensor.photograph(np.full((200, 200, 3), level, np.float32), rng).astype(float)
            slope = float(develop(np.float32([[[level + 0.01] * 3]]), sharpen=0)[0, 0, 0]) - float(
                develop(np.float32([[[level - 0.01] * 3]]), sharpen=0)[0, 0, 0]
            )
            spread.append(codes.std() / (slope / 0.02))
        wanted = [np.sqrt(level * sensor.shot + sensor.read**2) for level in (0.05, 0.3)]
        for got, expected in zip(spread, wanted, strict=True):
            self.assertTrue(0.7 * expected < got < 1.5 * expected, (got, expected))

    def test_tone_curve_is_monotonic_and_keeps_darks(self) -> None:
        ramp = np.repeat(np.linspace(0, 3, 400, dtype=np.float32)[None, :, None], 3, axis=2)
        codes = develop(ramp, sharpen=0)[0, :, 0].astype(int)
        self.assertTrue((np.diff(codes) >= 0).all())
        self.assertEqual(codes[0], 0)
        self.assertGreaterEqual(codes[-1], 254)

    def test_clap_is_where_it_is_said_to_be(self) -> None:
        sound = room_with_clap(1.5, 0.7)
        self.assertEqual(sound.shape, (2, 1.5 * RATE))
        first = int(np.argmax(np.abs(sound).max(axis=0) > 0.25)) / RATE
        self.assertAlmostEqual(first, 0.7, delta=0.001)

    def test_uneven_times_stay_near_their_grid(self) -> None:
        recording = Recording(rate=Fraction(30), frames=200, jitter_s=0.002)
        times = frame_times(recording)
        self.assertTrue((np.diff(times) > 0).all())
        self.assertLessEqual(np.abs(times - np.arange(200) / 30).max(), 0.0041)

    def test_unknown_set(self) -> None:
        with self.assertRaises(BadInput) as caught:
            film("moon", Path("/nowhere"))
        self.assertIn("workshop", caught.exception.message)


class Sets(unittest.TestCase):
    def test_truth_lies_in_the_picture_and_parts_move(self) -> None:
        for name in SETS:
            module = importlib.import_module(f"synth.phone.sets.{name}")
            what = module.build()
            names = [s.name for s in what.solids]
            self.assertEqual(len(names), len(set(names)), f"{name}: two solids of one name")
            for matte in what.mattes.values():
                self.assertTrue(set(matte) <= set(names))
            self.assertTrue(set(what.flicker) | set(what.drift) <= set(names))
            camera = PhoneCamera(size=(1280, 720), focal_px=1050.0, pose=module.PATH.pose, readout_s=0.012)
            times = frame_times(RECORDINGS[name])[::20]
            truth = truth_of(what, camera, times, 0.5)
            for point, xy in truth.points.items():
                self.assertTrue((xy > 0).all() and (xy < [1280, 720]).all(), f"{name}: {point} leaves the picture")
                self.assertGreater(float(np.ptp(xy, axis=0).max()), 2, f"{name}: {point} stands still")
            with tempfile.TemporaryDirectory() as folder:
                write_truth(Path(folder), truth)
                with (Path(folder) / "points.csv").open() as f:
                    rows = list(csv.DictReader(f))
                self.assertEqual(len(rows), len(what.points) * len(times))
                camera_json = json.loads((Path(folder) / "camera.json").read_text())
                self.assertAlmostEqual(float(np.linalg.norm(camera_json["frames"][0]["rotation"])), 1.0, places=6)

    def test_shipped_truth_agrees_with_the_sets(self) -> None:
        """The files beside the demo clips are what the sets say today."""
        root = Path(__file__).resolve().parents[2] / "demo" / "truth"
        for name in SETS:
            module = importlib.import_module(f"synth.phone.sets.{name}")
            recording = RECORDINGS[name]
            camera = PhoneCamera(
                size=(1280, 720), focal_px=1050.0, pose=module.PATH.pose, exposure_s=1 / 90, readout_s=0.012
            )
            truth = truth_of(module.build(), camera, frame_times(recording), recording.clap_at)
            with (root / name / "points.csv").open() as f:
                for row in csv.DictReader(f):
                    xy = truth.points[row["name"]][int(row["frame"])]
                    self.assertLess(np.hypot(xy[0] - float(row["x"]), xy[1] - float(row["y"])), 0.01, row)
