"""Footage that runs otherwise, through the API: what is stored, drawn, heard and delivered; the clip's own time; one shot made two."""

from __future__ import annotations

import io
import wave
from fractions import Fraction

import numpy as np

from deliveries.models import Delivery
from plonket.media import open_clip
from plonket.media.sound import read_sound
from shots.models import Shot
from tests.core.clips import clap_sample, flash_frame, phone_clip
from tests.server.test_plate import WithPlate


class Runs(WithPlate):
    def change(self, shot: str, status: int = 200, **change: object) -> dict:
        return dict(self.page.json("POST", f"/shots/{shot}/time", {"change": change}, status=status))

    def test_slower_held_and_cut_as_steps_that_can_be_undone(self) -> None:
        shot = self.shot_with_clip()
        frames = self.page.json("GET", f"/shots/{shot}")["document"]["footage"]["frames"]
        slow = self.change(shot, do="speed", first=0, last=frames - 1, percent=50)
        self.assertEqual(slow["undo"], f"Frames 0 to {frames - 1} at 50 %")
        footage = slow["document"]["footage"]
        self.assertEqual(footage["out_frame"], 2 * (frames - 1))
        # The clip's own frames lie on every second one, and are what they were.
        plain, filmed = self.picture(shot, "final", 8), self.picture(shot, "filmed-final", 4)
        np.testing.assert_array_equal(plain, filmed)
        held = self.change(shot, do="hold", frame=8, frames=5)
        self.assertEqual(held["document"]["footage"]["out_frame"], 2 * (frames - 1) + 5)
        np.testing.assert_array_equal(self.picture(shot, "final", 13), filmed)
        self.change(shot, do="cut out", first=0, last=7)
        np.testing.assert_array_equal(self.picture(shot, "final", 0), filmed)
        for _ in range(3):
            self.page.json("POST", f"/shots/{shot}/undo")
        self.assertIsNone(self.page.json("GET", f"/shots/{shot}")["document"]["footage"]["time"])

    def test_what_cannot_be_is_refused_in_words_and_changes_nothing(self) -> None:
        shot = self.shot_with_clip()
        before = self.page.json("GET", f"/shots/{shot}")["number"]
        for change, said in (
            ({"do": "speed", "first": 0, "last": 5, "percent": 0}, "hold a frame"),
            ({"do": "speed", "first": 5, "last": 5000, "percent": 50}, "do not lie within the shot"),
            ({"do": "ramp", "first": 0, "last": 5}, "frames before it"),
            ({"do": "add range", "first": 0, "last": 5000}, "The clip has frames 0 to"),
        ):
            self.assertIn(said, self.change(shot, 400, **change)["message"])
        keys = [{"frame": 0, "value": 5.0, "ease": "linear"}, {"frame": 9, "value": -3.0, "ease": "linear"}]
        out = self.page.json("POST", f"/shots/{shot}/edits", {"label": "Time", "patch": [
            {"op": "add", "path": "/footage/time", "value": {"moment": {"keys": keys}}},
        ]}, status=400)  # fmt: skip
        self.assertIn("goes from 0", out["message"])
        self.assertEqual(self.page.json("GET", f"/shots/{shot}")["number"], before)

    def test_delivered_in_its_own_length_with_its_sound(self) -> None:
        """The flash and the clap of a phone's clip at two fifths of its speed come within a frame of each other."""
        shot = self.shot_with_clip(phone_clip(self.folder / "n.mp4"))
        made = self.change(shot, do="speed", first=0, last=39, percent=40)
        footage = made["document"]["footage"]
        length, rate = footage["out_frame"] + 1, float(Fraction(footage["rate"]))
        self.page.json("POST", f"/shots/{shot}/deliver", {})
        path = Delivery.objects.get().path
        clip = open_clip(path)
        self.addCleanup(clip.close)
        self.assertEqual(clip.info.frames, length)
        sound = read_sound(path)
        assert sound is not None
        self.assertAlmostEqual(len(sound.samples) / sound.rate, length / rate, delta=1 / rate)
        flash = flash_frame([clip.rgb(k) for k in range(length)])
        self.assertAlmostEqual(clap_sample(sound.samples, sound.rate) * rate, flash, delta=2.5, msg="a frame of the clip")
        heard = self.page.get(f"/shots/{shot}/sound/{made['number']}.wav")
        with wave.open(io.BytesIO(heard.content)) as file:
            self.assertAlmostEqual(file.getnframes() / file.getframerate(), length / rate, delta=0.01)

    def test_a_shot_is_made_two_and_nothing_is_lost(self) -> None:
        shot = self.shot_with_clip()
        frames = self.page.json("GET", f"/shots/{shot}")["document"]["footage"]["frames"]
        second = self.page.json("POST", f"/shots/{shot}/split", {"frame": 6})
        first = self.page.json("GET", f"/shots/{shot}")
        ends = [(d["footage"]["in_frame"], d["footage"]["out_frame"]) for d in (first["document"], second["document"])]
        self.assertEqual(ends, [(0, 5), (6, frames - 1)])
        self.assertNotEqual(first["document"]["name"], second["document"]["name"])
        self.assertEqual(Shot.objects.count(), 2)
        refused = self.page.json("POST", f"/shots/{shot}/split", {"frame": 0}, status=400)
        self.assertIn("between frames 1 and 5", refused["message"])
