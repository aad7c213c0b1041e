"""Slow motion by hand: a speed typed and pulled in the time strip, held and undone; what follows stays put; the clip's own time."""

from __future__ import annotations

import re
import unittest
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from playwright.sync_api import expect

from library.models import Asset
from plonket.media import open_clip
from tests.browser.stage import BrowserTest, until
from tests.core.shots import SHARP
from tests.core.test_steady import write
from tests.core.test_time import N, bare_shot

SIZE = (640, 360)
SHELF = Path(settings.DEMO) / "shelf"


@unittest.skipUnless((SHELF / "paper-boat.png").exists(), "the demo's shelf is not here")
class Slow(BrowserTest):
    def footage(self) -> dict[str, Any]:
        return dict(self.document()["footage"])

    def length(self) -> int:
        return int(self.footage()["out_frame"]) + 1

    def card(self, name: str) -> None:
        self.page.get_by_role("navigation", name="Run sheet").get_by_text(name, exact=True).first.click()

    def test_a_boat_stays_on_its_detail_at_two_fifths_of_the_speed(self) -> None:
        page = self.page
        self.new_shot()
        self.bring_in(write(self.folder / "chart.mp4", bare_shot().frames, crf=6))
        spot = bare_shot().on_chart(*SHARP["rose"])
        page.keyboard.press("n")
        page.mouse.click(*self.screen(float(spot[0][0]), float(spot[0][1]), SIZE))
        until(lambda: len(self.document()["motions"]) == 1, 20, "the point")
        self.caught_up()
        page.keyboard.press("m")
        until(lambda: self.document()["motions"][0]["measurement"] is not None, 60, "measuring")
        self.caught_up()
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(SHELF / "paper-boat.png")
        until(lambda: Asset.objects.filter(name="paper-boat", state="ready").exists(), 40, "the boat")
        page.get_by_role("dialog").get_by_role("button", name="Plonk paper-boat").click()
        page.mouse.click(*self.screen(float(spot[0][0]), float(spot[0][1]), SIZE))
        until(lambda: len(self.document()["stack"]) == 1, 20, "the boat in the picture")
        self.caught_up()
        measured = self.document()["motions"][0]["measurement"]
        self._it_is_slowed_by_typing()
        self._a_frame_is_held_and_let_go()
        self.assertEqual(self.document()["motions"][0]["measurement"], measured, "nothing is measured anew")
        self._the_motion_is_seen_in_the_clips_own_time()
        self._it_is_delivered(spot)

    def _it_is_slowed_by_typing(self) -> None:
        page = self.page
        self.card("chart")
        speed = page.get_by_label("Runs at", exact=True)
        speed.click()
        speed.press("ControlOrMeta+a")
        speed.press_sequentially("40")
        speed.press("Enter")
        until(lambda: self.length() == 38, 20, "two fifths of the speed")
        expect(page.get_by_role("slider", name="Last frame of the range")).to_have_attribute("aria-valuemax", "37")
        expect(page.get_by_role("group", name="Speed").get_by_text("40 %")).to_be_visible()

    def _a_frame_is_held_and_let_go(self) -> None:
        page = self.page
        self.go_to(10)
        page.get_by_role("button", name="Hold frame 10").click()
        until(lambda: self.length() == 38 + 30, 20, "a second's hold")
        stretches = page.get_by_role("group", name="Speed")
        expect(stretches.get_by_text("held")).to_be_visible()
        # Its end pulled to the left: it is held for less long.
        x, y = self.centre(stretches.get_by_role("slider").nth(1))
        lanes = self.box(page.get_by_test_id("lanes"))
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x - 10 * (lanes["width"] - 20) / self.length(), y, steps=4)
        page.mouse.up()
        until(lambda: self.length() in (57, 58, 59), 20, "a shorter hold")
        self.caught_up()
        page.keyboard.press("Control+z")
        page.keyboard.press("Control+z")
        until(lambda: self.length() == 38, 20, "undo")
        # The page shows it a moment after it is stored.
        expect(page.get_by_role("slider", name="Last frame of the range")).to_have_attribute("aria-valuemax", "37")

    def _the_motion_is_seen_in_the_clips_own_time(self) -> None:
        page = self.page
        self.go_to(20)
        self.card("Point motion")
        expect(page.get_by_test_id("as-filmed")).to_be_visible()
        expect(page.get_by_test_id("frame-number")).to_have_text("8")
        page.keyboard.press(".")
        expect(page.get_by_test_id("frame-number")).to_have_text("9")
        page.get_by_test_id("as-filmed").click()
        expect(page.get_by_test_id("as-filmed")).to_have_count(0)
        expect(page.get_by_test_id("frame-number")).to_have_text(re.compile("2[23]"))

    def _it_is_delivered(self, spot: np.ndarray) -> None:
        out = open_clip(self.deliver())
        self.addCleanup(out.close)
        self.assertEqual((out.info.frames, float(out.info.rate)), (38, 30.0))
        bare = open_clip(self.folder / "chart.mp4")
        self.addCleanup(bare.close)

        def middle(rgb: np.ndarray, plate: np.ndarray) -> np.ndarray:
            """Where what was added lies."""
            added = np.abs(rgb.astype(float) - plate).sum(axis=2)
            added[added < 120] = 0
            y, x = np.mgrid[0 : SIZE[1], 0 : SIZE[0]] + 0.5
            return np.array([(added * x).sum(), (added * y).sum()]) / added.sum()

        # On the clip's own frames the boat goes with the point; whatever lies between is held by the core's test.
        first = middle(out.rgb(0), bare.rgb(0)) - spot[0]
        for clip_frame in (4, 8, 12):
            lies = middle(out.rgb(round(clip_frame / 0.4)), bare.rgb(clip_frame))
            self.assertLess(float(np.hypot(*(lies - spot[clip_frame] - first))), 2.5)
        self.assertLess(N, 38)

    def test_two_motions_are_set_against_each_other_at_a_spot(self) -> None:
        page = self.page
        self.new_shot()
        self.bring_in(write(self.folder / "chart.mp4", bare_shot().frames, crf=6))
        for k, name in enumerate(("rose", "title")):
            x, y = bare_shot().on_chart(*SHARP[name])[0]
            page.keyboard.press("Escape")
            page.keyboard.press("Escape")
            page.keyboard.press("n")
            page.mouse.click(*self.screen(float(x), float(y), SIZE))
            until(lambda k=k: len(self.document()["motions"]) == k + 1, 20, "a motion")  # type: ignore[misc]
            self.caught_up()
            page.keyboard.press("m")
            until(lambda k=k: self.document()["motions"][k]["measurement"] is not None, 60, "measuring")  # type: ignore[misc]
        super().choose("The other motion", "Point motion")
        told = page.get_by_test_id("apart")
        expect(told).to_contain_text("Apart by")
        # One point gives a shift alone: at any spot they are as far apart as the two details move differently.
        ways = [bare_shot().on_chart(*SHARP[name]) for name in ("rose", "title")]
        off = np.hypot(*((ways[0] - ways[0][0]) - (ways[1] - ways[1][0])).T)
        shown = float(re.findall(r"[0-9.]+", told.inner_text())[0])
        self.assertAlmostEqual(shown, float(np.sqrt(np.mean(off**2))), delta=0.12)
        expect(page.get_by_role("img", name=re.compile("^Apart from Point motion"))).to_be_visible()
        x, y = self.centre(page.get_by_role("button", name="Spot at which"))
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 60, y + 30, steps=4)
        page.mouse.up()
        moved = self.centre(page.get_by_role("button", name="Spot at which"))
        self.assertLess(abs(moved[0] - x - 60) + abs(moved[1] - y - 30), 4)
        page.get_by_role("button", name="Both held, side by side").click()
        expect(page.get_by_test_id("rate")).to_contain_text("held still")
