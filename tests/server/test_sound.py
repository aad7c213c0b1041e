"""A shot's sound over the API: what is drawn of it, how loud it is, what is delivered."""

from __future__ import annotations

import io
import wave
from fractions import Fraction
from pathlib import Path

import numpy as np

from deliveries.models import Delivery
from plonket.media.loudness import loudness_of
from plonket.media.sound import read_sound, write_wav
from plonket.media.write import VideoWriter
from tests.core.test_soundtrack import joined, tone
from tests.server.test_plate import WithPlate


class SoundApi(WithPlate):
    def sounding(self) -> Path:
        """Three seconds: loud for one, quiet for two."""
        path = self.folder / "sounding.mp4"
        with VideoWriter(path, (64, 36), Fraction(30), sound=joined(tone(-12, 1), tone(-32, 2))) as out:
            for _ in range(90):
                out.write(np.full((36, 64, 3), 90, np.uint8))
        return path

    def test_swings_are_told_frame_by_frame(self) -> None:
        shot = self.shot_with_clip(self.sounding())
        digest = self.page.json("GET", f"/shots/{shot}")["document"]["footage"]["asset"]
        swings = self.page.json("GET", f"/clips/{digest}/waveform")
        self.assertEqual(len(swings), 90)
        self.assertAlmostEqual(float(np.median(swings[5:25])), 10 ** (-12 / 20), delta=0.03)
        self.assertAlmostEqual(float(np.median(swings[40:85])), 10 ** (-32 / 20), delta=0.01)
        silent = self.shot_with_clip()
        digest = self.page.json("GET", f"/shots/{silent}")["document"]["footage"]["asset"]
        self.assertEqual(self.page.json("GET", f"/clips/{digest}/waveform"), [])
        self.assertIsNone(self.page.json("GET", f"/shots/{silent}/loudness")["lufs"])
        self.page.json("GET", f"/clips/{'0' * 64}/waveform", status=404)

    def test_a_loudness_is_measured_brought_about_and_delivered(self) -> None:
        shot = self.shot_with_clip(self.sounding())
        picture = self.page.json("GET", f"/shots/{shot}")["picture"]
        self.edit(shot, {"op": "replace", "path": "/footage/in_frame", "value": 45})
        told = self.page.json("GET", f"/shots/{shot}/loudness")
        self.assertAlmostEqual(told["lufs"], -32, delta=0.4)
        self.assertEqual(told["lufs"], told["finished"])
        self.edit(shot, {"op": "replace", "path": "/sound/level", "value": "-16"})
        told = self.page.json("GET", f"/shots/{shot}/loudness")
        self.assertAlmostEqual(told["finished"], -16, delta=0.1)
        self.assertEqual(self.page.json("GET", f"/shots/{shot}")["picture"], picture, "no picture is drawn anew for it")
        self.page.json("POST", f"/shots/{shot}/deliver", {})
        found = read_sound(Delivery.objects.get().path)
        assert found is not None
        self.assertEqual(len(found.samples), 45 * 1600)
        self.assertAlmostEqual(loudness_of(found) or 0, -16, delta=0.4)
        self.edit(shot, {"op": "replace", "path": "/sound/muted", "value": True})
        self.assertIsNone(self.page.json("GET", f"/shots/{shot}/loudness")["finished"])
        self.page.json("POST", f"/shots/{shot}/deliver", {})
        self.assertIsNone(read_sound(Delivery.objects.first().path))  # type: ignore[union-attr]
        bad = self.edit(shot, {"op": "replace", "path": "/sound/level", "value": "-5"}, status=400)
        self.assertIn("level", str(bad["message"]))

    def test_another_sound_is_brought_in_laid_under_and_delivered(self) -> None:
        file = self.folder / "bell.wav"
        write_wav(tone(-12, 1, hertz=440), file)
        asset = self.page.upload(file)["Plonket-Asset"]
        told = self.page.json("GET", f"/assets/{asset}")
        self.assertEqual((told["kind"], told["state"], told["seconds"], told["has_audio"]), ("sound", "ready", 1.0, True))
        shot = self.shot_with_clip(self.sounding())
        picture = self.page.json("GET", f"/shots/{shot}")["picture"]
        laid = {"kind": "laid", "id": "bell", "name": "Bell", "asset": asset, "starts": 60}
        self.edit(shot, {"op": "add", "path": "/sounds/-", "value": laid}, {"op": "replace", "path": "/sound/muted", "value": True})
        now = self.page.json("GET", f"/shots/{shot}")
        self.assertEqual(now["picture"], picture, "no picture is drawn anew for it")
        self.page.json("POST", f"/shots/{shot}/deliver", {})
        found = read_sound(Delivery.objects.get().path)
        assert found is not None
        loud = np.abs(found.samples[:, 0].astype(float))
        self.assertLess(loud[: 48000 * 2 - 2400].max(), 400)
        self.assertAlmostEqual(loud[48000 * 2 + 4800 : 48000 * 3 - 4800].max() / 32767, 10 ** (-12 / 20), delta=0.03)
        heard = self.page.get(f"/shots/{shot}/others/{now['number']}.wav")
        with wave.open(io.BytesIO(heard.content)) as opened:
            self.assertEqual(opened.getnframes(), 3 * 48000)
        refused = self.page.upload(file, shot=self.new_shot())
        self.assertEqual(refused.status_code, 422)
        self.assertIn("nothing but sound", refused.json()["message"])
        broken = self.folder / "broken.mp3"
        broken.write_bytes(b"no sound at all" * 50)
        self.assertEqual(self.page.upload(broken).status_code, 422)
