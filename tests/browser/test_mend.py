"""Things taken out of the footage by hand in the browser: a card off the wall, a speck off the lens."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np
from playwright.sync_api import expect

from plonket.base.conventions import F64, U8
from plonket.media import open_clip
from synth.phone.quickset import QuickShot, chart_shot, quad
from synth.phone.take import Recording, frame_times, write_recording
from tests.browser.stage import BrowserTest, until
from tests.core.shots import chart_corners

SIZE = (640, 360)
FRAMES = 24
SPECK = (410, 150)
CARD = quad((-0.12, 0.03, 0.002), 0.06, 0.05)


def specked(rgb: U8) -> U8:
    out = rgb.copy()
    cv2.circle(out, SPECK, 4, (30, 28, 26), -1, cv2.LINE_AA)
    return out


class TakenOut(BrowserTest):
    shot: QuickShot
    clean: QuickShot
    shaky: QuickShot
    corners: F64

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        eyes = [(-0.10, 0.03, 0.92), (0.10, -0.03, 0.88)]
        cls.shot = chart_shot(frames=FRAMES, eyes=eyes, hand=lambda _t: CARD)
        cls.clean = chart_shot(frames=FRAMES, eyes=eyes)
        cls.shaky = chart_shot(frames=FRAMES, shake=6.0)
        cls.corners = chart_corners(cls.shot)

    def start(self, frames: list[U8]) -> None:
        recording = Recording(rate=Fraction(30), frames=FRAMES, crf=10, sound=False)
        path = self.folder / "wall.mp4"
        write_recording(path, iter(frames), frame_times(recording), SIZE, recording)
        self.new_shot()
        self.bring_in(path)

    def take_out(self, low: tuple[float, float], high: tuple[float, float]) -> None:
        """Treat, Take something out, and drag a box round it."""
        page = self.page
        count = len(self.document()["plate"])
        page.get_by_role("button", name="Treat").click()
        page.get_by_role("menuitem", name="Take something out").click()
        expect(page.get_by_text("Draw round what should go")).to_be_visible()
        page.mouse.move(*self.screen(*low, SIZE))
        page.mouse.down()
        page.mouse.move(*self.screen(*((np.array(low) + high) / 2), SIZE), steps=3)
        page.mouse.move(*self.screen(*high, SIZE), steps=3)
        page.mouse.up()
        until(lambda: len(self.document()["plate"]) == count + 1, 20, "the mend")

    def off(self, path: Path, where: list[np.ndarray], true: QuickShot) -> list[float]:
        """RMS difference from the clean truth inside what was taken out, in code values."""
        clip = open_clip(path)
        self.assertEqual(clip.info.frames, FRAMES)
        out = []
        for i in range(0, FRAMES, 4):
            gap = clip.rgb(i).astype(float) - true.frames[i]
            out.append(float(np.sqrt((gap[where[i]] ** 2).mean())))
        return out

    def card(self, frame: int) -> F64:
        camera, t = self.shot.camera, float(self.shot.times[frame])
        return np.array([camera.project(t, c[None])[0] for c in CARD]).reshape(4, 2)

    def test_a_card_comes_off_the_chart_and_the_outline_rides_along(self) -> None:
        page = self.page
        self.start(self.shot.frames)
        page.keyboard.press("r")
        for k, nudge in enumerate(((4, 3), (-4, 3), (-4, -3), (4, -3))):
            page.mouse.click(*self.screen(*(self.corners[0, k] + nudge), SIZE))
        page.keyboard.press("Enter")
        page.get_by_role("button", name="Measure", exact=True).click()
        expect(page.get_by_role("button", name="Measure again")).to_be_visible(timeout=120_000)
        low, high = self.card(0).min(axis=0) - 3, self.card(0).max(axis=0) + 3
        self.take_out((low[0], low[1]), (high[0], high[1]))
        mend = self.document()["plate"][0]
        self.assertEqual((mend["masks"][0]["rides"], mend["method"]), ("to:motion-1", "edges"))
        expect(page.get_by_role("button", name="Mend Taken out")).to_be_visible()
        # The outline rides along: its points lie round the card on the last frame too.
        self.go_to(FRAMES - 1)
        seen = np.array([self.centre(page.locator(f'[data-outline-point="{k}"]')) for k in range(4)])
        zoom = (self.screen(100, 0, SIZE)[0] - self.screen(0, 0, SIZE)[0]) / 100
        true = np.array([self.screen(*c, SIZE) for c in self.card(FRAMES - 1)])
        self.assertLess(float(np.abs(seen.mean(axis=0) - true.mean(axis=0)).max()), 2.5 * zoom)
        masks = []
        for i in range(FRAMES):
            mask = np.zeros((360, 640), np.uint8)
            cv2.fillConvexPoly(mask, np.round(self.card(i)).astype(np.int32), 255)
            masks.append(mask > 0)
        before = [float(np.sqrt(((self.shot.frames[i].astype(float) - self.clean.frames[i])[masks[i]] ** 2).mean()))
                  for i in range(0, FRAMES, 4)]  # fmt: skip
        after = self.off(self.deliver(), masks, self.clean)
        self.assertTrue(all(a < 0.4 * b for a, b in zip(after, before, strict=True)), (after, before))

    def test_a_speck_comes_off_the_lens(self) -> None:
        page = self.page
        self.start([specked(f) for f in self.shaky.frames])
        self.take_out((SPECK[0] - 6, SPECK[1] - 6), (SPECK[0] + 6, SPECK[1] + 6))
        self.choose("Filled", "Borrowed from other frames")
        until(lambda: self.document()["plate"][0]["method"] == "time", 20, "the method")
        self.assertEqual(self.document()["plate"][0]["masks"][0]["rides"], "footage")
        mask = np.zeros((360, 640), np.uint8)
        cv2.circle(mask, SPECK, 4, 255, -1)
        after = self.off(self.deliver(), [mask > 0] * FRAMES, self.shaky)
        # Nothing but noise and coding is left, except where hardly any frame shows what the speck hides.
        self.assertLess(float(np.median(after)), 8.0, after)
        self.assertLess(max(after), 20.0, after)
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Turn Mend off").click()
        until(lambda: self.document()["plate"][0]["shown"] is False, 20, "the mend to be off")
        self.caught_up()
        page.keyboard.press("Control+z")
        until(lambda: self.document()["plate"][0]["shown"] is True, 20, "undo")


class GrainTakenOff(BrowserTest):
    def test_grain_goes_off_and_comes_back_at_the_end(self) -> None:
        page = self.page
        clean = chart_shot(frames=12, shake=6.0).frames
        rng = np.random.default_rng(2)
        noisy = [np.clip(f + rng.normal(0, 7, (*f.shape[:2], 1)) + 0.5, 0, 255).astype(np.uint8) for f in clean]
        recording = Recording(rate=Fraction(30), frames=12, crf=6, sound=False)
        path = self.folder / "grainy.mp4"
        write_recording(path, iter(noisy), frame_times(recording), SIZE, recording)
        self.new_shot()
        self.bring_in(path)
        page.get_by_role("button", name="Treat").click()
        page.get_by_role("menuitem", name="De-grain").click()
        until(lambda: [p["kind"] for p in self.document()["plate"]] == ["degrain"], 20, "the treatment")
        page.get_by_role("button", name="Give the grain back").click()
        expect(page.get_by_text("measured from frame to frame")).to_be_visible(timeout=60_000)
        (look,) = self.document()["finish"]
        self.assertEqual((look["kind"], look["id"]), ("grain", "clip-grain"))
        strength = float(np.mean(look["profile"]["strength"]))
        self.assertLess(abs(strength / 7 - 1), 0.35)
        # Once more takes its place, and undo takes it away.
        page.get_by_role("button", name="Measure the grain given back anew").click()
        until(lambda: len(self.document()["finish"]) == 1, 20, "one look")
        self.caught_up()
        page.keyboard.press("Control+z")
        page.keyboard.press("Control+z")
        until(lambda: self.document()["finish"] == [], 20, "undone")
        quiet = open_clip(self.deliver()).rgb(6)
        mine, was = (float(np.abs(p[40:-40, 40:-40].astype(float) - clean[6][40:-40, 40:-40]).mean()) for p in (quiet, noisy[6]))
        self.assertLess(mine, 0.75 * was)
