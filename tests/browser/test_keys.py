"""A subject keyed by hand in the browser: the keeper off his cloth, before the harbour."""

from __future__ import annotations

import re
import unittest
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from django.conf import settings
from playwright.sync_api import expect

from library.models import Asset
from plonket.media import open_clip
from synth.phone.sensor import Sensor
from tests.browser.stage import BrowserTest, until
from tests.core.test_key import CLOTHS, cloth_light, subject
from tests.core.test_steady import write

SIZE = (1280, 720)
CLIPS = Path(settings.DEMO) / "clips"
FRAMES = 5


@unittest.skipUnless((CLIPS / "keeper.mp4").exists(), "the demo clips are not here")
class KeeperOffTheCloth(BrowserTest):
    def layer(self) -> dict[str, Any]:
        return dict(self.document()["stack"][0])

    def cut(self, name: str) -> Path:
        clip = open_clip(CLIPS / f"{name}.mp4")
        self.addCleanup(clip.close)
        return write(self.folder / f"{name}.mp4", [clip.rgb(40 + i) for i in range(FRAMES)], crf=6)

    def test_the_keeper_is_keyed_improved_judged_and_delivered(self) -> None:
        page = self.page
        self.new_shot()
        self.bring_in(self.cut("harbour"))
        # The keeper's clip goes on the shelf, and into the middle of the picture.
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(self.cut("keeper"))
        until(lambda: Asset.objects.filter(name="keeper", state="ready").exists(), 60, "the keeper to be conformed")
        page.get_by_role("dialog").get_by_role("button", name="Plonk keeper").click()
        page.mouse.click(*self.screen(640, 360, SIZE))
        until(lambda: len(self.document()["stack"]) == 1, 20, "the layer")
        self.type_number("Size", 100)
        self.type_number("Place x", 640)
        self.type_number("Place y", 360)

        self.choose("Key", "Screen")
        until(lambda: self.layer()["key"] is not None, 20, "the key")
        expect(page.get_by_test_id("matte-quality")).to_contain_text("Cloth", timeout=30_000)
        expect(page.get_by_text("found by itself")).to_be_visible()
        # A fold is helped by samples: one clicked, one dragged over some cloth.
        page.get_by_role("button", name="Pick").click()
        page.mouse.click(*self.screen(150, 650, SIZE))
        until(lambda: len(self.layer()["key"]["colours"]) == 1, 20, "the first sample")
        page.get_by_role("button", name="Pick").click()
        page.mouse.move(*self.screen(1050, 250, SIZE))
        page.mouse.down()
        page.mouse.move(*self.screen(1120, 320, SIZE), steps=4)
        page.mouse.up()
        until(lambda: len(self.layer()["key"]["colours"]) == 2, 20, "the second sample")
        for colour in self.layer()["key"]["colours"]:
            r, g, b = (int(colour[k : k + 2], 16) for k in (1, 3, 5))
            self.assertTrue(g > r + 15 and g > b + 5, colour)
        # The tape crosses stand alone.
        self.type_number("Marks off", 90)
        until(lambda: self.layer()["key"]["lone"] == 90, 20, "the crosses to be told off")

        # What is thin is told, and a key that was put right is called so.
        expect(page.get_by_test_id("matte-quality")).to_contain_text("Subject thin in places: clip white")
        self.type_number("Clip white", 73)
        expect(page.get_by_test_id("matte-quality")).to_contain_text("Subject solid")

        page.get_by_role("radio", name="Matte").click()
        page.wait_for_function("() => document.querySelector('canvas[data-frame]').dataset.url.includes('/matte-')")
        seen = self.canvas_pixels()
        well = self.box(page.get_by_test_id("well"))

        def grey(x: float, y: float) -> int:
            left, top = self.screen(x, y, SIZE)
            return int(seen[int(top - well["y"]), int(left - well["x"]), 0])

        self.assertGreater(grey(640, 420), 245)
        self.assertLess(grey(200, 600), 12)
        self.assertLess(grey(1090, 60), 12)

        out = open_clip(self.deliver())
        self.addCleanup(out.close)
        plate, keeper = open_clip(self.folder / "harbour.mp4"), open_clip(self.folder / "keeper.mp4")
        self.addCleanup(plate.close)
        self.addCleanup(keeper.close)
        for i in (0, FRAMES - 1):
            rgb = out.rgb(i).astype(int)
            # Where there was only cloth the harbour is seen; the coat is the keeper's own.
            for x, y in ((120, 300), (1150, 640), (1090, 60), (789, 60)):
                box = np.s_[y - 12 : y + 12, x - 12 : x + 12]
                self.assertLess(float(np.abs(rgb[box] - plate.rgb(i)[box]).mean()), 7, (x, y))
            coat = np.s_[480:540, 590:690]
            self.assertLess(float(np.abs(rgb[coat] - keeper.rgb(i)[coat]).mean()), 12)
            # No green rim: along the keeper's outline nothing is greener than the harbour or the keeper are.
            matte = cv2.absdiff(out.rgb(i), plate.rgb(i)).max(axis=2) > 30
            rim = cv2.morphologyEx(matte.astype(np.uint8), cv2.MORPH_GRADIENT, np.ones((5, 5), np.uint8)) > 0
            rim[:, :430] = False
            rim[:, 850:] = False
            green = rgb[..., 1] - np.maximum(rgb[..., 0], rgb[..., 2])
            self.assertLess(float((green[rim] > 18).mean()), 0.03)

    def test_a_second_cloth_has_a_key_of_its_own_in_a_mask(self) -> None:
        """Green to the left, blue to the right of whoever stands there: the footage itself, keyed by hand."""
        page = self.page
        colour, alpha = subject()
        cloth = cloth_light(CLOTHS["green"], uneven=True)
        cloth[:, 480:] = cloth_light(CLOTHS["blue"], uneven=True)[:, 480:]
        light = (alpha[..., None] * colour + (1 - alpha[..., None]) * cloth).astype(np.float32)
        frames = [Sensor(vignette=0).photograph(light, np.random.default_rng(k)) for k in range(3)]
        self.new_shot()
        self.bring_in(write(self.folder / "two.mp4", frames, crf=6))
        page.get_by_role("navigation", name="Run sheet").get_by_role("button", name="Plonk", exact=True).click()
        page.get_by_role("menuitem", name=re.compile("^Key the footage")).click()
        until(lambda: bool(self.document()["stack"]), 20, "the footage in front")
        page.get_by_role("button", name="Pick", exact=True).click()
        page.mouse.click(*self.screen(60, 60, small := (640, 360)))
        until(lambda: len(self.layer()["key"]["colours"]) == 1, 20, "the green")
        self.caught_up()
        page.get_by_role("button", name="Draw", exact=True).click()
        page.mouse.move(*self.screen(480, 0, small))
        page.mouse.down()
        page.mouse.move(*self.screen(640, 360, small), steps=5)
        page.mouse.up()
        until(lambda: len(self.layer()["masks"]) == 1, 20, "the mask")
        self.choose("Goes", "Kept from the key")
        until(lambda: self.layer()["masks"][0]["mode"] == "keep", 20, "it to keep")
        name = self.layer()["masks"][0]["name"]

        def grey(x: float, y: float) -> float:
            well = self.box(page.get_by_test_id("well"))
            left, top = self.screen(x, y, small)
            at = np.s_[int(top - well["y"]) - 4 : int(top - well["y"]) + 4, int(left - well["x"]) - 4 : int(left - well["x"]) + 4]
            return float(self.canvas_pixels()[at].mean())

        until(lambda: grey(600, 60) > 250 and grey(60, 60) < 5, 30, "the blue kept, the green gone")
        self.choose(f"Key of {name}", "Screen")
        until(lambda: self.layer()["masks"][0]["key"] is not None, 20, "the mask's key")
        self.caught_up()
        page.get_by_role("button", name="Pick", exact=True).last.click()
        page.mouse.click(*self.screen(600, 60, small))
        until(lambda: len(self.layer()["masks"][0]["key"]["colours"]) == 1, 20, "the blue")
        self.assertEqual(len(self.layer()["key"]["colours"]), 1, "the layer's own key has its own")
        until(lambda: grey(600, 60) < 5 and grey(60, 60) < 5 and grey(320, 150) > 250, 30, "both cloths gone")
        page.keyboard.press("Control+z")
        page.keyboard.press("Control+z")
        until(lambda: self.layer()["masks"][0]["key"] is None, 20, "undo")
        until(lambda: grey(600, 60) > 250, 30, "kept again")

    def test_looks_over_everything_are_added_turned_off_and_taken_back(self) -> None:
        page = self.page
        self.new_shot()
        self.bring_in(self.cut("harbour"))
        before = float(self.canvas_pixels()[200:400, 200:500].mean())
        page.get_by_role("button", name="Finish").click()
        page.get_by_role("button", name="Add to Looks").click()
        page.get_by_role("menuitem", name="Colour Exposure").click()
        until(lambda: len(self.document()["finish"]) == 1, 20, "the look")
        self.type_number("Exposure", -2)
        until(lambda: self.document()["finish"][0]["exposure"] == -2, 20, "the exposure")

        def seen() -> float:
            return float(self.canvas_pixels()[200:400, 200:500].mean())

        until(lambda: seen() < 0.65 * before, 30, "the darker picture")
        page.get_by_role("button", name="Turn Colour off").click()
        until(lambda: abs(seen() - before) < 2, 30, "the picture without its look")
        page.get_by_role("button", name="Turn Colour on").click()
        until(lambda: seen() < 0.65 * before, 30, "the look again")
        # The plate is shown without the finish.
        page.get_by_role("radio", name="Plate").click()
        until(lambda: abs(seen() - before) < 2, 30, "the bare plate")
        page.get_by_role("button", name="Remove Colour").click()
        until(lambda: not self.document()["finish"], 20, "the look to be gone")
        self.caught_up()
        page.keyboard.press("Control+z")
        until(lambda: len(self.document()["finish"]) == 1, 20, "undo")

    def test_a_look_only_in_a_part_is_limited_by_a_mask_of_its_own(self) -> None:
        page = self.page
        self.new_shot()
        self.bring_in(self.cut("harbour"))
        page.get_by_role("button", name="Finish").click()
        page.get_by_role("button", name="Add to Looks").click()
        page.get_by_role("menuitem", name="Colour Exposure").click()
        until(lambda: len(self.document()["finish"]) == 1, 20, "the look")
        before = self.canvas_pixels().astype(float)
        self.type_number("Exposure", -3)
        until(lambda: self.document()["finish"][0]["exposure"] == -3, 20, "the exposure")
        page.get_by_role("button", name="Only in a part: masks").click()
        page.get_by_role("button", name="Ellipse").click()
        page.mouse.move(*self.screen(100, 100, SIZE))
        page.mouse.down()
        page.mouse.move(*self.screen(500, 500, SIZE), steps=4)
        page.mouse.up()
        until(lambda: len(self.document()["finish"][0]["masks"]) == 1, 20, "the mask")
        well = self.box(page.get_by_test_id("well"))

        def changed(x: float, y: float) -> float:
            left, top = self.screen(x, y, SIZE)
            at = np.s_[
                int(top - well["y"]) - 8 : int(top - well["y"]) + 8, int(left - well["x"]) - 8 : int(left - well["x"]) + 8
            ]
            return float(np.abs(self.canvas_pixels()[at].astype(float) - before[at]).mean())

        until(lambda: changed(300, 300) > 25 and changed(900, 300) < 4, 30, "the dark ellipse, and nothing else")
        self.assertLess(changed(120, 480), 4)
        # Its mask has handles in the picture, and goes as it came.
        expect(page.locator("[data-mask-point], [data-outline-point]").first).to_be_visible()
        page.keyboard.press("Control+z")
        until(lambda: changed(900, 300) > 10, 30, "the look everywhere again")
