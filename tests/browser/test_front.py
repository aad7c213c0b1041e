"""Things put behind the footage by hand: a harbour behind the keyed keeper, dusk behind bars, a ship behind jars, nothing at all."""

from __future__ import annotations

import csv
import unittest
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from django.conf import settings
from playwright.sync_api import expect

from library.models import Asset
from plonket.base.conventions import U8
from plonket.media import open_clip
from tests.browser.stage import BrowserTest, until
from tests.core.test_steady import write

SIZE = (1280, 720)
DEMO = Path(settings.DEMO)
CLIPS = DEMO / "clips"
FRAMES = 5


@unittest.skipUnless((CLIPS / "keeper.mp4").exists(), "the demo clips are not here")
class Behind(BrowserTest):
    def cut(self, name: str, start: int = 40, step: int = 1) -> Path:
        clip = open_clip(CLIPS / f"{name}.mp4")
        self.addCleanup(clip.close)
        return write(self.folder / f"{name}.mp4", [clip.rgb(start + step * i) for i in range(FRAMES)], crf=4)

    def front(self, way: str) -> None:
        """A way of putting something behind the footage, from its card."""
        page = self.page
        page.get_by_role("navigation", name="Run sheet").locator("button[aria-pressed]").first.click()
        page.get_by_role("button", name=way).click()
        until(lambda: [one["kind"] for one in self.document()["stack"]] == ["plate"], 40, "the footage in front")
        expect(page.get_by_role("heading", name="What is behind")).to_be_visible()

    def behind(self, element: str) -> None:
        """Something of the shelf behind it."""
        page = self.page
        page.get_by_role("button", name="Plonk behind it").click()
        page.get_by_label("Files to bring in").set_input_files(DEMO / "shelf" / f"{element}.png")
        until(lambda: Asset.objects.filter(name=element, state="ready").exists(), 40, "the element")
        page.get_by_role("dialog").get_by_role("button", name=f"Plonk {element}").click()
        until(lambda: len(self.document()["stack"]) == 2, 20, "what is behind")
        self.assertEqual([one["kind"] for one in self.document()["stack"]], ["plate", "still"])

    def first_layer(self) -> None:
        self.page.locator("[data-card]").first.get_by_role("button").first.click()
        expect(self.page.get_by_role("heading", name="What is behind")).to_be_visible()

    def still(self) -> dict[str, Any]:
        return dict(self.document()["stack"][1])

    def test_the_keeper_s_own_footage_is_keyed_and_the_harbour_rides_behind_him(self) -> None:
        page = self.page
        self.new_shot()
        source = self.cut("keeper", 24, 12)
        self.bring_in(source)
        self._a_cross_is_followed()
        self.front("Key the footage")
        self.assertEqual(self.document()["footage"]["opacity"], 0, "the cloth is not seen under him")
        # The matte is shown first, and what comes next is said.
        expect(page.get_by_role("radio", name="Matte")).to_have_attribute("data-state", "on")
        expect(page.get_by_text("White stays in front")).to_be_visible()
        self.type_number("Marks off", 90)
        self.type_number("Clip white", 73)
        page.get_by_role("button", name="Show the picture").click()
        expect(page.get_by_text("Nothing lies behind it yet")).to_be_visible()
        self.behind("night-harbour")
        # It fills the frame, and rides on what was followed.
        still = self.still()
        self.assertEqual((still["x"], still["y"], still["size"]), (640, 360, 100))
        self.assertEqual(still["follow"]["target"], self.document()["motions"][0]["id"])
        self._moved_and_scaled_over_all_its_keys()
        out = open_clip(self.deliver())
        self.addCleanup(out.close)
        keeper = open_clip(source)
        self.addCleanup(keeper.close)
        self.assertEqual(out.info.frames, FRAMES)
        for i in (0, FRAMES - 1):
            rgb = out.rgb(i).astype(int)
            coat = np.s_[480:540, 600:680]
            self.assertLess(float(np.abs(rgb[coat] - keeper.rgb(i)[coat]).mean()), 12)
            # No cloth anywhere: nothing is as green as it was.
            green = rgb[..., 1] - np.maximum(rgb[..., 0], rgb[..., 2])
            self.assertLess(float((green > 25).mean()), 0.002)
        # The harbour moved as the cloth did, and its moon outwards as it grew.
        track = self._cross_path()
        went = self._moon(out.rgb(FRAMES - 1)) - self._moon(out.rgb(0))
        grew = np.array([930 - 640, 120 - 360]) * (1.21 - 1.144)
        self.assertGreater(float(np.hypot(*(track[-1] - track[0]))), 8, "the camera moves")
        self.assertLess(float(np.hypot(*(went - grew - (track[-1] - track[0])))), 3)

    def _a_cross_is_followed(self) -> None:
        page = self.page
        page.keyboard.press("n")
        x, y = self._cross_path()[0]
        page.mouse.click(*self.screen(float(x), float(y), SIZE))
        until(lambda: len(self.document()["motions"]) == 1, 20, "the point")
        self.type_number("Pattern", 61)
        self.type_number("Reach", 90)
        page.get_by_role("button", name="Measure", exact=True).first.click()
        until(lambda: self.document()["motions"][0]["measurement"] is not None, 60, "the point to be followed")

    def _cross_path(self) -> np.ndarray:
        """(n, 2) where a tape cross is in the frames that were cut out, by the truth filmed with the clip."""
        with (DEMO / "truth" / "keeper" / "points.csv").open() as f:
            rows = {int(r["frame"]): (float(r["x"]), float(r["y"])) for r in csv.DictReader(f) if r["name"] == "cross 2"}
        return np.array([rows[k] for k in range(24, 24 + 12 * FRAMES, 12)])

    def _moon(self, rgb: U8) -> np.ndarray:
        part = rgb[:300, 700:].min(axis=2)
        rows, columns = np.nonzero(part > 200)
        return np.array([np.median(columns) + 700, np.median(rows)])

    def _moved_and_scaled_over_all_its_keys(self) -> None:
        page = self.page
        for frame, size in ((0, 104), (FRAMES - 1, 110)):
            self.go_to(frame)
            if not frame:
                page.get_by_role("button", name="Key Size").click()
                until(lambda: isinstance(self.still()["size"], dict), 20, "the key")
            self.type_number("Size", size)
            until(lambda wanted=size, n=frame: any(k["frame"] == n and k["value"] == wanted for k in self.still()["size"]["keys"]),  # type: ignore[misc]
                  20, "a key of the size")  # fmt: skip
        page.get_by_role("button", name="All", exact=True).click()
        self.type_number("Size", 121)
        until(lambda: abs(self.still()["size"]["keys"][0]["value"] - 114.4) < 0.2, 20, "all keys to be scaled")
        page.get_by_role("button", name="All", exact=True).click()

    def test_dusk_in_the_window_behind_its_bars_with_some_of_the_old_clouds(self) -> None:
        page = self.page
        self.new_shot()
        source = self.cut("workshop", 60)
        self.bring_in(source)
        self.front("By its colours")
        # Colours are picked in the picture: white clouds and two blues.
        for k, spot in enumerate(((110, 150), (60, 60), (270, 70))):
            page.get_by_role("button", name="Pick").click()
            page.mouse.click(*self.screen(*spot, SIZE))
            until(lambda n=k + 1: len(self.document()["stack"][0]["key"]["colours"]) == n, 20, "a sample")  # type: ignore[misc]
        for name, value in (("Reach", 7), ("Softness", 5), ("Brightness", 7)):
            self.type_number(name, value)
        self.behind("dusk-sky")
        before = self.delivered()
        # Outside the panes the wall may have any colour: a mask keeps it from the key.
        self.first_layer()
        page.get_by_role("button", name="Draw").click()
        page.mouse.move(*self.screen(36, 42, SIZE))
        page.mouse.down()
        page.mouse.move(*self.screen(312, 404, SIZE), steps=4)
        page.mouse.up()
        until(lambda: len(self.document()["stack"][0]["masks"]) == 1, 20, "the mask")
        self.choose("Goes", "Kept from the key")
        page.get_by_role("switch", name="Inverted").first.click()
        until(lambda: self.document()["stack"][0]["masks"][0]["inverted"], 20, "the mask to be turned round")
        self.type_number("Old one stays", 40)
        self.type_number("Brighter than", 92)
        until(lambda: self.document()["stack"][0]["stays_from"] == 92, 20, "the old clouds")
        after = self.delivered()
        clip = open_clip(source)
        self.addCleanup(clip.close)
        old = clip.rgb(2).astype(int)
        dusk = cv2.imread(str(DEMO / "shelf" / "dusk-sky.png"))
        assert dusk is not None
        # Behind the panes there is the dusk, as large as the picture.
        blue, cloud = np.s_[56:70, 262:286], np.s_[240:300, 80:150]
        self.assertLess(float(np.abs(before[blue].astype(int) - dusk[..., ::-1][blue]).mean()), 18)
        self.assertLess(float(np.abs(before[cloud].astype(int) - dusk[..., ::-1][cloud]).mean()), 8)
        # Of the old sky only its white clouds are left in it.
        self.assertLess(float(np.abs(after[blue].astype(int) - before[blue]).mean()), 16)
        lighter = after[cloud].astype(int) - before[cloud]
        self.assertGreater(float(lighter.mean()), 20)
        # The bars and the wall are the footage's own.
        for own in (np.s_[60:390, 176:180], np.s_[500:700, 300:1200], np.s_[20:30, 60:300]):
            self.assertLess(float(np.abs(after[own].astype(int) - old[own]).mean()), 12, own)

    def delivered(self) -> U8:
        clip = open_clip(self.deliver())
        self.addCleanup(clip.close)
        # Nothing is lost on reload.
        self.page.reload()
        self.shown(0)
        return np.array(clip.rgb(2))

    def test_a_ship_stands_behind_the_jar_that_was_brought_forward(self) -> None:
        page = self.page
        self.new_shot()
        source = self.cut("workshop", 75)
        self.bring_in(source)
        self.front("Bring this forward")
        expect(page.get_by_text("Draw over what should stand in front")).to_be_visible()
        for subject, line in ((True, ((1165, 330), (1180, 320), (1198, 335), (1198, 380), (1164, 380), (1164, 336))),
                              (True, ((1162, 293), (1194, 293))),
                              (False, ((1120, 270), (1235, 270))), (False, ((1226, 300), (1230, 388))),
                              (False, ((1150, 312), (1128, 318))), (False, ((1110, 408), (1225, 408)))):  # fmt: skip
            page.get_by_role("button", name="Subject" if subject else "Not it").click()
            drawn = len(self.document()["stack"][0]["key"]["strokes"])
            page.mouse.move(*self.screen(*line[0], SIZE))
            page.mouse.down()
            for point in line[1:]:
                page.mouse.move(*self.screen(*point, SIZE), steps=3)
            page.mouse.up()
            until(lambda n=drawn: len(self.document()["stack"][0]["key"]["strokes"]) == n + 1, 30, "the stroke")  # type: ignore[misc]
        page.keyboard.press("Escape")
        self.first_layer()
        self.behind("little-ship")
        self.type_number("Size", 16)
        self.type_number("Place x", 1150)
        self.type_number("Place y", 330)
        until(lambda: self.still()["y"] == 330, 20, "the ship in its place")
        with_ship = self.delivered()
        clip = open_clip(source)
        self.addCleanup(clip.close)
        old = clip.rgb(2).astype(int)
        jar, beside = np.s_[330:380, 1172:1192], np.s_[300:340, 1100:1140]
        self.assertLess(float(np.abs(with_ship[jar].astype(int) - old[jar]).mean()), 9, "the jar hides the ship")
        self.assertGreater(float(np.abs(with_ship[beside].astype(int) - old[beside]).mean()), 12, "beside it the ship is seen")

    def test_an_empty_canvas_carries_things_alone_and_is_delivered_with_coverage(self) -> None:
        page = self.page
        self.new_shot()
        page.get_by_role("button", name="An empty canvas").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("combobox", name="Shape").click()
        page.get_by_role("option", name="Wide, 1280 × 720").click()
        length = dialog.get_by_label("Length")
        length.click()
        length.fill("0.5")
        length.press("Enter")
        expect(dialog.get_by_text("15 frames")).to_be_visible()
        dialog.get_by_role("button", name="Make it").click()
        self.shown(0)
        footage = self.document()["footage"]
        self.assertEqual((footage["frames"], footage["width"], footage["opacity"]), (15, 1280, 0))
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(DEMO / "shelf" / "paper-boat.png")
        until(lambda: Asset.objects.filter(name="paper-boat").exists(), 40, "the boat")
        page.get_by_role("dialog").get_by_role("button", name="Plonk paper-boat").click()
        page.mouse.click(*self.screen(640, 360, SIZE))
        until(lambda: len(self.document()["stack"]) == 1, 20, "the boat on the canvas")
        page.get_by_role("navigation", name="Run sheet").locator("button[aria-pressed]").first.click()
        self.choose("Ground", "Seen through")
        until(lambda: self.document()["footage"]["ground"] == "clear", 20, "the clear ground")
        # One sees that one sees through: a checker, in the picture's corner.
        until(lambda: float(np.ptp(self.canvas_pixels()[30:200, 60:300, 0])) > 40, 30, "the checker")
        page.get_by_role("button", name="Deliver", exact=True).click()
        expect(page.get_by_role("dialog").get_by_text("ProRes 4444 (MOV)")).to_be_visible()
        page.get_by_role("dialog").get_by_role("button", name="Deliver", exact=True).click()
        clip = open_clip(self.download().rename(self.folder / "alone.mov"))
        self.addCleanup(clip.close)
        rgba = clip.rgba(7)
        self.assertEqual(rgba.shape, (720, 1280, 4))
        self.assertEqual(int(rgba[20:100, 20:200, 3].max()), 0)
        self.assertGreater(int(rgba[380:400, 620:660, 3].min()), 250)
