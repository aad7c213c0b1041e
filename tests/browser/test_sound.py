"""Sound by hand: its swings in the time strip, keyed down, faded, brought to a loudness and delivered."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import numpy as np
from playwright.sync_api import expect

from plonket.media.loudness import loudness_of
from plonket.media.sound import read_sound, write_wav
from plonket.media.write import VideoWriter
from tests.browser.stage import BrowserTest, until
from tests.core.test_soundtrack import swing, tone

FRAMES = 90


class Heard(BrowserTest):
    def clip(self) -> Path:
        path = self.folder / "sounding.mp4"
        with VideoWriter(path, (640, 360), Fraction(30), sound=tone(-20, FRAMES / 30)) as out:
            for i in range(FRAMES):
                out.write(np.full((360, 640, 3), 60 + i, np.uint8))
        return path

    def inked(self, at: float) -> int:
        """How tall the sound's swing is drawn at a part of the lane's width, in pixels."""
        tall: int = self.page.evaluate(
            """(at) => { const c = document.querySelector('canvas[aria-label="Sound"]');
            const d = c.getContext('2d').getImageData(Math.round(c.width * at), 0, 1, c.height).data;
            let n = 0; for (let k = 0; k < d.length; k += 4) if (d[k + 3] > 99 && d[k] < 120) n++; return n; }""",
            at,
        )
        return tall

    def test_sound_is_turned_down_over_time_and_brought_to_a_loudness(self) -> None:
        page = self.page
        self.new_shot()
        self.bring_in(self.clip())
        until(lambda: self.inked(0.25) > 5, 20, "the swings")
        before = self.inked(0.9)
        page.get_by_role("navigation", name="Run sheet").locator("button[aria-pressed]").first.click()
        expect(page.get_by_test_id("loudness")).to_contain_text("-20.0 LUFS")
        # From as it is to a tenth, by two keys.
        self.go_to(30)
        page.get_by_role("button", name="Key Volume").click()
        until(lambda: isinstance(self.document()["sound"]["volume"], dict), 20, "a key")
        self.go_to(70)
        self.type_number("Volume", 10)
        until(lambda: len(self.document()["sound"]["volume"]["keys"]) == 2, 20, "another key")
        until(lambda: self.inked(0.9) < 0.6 * before, 20, "lower swings")
        self.type_number("Fades in", 15)
        self.choose("Loudness", "-16 LUFS")
        expect(page.get_by_test_id("loudness")).to_contain_text("Delivered at")
        # It plays, and the playhead goes on in time.
        page.keyboard.press("Home")
        page.get_by_role("button", name="Play", exact=True).click()
        until(lambda: int(page.get_by_test_id("frame-number").text_content() or 0) > 20, 30, "it to play")
        page.get_by_role("button", name="Pause", exact=True).click()
        page.get_by_role("button", name="Deliver", exact=True).click()
        expect(page.get_by_role("dialog").get_by_role("combobox", name="Loudness")).to_contain_text("-16 LUFS")
        page.get_by_role("dialog").get_by_role("button", name="Deliver", exact=True).click()
        found = read_sound(self.download())
        assert found is not None
        self.assertAlmostEqual(loudness_of(found) or 0, -16, delta=0.5)
        loud = swing(found, 0.7, 0.95)
        self.assertLess(swing(found, 0.02, 0.08), 0.25 * loud, "it fades in")
        self.assertLess(swing(found, 2.5, 2.9), 0.16 * loud, "it was turned down")
        page.get_by_role("dialog").get_by_role("button", name="Close").click()
        # Shown at another rate it lasts longer, and says so.
        self.choose("Shown at", "24 frames/s")
        until(lambda: self.document()["footage"]["played_at"] == "24/1", 20, "another rate")
        expect(page.get_by_text("90 frames, 3.75 s")).to_be_visible()
        expect(page.get_by_text("80 % of its speed")).to_be_visible()
        page.get_by_role("switch", name="Muted").click()
        until(lambda: self.document()["sound"]["muted"], 20, "it to be muted")
        until(lambda: self.inked(0.25) == 0, 20, "nothing to be heard")
        expect(page.get_by_text("Nothing is heard in this range.")).to_be_visible()
        self._another_sound_is_laid_under()

    def _another_sound_is_laid_under(self) -> None:
        page = self.page
        file = self.folder / "bell.wav"
        write_wav(tone(-18, 1), file)
        self.go_to(45)
        page.get_by_label("Sound to lay under it").set_input_files(file)
        until(lambda: len(self.document()["sounds"]) == 1, 30, "the bell")
        self.assertEqual(self.document()["sounds"][0]["starts"], 45)
        page.get_by_role("button", name="bell", exact=True).click()
        self.type_number("Starts at", 24)
        until(lambda: self.document()["sounds"][0]["starts"] == 24, 20, "it to begin earlier")
        expect(page.get_by_test_id("loudness")).to_contain_text("LUFS")
        page.get_by_role("button", name="Deliver", exact=True).click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("button", name="Deliver again").click()
        expect(dialog.get_by_role("link", name="Download the video")).to_have_count(0)
        found = read_sound(self.download())
        assert found is not None
        self.assertLess(swing(found, 0.1, 0.9), 0.02)
        self.assertGreater(swing(found, 1.1, 1.9), 0.08)
