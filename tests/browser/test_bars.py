"""Layers in time by hand: bars pulled, moved, faded and split in the time strip, and what is delivered of them."""

from __future__ import annotations

import unittest
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from playwright.sync_api import expect

from library.models import Asset
from plonket.media import open_clip
from tests.browser.stage import BrowserTest, until
from tests.core.test_steady import write

SIZE = (640, 360)
FRAMES = 40
SHELF = Path(settings.DEMO) / "shelf"
BOAT = np.s_[190:206, 312:328]


@unittest.skipUnless((SHELF / "paper-boat.png").exists(), "the demo's shelf is not here")
class Bars(BrowserTest):
    def layers(self) -> list[dict[str, Any]]:
        return list(self.document()["stack"])

    def frame_x(self, frame: float) -> float:
        """Where a frame lies in the time strip, on the page."""
        box = self.box(self.page.get_by_test_id("lanes"))
        return box["x"] + 10 + (frame + 0.5) / FRAMES * (box["width"] - 20)

    def pull(self, name: str, to: float, role: str = "slider", **how: Any) -> None:
        """Drag a part of a bar by its middle to a frame."""
        page = self.page
        x, y = self.reached(page.get_by_role(role, name=name, exact=True))  # type: ignore[arg-type]
        for key in how.get("keys", ()):
            page.keyboard.down(key)
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move((x + to) / 2, y, steps=3)
        page.mouse.move(to, y, steps=3)
        page.mouse.up()
        for key in how.get("keys", ()):
            page.keyboard.up(key)

    def test_a_boat_comes_goes_and_is_split_where_its_bar_says(self) -> None:
        page = self.page
        self.new_shot()
        grey = np.full((SIZE[1], SIZE[0], 3), 70, np.uint8)
        self.bring_in(write(self.folder / "grey.mp4", [grey] * FRAMES))
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(SHELF / "paper-boat.png")
        until(lambda: Asset.objects.filter(name="paper-boat", state="ready").exists(), 40, "the boat")
        page.get_by_role("dialog").get_by_role("button", name="Plonk paper-boat").click()
        page.mouse.click(*self.screen(320, 180, SIZE))
        until(lambda: len(self.layers()) == 1, 20, "the boat in the picture")
        expect(page.get_by_role("button", name="paper-boat, frames 0 to 39")).to_be_visible()
        self._its_ends_are_pulled()
        self._it_is_moved_with_its_keys()
        self._it_fades_in_one_drag()
        out = open_clip(self.deliver())
        self.addCleanup(out.close)
        page.get_by_role("dialog").get_by_role("button", name="Close").click()
        there = [float(np.abs(out.rgb(f)[BOAT].astype(int) - 70).mean()) for f in range(FRAMES)]
        times = self.layers()[0]
        self.assertLess(max(there[: times["begins"]] + there[times["ends"] + 1 :]), 5, "nothing before and after")
        whole = there[times["ends"]]
        self.assertGreater(whole, 60)
        first = there[times["begins"] : times["begins"] + 5]
        self.assertEqual(first, sorted(first), "it fades in")
        self.assertLess(first[0], 0.6 * whole)
        self._it_is_split(times)

    def _its_ends_are_pulled(self) -> None:
        self.go_to(12)
        # Near the playhead, the end takes on its place.
        self.pull("Beginning of paper-boat", self.frame_x(12.3))
        until(lambda: self.layers()[0]["begins"] == 12, 20, "the beginning at the playhead")
        self.pull("End of paper-boat", self.frame_x(26))
        until(lambda: abs((self.layers()[0]["ends"] or 99) - 26) <= 1, 20, "the end")
        self.caught_up()
        ends = self.layers()[0]["ends"]
        self.page.get_by_role("slider", name="End of paper-boat").press("ArrowRight")
        until(lambda: self.layers()[0]["ends"] == ends + 1, 20, "a frame more")
        self.caught_up()
        self.page.keyboard.press("Control+z")
        self.page.keyboard.press("Control+z")
        until(lambda: self.layers()[0]["ends"] is None, 20, "undo")
        self.pull("End of paper-boat", self.frame_x(26))
        until(lambda: self.layers()[0]["ends"] is not None, 20, "the end again")

    def _it_is_moved_with_its_keys(self) -> None:
        page = self.page
        self.go_to(14)
        page.get_by_role("button", name="Key Turn").click()
        until(lambda: isinstance(self.layers()[0]["turn"], dict), 20, "a key")
        before = self.layers()[0]
        name = f"paper-boat, frames {before['begins']} to {before['ends']}"
        x, _ = self.centre(page.get_by_role("button", name=name))
        self.pull(name, x + self.frame_x(6) - self.frame_x(0), role="button")
        until(lambda: self.layers()[0]["begins"] > before["begins"] + 4, 20, "the bar to move")
        after = self.layers()[0]
        by = after["begins"] - before["begins"]
        self.assertEqual(after["ends"] - before["ends"], by)
        self.assertEqual(after["turn"]["keys"][0]["frame"] - before["turn"]["keys"][0]["frame"], by)

    def _it_fades_in_one_drag(self) -> None:
        page = self.page
        knob = page.get_by_role("slider", name="Fade in of paper-boat")
        x, _ = self.centre(knob)
        self.pull("Fade in of paper-boat", x + self.frame_x(4) - self.frame_x(0))
        until(lambda: self.layers()[0]["fade_in"] in (3, 4, 5), 20, "the fade")
        expect(page.get_by_label("Fades in value")).to_have_value(f"{self.layers()[0]['fade_in']} fr")

    def test_markers_have_names_are_moved_and_bars_snap_to_them(self) -> None:
        page = self.page
        self.new_shot()
        grey = np.full((SIZE[1], SIZE[0], 3), 70, np.uint8)
        self.bring_in(write(self.folder / "grey.mp4", [grey] * FRAMES))
        self.go_to(14)
        page.keyboard.press("j")
        until(lambda: len(self.document()["markers"]) == 1, 20, "a marker")
        self.caught_up()
        page.keyboard.press("j")
        # By its name it is found again; pressed, it takes the playhead there.
        self.go_to(30)
        page.get_by_role("button", name="Marker Marker at frame 14").click()
        self.shown(14)
        name = page.get_by_label("Name of the marker")
        name.fill("The clap")
        name.press("Enter")
        until(lambda: self.document()["markers"][0]["name"] == "The clap", 20, "its name")
        self.assertEqual(len(self.document()["markers"]), 1, "one of them at a frame")
        flag = page.get_by_role("button", name="Marker The clap at frame 14")
        x, y = self.reached(flag)
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(self.frame_x(22), y, steps=6)
        page.mouse.up()
        until(lambda: self.document()["markers"][0]["frame"] == 22, 20, "it to be moved")
        self.go_to(3)
        page.get_by_role("button", name="Plonk", exact=True).first.click()
        page.get_by_role("menuitem", name="Colour one colour").click()
        until(lambda: len(self.layers()) == 1, 20, "a layer")
        self.pull("End of Colour", self.frame_x(21.3))
        until(lambda: self.layers()[0]["ends"] == 21, 20, "the end before the marker")
        page.get_by_role("button", name="Marker The clap at frame 22").click()
        page.get_by_role("button", name="Remove The clap").click()
        until(lambda: not self.document()["markers"], 20, "it to be gone")

    def _it_is_split(self, times: dict[str, Any]) -> None:
        page = self.page
        at = times["begins"] + 8
        self.go_to(at)
        page.get_by_role("button", name="Split here").click()
        until(lambda: len(self.layers()) == 2, 20, "two of it")
        second, first = self.layers()
        self.assertEqual((first["begins"], first["ends"], second["begins"], second["ends"]),
                         (times["begins"], at - 1, at, times["ends"]))  # fmt: skip
        # All bars are seen with one key; at an edge there is nothing to split, and it says so.
        page.keyboard.press("Escape")
        page.keyboard.press("t")
        expect(page.locator("[data-bar]")).to_have_count(2)
        page.locator(f'[data-bar="{second["id"]}"]').click()
        self.go_to(2)
        page.keyboard.press("y")
        expect(page.get_by_text("can be split between frames")).to_be_visible()
        self.assertEqual(len(self.layers()), 2)
        page.get_by_role("button", name="All the time").click()
        until(lambda: self.layers()[0]["begins"] is None, 20, "it to be there all the time")
