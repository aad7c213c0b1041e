"""The floor of a filmed room breaks where it is clicked, rises where it is clicked, and what stands there falls."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from playwright.sync_api import expect

from library.models import Asset
from plonket.base.conventions import F64
from tests.browser.filmed_room import SIZE, FilmedRoom, room
from tests.browser.stage import until

SHELF = Path(settings.DEMO) / "shelf"
FRAMES, AT, LATER = 14, 2, 13
PLACE = np.array([0.0, 0.0, 0.45])


class Breaking(FilmedRoom):
    def layer(self, kind: str) -> dict[str, Any]:
        return next(one for one in self.document()["stack"] if one["kind"] == kind)

    def plonk(self, what: str) -> None:
        """A row of the stack's menu, and a click on the floor."""
        self.page.get_by_role("navigation", name="Run sheet").get_by_role("button", name="Plonk", exact=True).click()
        self.page.get_by_role("menuitem", name=what).click()
        x, y = room().pixels(PLACE[None])[AT, 0]
        count = len(self.document()["stack"])
        self.page.mouse.click(*self.screen(float(x), float(y), SIZE))
        until(lambda: len(self.document()["stack"]) == count + 1, 30, "the layer")
        expect(self.page.get_by_role("textbox", name="Name", exact=True)).to_have_value(self.document()["stack"][0]["name"])
        self.caught_up()

    def picture(self) -> F64:
        self.caught_up()
        return np.asarray(self.canvas_pixels(), np.float64)

    def round_it(self, rgb: F64, frame: int) -> F64:
        """The picture about the place, (n, n, 3)."""
        at = room().pixels(PLACE[None])[frame, 0]
        well = self.box(self.page.get_by_test_id("well"))
        seen = self.screen(float(at[0]), float(at[1]), SIZE)
        x, y = round(seen[0] - well["x"]), round(seen[1] - well["y"])
        return rgb[y - 14 : y + 15, x - 24 : x + 25]

    def test_planks_of_the_floor_fall(self) -> None:
        page = self.page
        self.begin(FRAMES)
        self.go_to(LATER)
        whole = self.round_it(self.picture(), LATER)
        self.go_to(0)
        first = self.round_it(self.picture(), 0)
        self.go_to(AT)
        self.plonk("Breaking floor or wall")
        made = self.layer("breaking")
        self.assertEqual((made["on"], made["falls_from"], made["from_frame"]), ("floor", AT, AT))
        self.choose("Breaks into", "Planks")
        until(lambda: self.layer("breaking")["pattern"] == "planks", 20, "planks")
        self.type_number("Pieces that fall", 3)
        until(lambda: self.layer("breaking")["falling"] == 3, 20, "three of them")
        self.go_to(LATER)
        broken = self.round_it(self.picture(), LATER)
        self.assertGreater(float((whole.mean(axis=2) - broken.mean(axis=2) > 40).mean()), 0.08, "there is a hole")
        self.go_to(0)
        self.assertLess(float(np.abs(self.round_it(self.picture(), 0) - first).max()), 4, "nothing is broken yet")
        # Its sides are pulled on the picture.
        before = self.layer("breaking")["wide"]
        x, y = self.centre(page.locator("[data-model-grip=wide]"))
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 30, y, steps=4)
        page.mouse.up()
        until(lambda: (self.layer("breaking")["wide"], self.layer("breaking")["deep"]) != (before, before), 20, "another size")
        page.keyboard.press("Control+z")
        until(lambda: self.layer("breaking")["wide"] == before, 20, "undo")

    def test_the_floor_rises_and_a_crate_falls_on_it(self) -> None:
        page = self.page
        self.begin(FRAMES)
        self.go_to(AT)
        flat = self.round_it(self.picture(), AT)
        self.plonk("Relief")
        self.choose("Shape", "Rings")
        until(lambda: self.layer("relief")["shape"] == "rings", 20, "rings")
        self.assertGreater(float(np.abs(self.round_it(self.picture(), AT) - flat).mean()), 2.0)
        # It is pulled out of the floor on the picture.
        before = self.layer("relief")["height"]
        grip_x, grip_y = self.centre(page.locator("[data-model-grip=tall]"))
        page.mouse.move(grip_x, grip_y)
        page.mouse.down()
        page.mouse.move(grip_x, grip_y - 25, steps=4)
        page.mouse.up()
        until(lambda: self.layer("relief")["height"] > before + 0.02, 20, "a greater height")
        self.caught_up()
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(SHELF / "cargo-crate.glb")
        until(lambda: Asset.objects.filter(name="cargo-crate", state="ready").exists(), 60, "the crate on the shelf")
        page.get_by_role("dialog").get_by_role("button", name="Plonk cargo-crate").click()
        x, y = room().pixels(PLACE[None])[AT, 0]
        page.mouse.click(*self.screen(float(x), float(y), SIZE))
        until(lambda: len(self.document()["stack"]) == 2, 30, "the crate")
        # The relief, which was chosen before, can be lifted too.
        expect(page.get_by_role("textbox", name="Name", exact=True)).to_have_value("cargo-crate")
        self.type_number("Lift", 0.3)
        until(lambda: self.layer("model")["lift"] == 0.3, 20, "it hangs in the air")
        page.get_by_role("switch", name="Falls").click()
        until(lambda: self.layer("model")["falls"] is True, 20, "it falls")
        expect(page.get_by_text("Let go at", exact=True)).to_be_visible()
        hanging = self.picture()
        self.go_to(LATER)
        fallen = self.picture()
        self.assertGreater(float((np.abs(hanging - fallen).max(axis=2) > 30).mean()), 0.01)
        # What glows on its perch flies in the room by itself.
        page.get_by_role("navigation", name="Run sheet").get_by_text("cargo-crate stands here", exact=True).first.click()
        page.keyboard.press("p")
        page.get_by_role("button", name="Plonk Rising sparks").click()
        page.mouse.click(*self.screen(float(x), float(y), SIZE))
        until(lambda: len(self.document()["stack"]) == 3, 30, "the sparks")
        self.assertIs(self.layer("generated")["generator"]["roomy"], True)
        expect(page.get_by_text("Source's depth", exact=True)).to_be_visible()
        self.assertGreater(float((self.picture() - fallen > 40).mean()), 0.0002)
        # They may come off the crate, and bounce off it.
        self.choose("Come from", "A thing's surface")
        self.choose("Which", "cargo-crate")
        until(lambda: self.layer("generated")["generator"]["thing"] == self.layer("model")["id"], 20, "off the crate")
        expect(page.get_by_text("Source's depth", exact=True)).not_to_be_visible()
        off = self.picture()
        self.assertGreater(float((off - fallen > 40).mean()), 0.0002)
        self.choose("On the ground", "Bounce")
        page.get_by_role("switch", name="On things too").click()
        until(lambda: self.layer("generated")["generator"]["meets"] is True, 20, "they bounce")
        # Without the crate they come from their spot again.
        page.get_by_role("navigation", name="Run sheet").get_by_text("cargo-crate", exact=True).first.click()
        self.caught_up()
        page.keyboard.press("Delete")
        until(lambda: len(self.document()["stack"]) == 2, 20, "no crate")
        self.assertIsNone(self.layer("generated")["generator"]["thing"])
