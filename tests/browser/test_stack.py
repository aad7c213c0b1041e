"""A stack built up by hand in the browser: generated sparks, rippling air, keys with handles, night behind the keeper."""

from __future__ import annotations

import re
import unittest
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from playwright.sync_api import expect

from library.models import Asset
from plonket.base.conventions import U8
from plonket.base.fields import Keyed, Wobbling, value_at
from plonket.document.shot import read_shot
from plonket.media import open_clip
from tests.browser.stage import BrowserTest, until
from tests.core.test_steady import write

SIZE = (1280, 720)
DEMO = Path(settings.DEMO)
FRAMES = 10
FIRST = 75
"""First frame that is cut out of the demo's clips."""


@unittest.skipUnless((DEMO / "clips" / "keeper.mp4").exists(), "the demo clips are not here")
class Stack(BrowserTest):
    def layer(self, at: int = 0) -> dict[str, Any]:
        return dict(self.document()["stack"][at])

    def cut(self, name: str, first: int = FIRST) -> Path:
        clip = open_clip(DEMO / "clips" / f"{name}.mp4")
        self.addCleanup(clip.close)
        return write(self.folder / f"{name}.mp4", [clip.rgb(first + i) for i in range(FRAMES)], crf=6)

    def bring_element(self, path: Path) -> None:
        """Bring a file on to the shelf and take it in hand."""
        page = self.page
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(path)
        until(lambda: Asset.objects.filter(name=path.stem, state="ready").exists(), 60, f"{path.stem} to be ready")
        page.get_by_role("dialog").get_by_role("button", name=f"Plonk {path.stem}").click()

    def look(self, beginning: str) -> None:
        """Add a look to the chosen layer."""
        before = len(self.layer()["looks"])
        self.page.get_by_role("button", name="Add to Looks").click()
        self.page.get_by_role("menuitem", name=re.compile(f"^{beginning}")).click()
        until(lambda: len(self.layer()["looks"]) == before + 1, 20, beginning)

    def ellipse(self, a: tuple[float, float], b: tuple[float, float]) -> None:
        page = self.page
        page.get_by_role("button", name="Ellipse").click()
        page.mouse.move(*self.screen(*a, SIZE))
        page.mouse.down()
        page.mouse.move(*self.screen(*b, SIZE), steps=4)
        page.mouse.up()
        until(lambda: len(self.layer()["masks"]) == 1, 20, "the mask")

    def delivered(self) -> list[U8]:
        out = open_clip(self.deliver())
        self.addCleanup(out.close)
        return [out.rgb(i) for i in range(out.info.frames)]

    def test_sparks_round_the_lamp_air_above_it_and_the_night_in_its_glass(self) -> None:
        page = self.page
        self.new_shot()
        clip = self.cut("workshop")
        self.bring_in(clip)
        tip = (964.4, 172.7)
        page.keyboard.press("n")
        page.mouse.click(*self.screen(*tip, SIZE))
        page.get_by_role("button", name="Measure", exact=True).click()
        expect(page.get_by_role("button", name="Measure again")).to_be_visible(timeout=120_000)
        # The night harbour in the lamp's glass.
        self.bring_element(DEMO / "shelf" / "night-harbour.png")
        page.mouse.click(*self.screen(962, 222, SIZE))
        until(lambda: len(self.document()["stack"]) == 1, 20, "the night")
        self.type_number("Size", 14)
        self.ellipse((940, 202), (984, 242))
        self.look("Ripple")
        # The air above it.
        page.get_by_label("Run sheet").get_by_role("button", name="Plonk", exact=True).click()
        page.get_by_role("menuitem", name=re.compile("^Wash")).click()
        until(lambda: self.layer()["kind"] == "wash", 20, "the wash")
        expect(page.get_by_role("textbox", name="Name", exact=True)).to_have_value("Wash")
        self.ellipse((860, 40), (1070, 190))
        self.look("Ripple")
        self.type_number("Amount", 9)
        # The ring.
        page.keyboard.press("p")
        page.get_by_role("button", name="Plonk Ring of sparks").click()
        page.mouse.click(*self.screen(962, 222, SIZE))
        until(lambda: self.layer()["kind"] == "generated", 20, "the ring")
        self.assertEqual(self.layer()["follow"]["target"], self.document()["motions"][0]["id"])
        expect(page.get_by_role("textbox", name="Name", exact=True)).to_have_value("Ring of sparks")
        expect(page.get_by_label("Width value")).to_be_visible()
        self.type_number("Width", 200)
        self.type_number("Height", 200)
        self.type_number("Speed", 0)
        until(lambda: self.layer()["generator"]["speed"] == 0, 20, "the ring's speed")

        frames = self.delivered()
        plate = open_clip(clip)
        self.addCleanup(plate.close)
        for i in (2, FRAMES - 1):
            change = np.abs(frames[i].astype(int) - plate.rgb(i)).max(axis=2)
            y, x = np.mgrid[0:720, 0:1280]
            r = np.hypot(x - 962, y - 222)
            self.assertGreater(float((change[(r > 88) & (r < 116)] > 60).mean()), 0.10)
            air = change[60:115, 920:1010]
            self.assertGreater(float(air.mean()), 4)
            far = change[500:700, 200:700]
            self.assertLess(float(far.mean()), 5.5)
            # In the glass there is night where there was bright lamp light.
            inside = (np.abs(x - 962) < 14) & (np.abs(y - 222) < 11)
            self.assertLess(float(frames[i][inside].mean()), 0.7 * float(plate.rgb(i)[inside].mean()))

    def test_a_flickering_ship_comes_in_and_goes_out_by_keys_that_are_bent(self) -> None:
        page = self.page
        self.new_shot()
        clip = self.cut("workshop")
        self.bring_in(clip)
        page.keyboard.press("p")
        page.get_by_role("button", name="Plonk Light beam").click()
        page.mouse.click(*self.screen(400, 300, SIZE))
        until(lambda: len(self.document()["stack"]) == 1, 20, "the beam")
        self.bring_element(DEMO / "shelf" / "little-ship.png")
        page.mouse.click(*self.screen(700, 300, SIZE))
        until(lambda: self.layer()["name"] == "little-ship", 20, "the ship")
        expect(page.get_by_role("textbox", name="Name", exact=True)).to_have_value("little-ship")
        self.look("Projection")
        for frame, opacity in ((0, 0), (4, 90), (FRAMES - 1, 0)):
            self.go_to(frame)
            if frame == 0:
                page.get_by_role("button", name="Key Opacity here").click()
                until(lambda: isinstance(self.layer()["opacity"], dict), 20, "the first key")
            self.type_number("Opacity", opacity)
            until(lambda f=frame, v=opacity: {"f": f, "v": v} in self.told("opacity"), 20, f"key {frame}")  # type: ignore[misc]

        # Curves: a box round the first two, then handles, one of them pulled.
        page.keyboard.press("x")
        curves = page.get_by_role("group", name="Key curves of little-ship")
        expect(curves).to_be_visible()
        spots = [page.locator(f'[data-key="opacity@{f}"]') for f in (0, 4)]
        boxes = [self.box(s) for s in spots]
        page.mouse.move(boxes[0]["x"] - 12, boxes[0]["y"] + 16)
        page.mouse.down()
        page.mouse.move(boxes[1]["x"] + 20, boxes[1]["y"] - 6, steps=4)
        page.mouse.up()
        page.get_by_role("button", name="Handles", exact=True).click()
        until(lambda: [k["ease"] for k in self.keys()[:2]] == ["curve", "curve"], 20, "both to go by handles")
        handle = page.locator('[data-handle="Handle out"]').first
        at = self.box(handle)
        page.mouse.move(*self.centre(handle))
        page.mouse.down()
        page.mouse.move(at["x"] + 60, at["y"] + 2, steps=4)
        page.mouse.up()
        until(lambda: self.keys()[0]["out_time"] > 0.5, 20, "the handle to be pulled")
        # Copied and pasted at the playhead; then away again.
        self.go_to(6)
        curves.focus()
        page.keyboard.press("Control+a")
        page.keyboard.press("Control+c")
        page.locator('[data-key="opacity@4"]').click()
        page.keyboard.press("Control+c")
        page.keyboard.press("Control+v")
        until(lambda: [k["frame"] for k in self.keys()] == [0, 4, 6, FRAMES - 1], 20, "the pasted key")
        self.caught_up()
        page.keyboard.press("Control+z")
        until(lambda: [k["frame"] for k in self.keys()] == [0, 4, FRAMES - 1], 20, "undo")
        self.caught_up()
        page.keyboard.press("x")

        # It flickers.
        page.get_by_role("button", name="Keys and wobble of Opacity").click()
        page.get_by_role("switch", name="Wobble of Opacity").click()
        until(lambda: "wobble" in self.layer()["opacity"], 20, "the wobble")
        amount = page.get_by_label("Wobble amount")
        amount.click()
        amount.fill("8")
        amount.press("Enter")
        until(lambda: self.layer()["opacity"]["wobble"]["amount"] == 8, 20, "its amount")
        page.keyboard.press("Escape")

        frames = self.delivered()
        plate = open_clip(clip)
        self.addCleanup(plate.close)
        opacity = read_shot(self.document()).stack[0].opacity
        assert isinstance(opacity, Wobbling) and isinstance(opacity.base, Keyed)
        part = np.s_[240:360, 640:760]
        seen = [float(np.abs(frames[i][part].astype(int) - plate.rgb(i)[part]).mean()) for i in range(FRAMES)]
        wanted = [max(0.0, value_at(opacity, i)) for i in range(FRAMES)]
        self.assertGreater(float(np.corrcoef(seen, wanted)[0, 1]), 0.9)
        self.assertGreater(max(seen), 2.5 * min(seen))

    def keys(self) -> list[dict[str, Any]]:
        opacity = self.layer()["opacity"]
        return list(opacity.get("base", opacity)["keys"])

    def told(self, field: str) -> list[dict[str, float]]:
        value = self.layer()[field]
        return [{"f": k["frame"], "v": k["value"]} for k in value["keys"]] if isinstance(value, dict) else []

    def test_the_keeper_before_the_night_wrapped_matched_and_delivered(self) -> None:
        page = self.page
        self.new_shot()
        self.bring_in(self.cut("harbour", 40))
        self.bring_element(self.cut("keeper", 40))
        page.mouse.click(*self.screen(640, 360, SIZE))
        until(lambda: len(self.document()["stack"]) == 1, 20, "the keeper")
        for label, value in (("Size", 100), ("Place x", 640), ("Place y", 360)):
            self.type_number(label, value)
        self.choose("Key", "Screen")
        until(lambda: self.layer()["key"] is not None, 20, "the key")
        self.type_number("Marks off", 90)
        self.look("Light wrap")
        # By itself, on a checker: the cloth is gone there.
        page.get_by_role("button", name="On checker").click()
        page.wait_for_function("() => document.querySelector('canvas[data-frame]').dataset.url.includes('/checker-')")
        well = self.box(page.get_by_test_id("well"))
        left, top = (int(v - o) for v, o in zip(self.screen(180, 560, SIZE), (well["x"], well["y"]), strict=True))
        patch = self.canvas_pixels()[top - 30 : top + 30, left - 30 : left + 30].astype(int)
        self.assertLess(float(np.ptp(patch, axis=2).mean()), 6)
        self.assertGreater(float(patch[..., 0].std()), 15)
        page.get_by_role("button", name="On checker").click()
        # The night comes in nearest, and is dragged behind him.
        self.bring_element(DEMO / "shelf" / "night-harbour.png")
        page.mouse.click(*self.screen(640, 360, SIZE))
        until(lambda: len(self.document()["stack"]) == 2, 20, "the night")
        for label, value in (("Size", 115), ("Place x", 640), ("Place y", 340)):
            self.type_number(label, value)
        cards = page.get_by_role("list", name="Stack").locator("li")
        cards.nth(0).drag_to(cards.nth(1), target_position={"x": 60, "y": 40})
        until(lambda: self.layer()["name"] == "keeper", 20, "the keeper to stand before the night")
        page.get_by_role("button", name="keeper Keyed").click()
        page.get_by_role("button", name="Match to plate").click()
        until(lambda: any(k["id"].startswith("match-") for k in self.layer()["looks"]), 60, "the match")
        expect(page.get_by_text("Measured:")).to_be_visible()
        names = [k["name"] for k in self.layer()["looks"]]
        self.assertIn("Light wrap", names)

        frames = self.delivered()
        night = open_clip(DEMO / "shelf" / "night-harbour.png").rgba(0)
        for i in (0, FRAMES - 1):
            box = np.s_[600:660, 120:240]
            # The night is seen 1.15 times as large about its middle.
            ys, xs = (np.round((np.arange(*r) + 0.5 - c) / 1.15 + m).astype(int) for r, c, m in
                      (((600, 660), 340, 360), ((120, 240), 640, 640)))  # fmt: skip
            expected = night[np.ix_(ys, xs)][..., :3].astype(int)
            self.assertLess(float(np.abs(frames[i][box] - expected).mean()), 6)
            # Nothing green is left anywhere: the night has none.
            rgb = frames[i].astype(int)
            green = rgb[..., 1] - np.maximum(rgb[..., 0], rgb[..., 2])
            self.assertLess(float((green > 16).mean()), 0.002)
        # The match is one step to undo.
        page.keyboard.press("Escape")
        page.keyboard.press("Control+z")
        until(lambda: not any(k["id"].startswith("match-") for k in self.layer()["looks"]), 20, "undo of the match")

    def test_a_parcel_is_made_opened_used_twice_and_emptied(self) -> None:
        page = self.page
        self.new_shot()
        self.bring_in(self.cut("harbour", 40))
        self.bring_element(DEMO / "shelf" / "paper-boat.png")
        page.mouse.click(*self.screen(500, 500, SIZE))
        until(lambda: len(self.document()["stack"]) == 1, 20, "the boat")
        # The details come in piece by piece; a menu opens where it stays.
        expect(page.get_by_label("Opacity value")).to_be_visible()
        self.choose("Into a parcel", "A new parcel")
        until(lambda: self.layer()["kind"] == "parcel", 20, "the parcel")
        self.assertEqual([p["stack"][0]["name"] for p in self.document()["parcels"]], ["paper-boat"])
        # Shown once more, elsewhere.
        page.get_by_label("Run sheet").get_by_role("button", name="Plonk", exact=True).click()
        page.get_by_role("menuitem", name=re.compile("once more")).click()
        until(lambda: len(self.document()["stack"]) == 2, 20, "the second one")
        expect(page.get_by_role("textbox", name="Name", exact=True)).to_have_value("Parcel 2")
        self.type_number("Place x", 940)
        until(lambda: self.layer()["x"] == 940, 20, "its place")
        until(lambda: self.boats() == 2, 30, "two boats")
        # What is changed inside shows in both.
        page.get_by_role("button", name="Open Parcel", exact=True).click()
        page.get_by_role("list", name="In the parcel").get_by_role("button", name="paper-boat Still").click()
        page.get_by_role("button", name="Hide paper-boat").first.click()
        until(lambda: self.boats() == 0, 30, "no boats")
        self.caught_up()
        page.keyboard.press("Control+z")
        until(lambda: self.boats() == 2, 30, "two boats again")
        page.get_by_role("button", name="Out of its parcel").click()
        until(lambda: [k["kind"] for k in self.document()["stack"]].count("still") == 1, 20, "the boat to come out")
        self.assertEqual(self.document()["parcels"][0]["stack"], [])

    def boats(self) -> int:
        """How many pale boats float on the harbour's water, as the viewer shows it."""
        url = self.page.evaluate("() => document.querySelector('canvas[data-frame]').dataset.url")
        if f"/{self.stored().current.picture}/" not in url:  # type: ignore[union-attr]
            return -1
        shown = self.canvas_pixels()
        well = self.box(self.page.get_by_test_id("well"))
        seen = 0
        for x in (500, 800):
            left, top = (int(v - o) for v, o in zip(self.screen(x, 510, SIZE), (well["x"], well["y"]), strict=True))
            patch = shown[top - 6 : top + 6, left - 6 : left + 6].astype(int)
            seen += bool(patch.min() > 120 and np.ptp(patch, axis=2).mean() < 60)
        return seen
