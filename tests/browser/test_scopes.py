"""Scopes of what is shown, and wheels that tint it."""

from __future__ import annotations

import re
from fractions import Fraction

import numpy as np
from playwright.sync_api import expect

from plonket.base.colour import rgb_of
from plonket.media.write import Coding, VideoWriter
from tests.browser.stage import BrowserTest, until

SIZE = (640, 360)
DARK, BRIGHT = 51, 204


class Grading(BrowserTest):
    def start(self) -> None:
        """A clip that is dark on its left and bright, and redder, on its right."""
        picture = np.full((SIZE[1], SIZE[0], 3), DARK, np.uint8)
        picture[:, 320:] = BRIGHT
        path = self.folder / "steps.mp4"
        with VideoWriter(path, SIZE, Fraction(30), coding=Coding(crf=4)) as out:
            for _ in range(6):
                out.write(picture)
        self.new_shot()
        self.bring_in(path)

    def add_look(self, name: str) -> None:
        """Over the finished picture."""
        self.page.get_by_role("navigation", name="Run sheet").get_by_text("Finish").last.click()
        self.page.get_by_role("button", name="Add to Looks").click()
        self.page.get_by_role("menuitem", name=re.compile(f"^{name}")).click()
        until(lambda: len(self.document()["finish"]) == 1, 20, "the look")

    def told(self, label: str) -> tuple[int, int, int]:
        """Black, middle and white as a scope says them, in %."""
        text = self.page.get_by_role("region", name="Scopes").get_by_text(f"{label}: black").text_content() or ""
        found = re.findall(r"(\d+) %", text)
        return int(found[0]), int(found[1]), int(found[2])

    def test_scopes_count_the_picture_what_is_in_view_and_an_element_beside_its_plate(self) -> None:
        page = self.page
        self.start()
        page.keyboard.press("g")
        scopes = page.get_by_role("region", name="Scopes")
        until(lambda: scopes.get_by_text("Picture: black").count() == 1, 20, "the count")
        black, _, white = self.told("Picture")
        self.assertLessEqual(abs(black - 20), 1)
        self.assertLessEqual(abs(white - 80), 1)
        # The waveform stands at a fifth on the left and at four fifths on the right.
        rows = page.evaluate(
            """() => {
              const canvas = document.querySelector('[aria-label="Waveform of Picture"]');
              const d = canvas.getContext("2d").getImageData(0, 0, 256, 256).data;
              return [40, 216].map((x) => {
                let best = 0, row = 0;
                for (let y = 0; y < 256; y++) if (d[4 * (y * 256 + x)] > best) { best = d[4 * (y * 256 + x)]; row = y; }
                return row;
              });
            }"""
        )
        np.testing.assert_allclose(rows, [255 - DARK, 255 - BRIGHT], atol=3)
        for kind in ("Parade", "Vectors", "Histogram"):
            scopes.get_by_role("radio", name=kind).click()
            expect(scopes.get_by_role("img", name=f"{kind} of Picture")).to_be_visible()

        # Zoomed in on the bright side, that is all there is.
        page.mouse.move(*self.screen(600, 60, SIZE))
        page.mouse.wheel(0, -900)
        scopes.get_by_role("radio", name="In view").click()
        until(lambda: scopes.get_by_text("In view: black").count() == 1 and self.told("In view")[0] > 70, 20, "the bright part")
        self.caught_up()
        page.keyboard.press("g")
        expect(scopes).to_be_hidden()

    def test_a_wheel_s_puck_tints_and_goes_back(self) -> None:
        page = self.page
        self.start()
        self.add_look("Lift, gamma")
        wheel = page.get_by_role("slider", name="Tint of lights")
        x, y = self.centre(wheel)
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 14, y, steps=4)
        page.mouse.up()
        until(lambda: self.document()["finish"][0]["gain_tint"] != "#808080", 20, "the tint")
        red, green, blue = (int(v) for v in rgb_of(self.document()["finish"][0]["gain_tint"]))
        self.assertGreater(blue, 128)
        self.assertGreater(blue, red + 20)
        self.assertLess(green, 129)
        # The keyboard nudges it; a double click takes it back.
        self.caught_up()
        wheel.focus()
        page.keyboard.press("ArrowUp")
        until(lambda: rgb_of(self.document()["finish"][0]["gain_tint"])[0] > red, 20, "more red")
        self.caught_up()
        wheel.dblclick()
        until(lambda: self.document()["finish"][0]["gain_tint"] == "#808080", 20, "grey again")

    def test_black_and_white_are_picked_on_the_picture(self) -> None:
        page = self.page
        self.start()
        self.add_look("Levels")
        points = page.get_by_role("group", name="Points")
        for name, x, code in (("Black", 100, DARK), ("White", 500, BRIGHT)):
            self.caught_up()
            points.get_by_role("button", name=name).click()
            expect(points.get_by_role("button", name=name)).to_have_attribute("aria-pressed", "true")
            page.mouse.click(*self.screen(x, 180, SIZE))
            until(lambda name=name, code=code: abs(self.document()["finish"][0][name.lower()] - code / 2.55) < 1, 20, name)
        # What was picked is black and white now.
        self.caught_up()
        page.keyboard.press("g")
        until(lambda: page.get_by_role("region", name="Scopes").get_by_text("Picture: black").count() == 1, 20, "the count")
        until(lambda: self.told("Picture")[0] <= 1 and self.told("Picture")[2] >= 99, 20, "from black to white")

    def test_looks_are_copied_from_one_shot_to_another(self) -> None:
        page = self.page
        self.start()
        self.add_look("Levels")
        self.caught_up()
        page.get_by_role("button", name="Copy", exact=True).click()
        page.get_by_role("button", name="Put on", exact=True).click()
        until(lambda: len(self.document()["finish"]) == 2, 20, "once more")
        first, second = self.document()["finish"]
        self.assertEqual(first["kind"], second["kind"])
        self.assertNotEqual(first["id"], second["id"])
        # In another shot, too.
        page.goto(self.address)
        page.get_by_role("button", name="New shot").first.click()
        expect(page.get_by_text("Bring in a clip").first).to_be_visible()
        self.bring_in(self.folder / "steps.mp4")
        page.get_by_role("navigation", name="Run sheet").get_by_text("Finish").last.click()
        page.get_by_role("button", name="Put on", exact=True).click()
        until(lambda: [one["kind"] for one in self.document()["finish"]] == ["levels"], 20, "in another shot")
