"""Direct handles on the picture, keys in time, the range, and what survives a second window."""

from __future__ import annotations

import numpy as np
from playwright.sync_api import APIResponse, Route, expect

from plonket.media import probe
from shots.editing import patch_shot
from tests.browser.stage import BrowserTest, until
from tests.browser.test_first_light import disc_centre, magenta_disc
from tests.core.clips import phone_clip

SIZE = (320, 180)


class Handles(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.new_shot()
        self.bring_in(phone_clip(self.folder / "n.mp4", frames=30))
        page = self.page
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(magenta_disc(self.folder / "disc.png"))
        page.get_by_role("button", name="Plonk disc").click()
        page.mouse.click(*self.screen(200, 120, SIZE))
        expect(page.get_by_role("button", name="Move disc", exact=True)).to_be_visible()

    def layer(self) -> dict:  # type: ignore[type-arg]
        return dict(self.document()["stack"][0])

    def drag(self, start: tuple[float, float], end: tuple[float, float]) -> None:
        before = self.steps()
        self.page.mouse.move(*start)
        self.page.mouse.down()
        self.page.mouse.move((start[0] + end[0]) / 2, (start[1] + end[1]) / 2, steps=3)
        self.page.mouse.move(*end, steps=3)
        self.page.mouse.up()
        until(lambda: self.steps() > before, 10, "the edit to be stored")

    def test_move_size_turn_by_hand(self) -> None:
        page = self.page
        self.assertAlmostEqual(self.layer()["x"], 200, delta=1)
        zoom = (self.screen(100, 0, SIZE)[0] - self.screen(0, 0, SIZE)[0]) / 100
        at = self.centre(page.get_by_test_id("layer-centre"))
        self.drag(at, (at[0] - 50 * zoom, at[1] + 10 * zoom))
        self.assertAlmostEqual(self.layer()["x"], 150, delta=1)
        self.assertAlmostEqual(self.layer()["y"], 130, delta=1)

        size = self.layer()["size"]
        middle = np.array(self.centre(page.get_by_test_id("layer-centre")))
        corner = np.array(self.centre(page.locator("[data-grip=corner-2]")))
        self.drag(tuple(corner), tuple(middle + (corner - middle) * 0.5))
        self.assertAlmostEqual(self.layer()["size"], size / 2, delta=size * 0.03)

        knob = np.array(self.centre(page.locator("[data-grip=turn]")))
        length = float(np.hypot(*(knob - middle)))
        self.drag(tuple(knob), (middle[0] + length, middle[1]))
        self.assertAlmostEqual(self.layer()["turn"], 90, delta=3)

        page.keyboard.press("Alt+ArrowRight")
        until(lambda: abs(self.layer()["x"] % 1 - (150.1 % 1)) < 1 and self.layer()["x"] > 149, 5, "the nudge")
        for _ in range(4):
            page.keyboard.press("Control+z")
        until(lambda: abs(self.layer()["x"] - 200) < 1 and self.layer()["turn"] == 0, 10, "undo of all")

    def test_keys_move_it_and_the_viewer_shows_it(self) -> None:
        page = self.page
        page.get_by_role("button", name="Key Place x here").click()
        until(lambda: isinstance(self.layer()["x"], dict), 10, "the first key")
        self.go_to(20)
        self.type_number("Place x", 80)
        until(lambda: len(self.layer()["x"]["keys"]) == 2, 10, "the second key")
        first = self.layer()["x"]["keys"][0]
        self.assertEqual((first["frame"], self.layer()["x"]["keys"][1]["value"]), (0, 80))
        page.keyboard.press("Escape")
        page.keyboard.press("Escape")
        for frame, x in ((0, first["value"]), (10, (first["value"] + 80) / 2), (20, 80), (28, 80)):
            self.go_to(frame)
            page.wait_for_function(
                "([f]) => document.querySelector('canvas[data-frame]').dataset.url.endsWith('/' + f + '.jpg')", arg=[frame]
            )
            well = self.box(page.get_by_test_id("well"))
            seen = disc_centre(self.canvas_pixels())[0] + well["x"]
            self.assertAlmostEqual(seen, self.screen(x, 0, SIZE)[0], delta=2.5)

    def test_range_by_its_ends_and_hiding(self) -> None:
        page = self.page
        end = page.get_by_role("slider", name="Last frame of the range")
        lanes = self.box(page.get_by_test_id("lanes"))
        at = self.centre(end)
        self.drag(at, (lanes["x"] + 10 + 19.5 / 30 * (lanes["width"] - 20), at[1]))
        self.assertEqual(self.document()["footage"]["out_frame"], 19)
        expect(page.get_by_text("180p · 30 · 20 fr")).to_be_visible()
        page.get_by_role("button", name="Hide disc").click()
        until(lambda: self.layer()["shown"] is False, 10, "the layer to hide")
        page.get_by_role("button", name="Show disc").click()
        until(lambda: self.layer()["shown"] is True, 10, "the layer to show")
        self.caught_up()
        page.keyboard.press("Delete")
        expect(page.get_by_role("button", name="Hide disc")).to_be_hidden()
        page.keyboard.press("Control+z")
        expect(page.get_by_role("button", name="Hide disc")).to_be_visible()

    def test_a_frame_that_cannot_be_made_says_why_and_is_tried_again(self) -> None:
        page = self.page

        def refuse(route: Route) -> None:
            route.fulfill(status=400, json={"code": "x", "message": "There is no room left on the disk."})

        # The picture before is there in full: what is refused is the changed one.
        self.canvas_pixels()
        page.route("**/api/frames/**", refuse)
        self.type_number("Place x", 90)
        until(lambda: self.layer()["x"] == 90, 10, "the edit")
        number = self.steps()
        expect(page.get_by_text(f"Saved · step {number}")).to_be_visible()
        expect(page.get_by_role("alert")).to_contain_text("There is no room left on the disk.")
        page.unroute("**/api/frames/**")
        page.get_by_role("button", name="Try again").click()
        expect(page.get_by_role("alert")).to_have_count(0)
        well = self.box(page.get_by_test_id("well"))
        self.assertAlmostEqual(disc_centre(self.canvas_pixels())[0] + well["x"], self.screen(90, 0, SIZE)[0], delta=2.5)

    def test_what_is_done_in_a_hurry_is_done_in_order(self) -> None:
        page = self.page
        held: list[Route] = []
        self.caught_up()
        began = self.steps()
        page.route("**/edits", lambda route: held.append(route))
        self.type_number("Place x", 90)
        page.keyboard.press("Control+z")
        until(lambda: page.evaluate("1") == len(held), 10, "the edit to be on its way")
        held.pop().continue_()
        page.unroute("**/edits")
        # The edit that was still on its way is what is undone, not the one before it.
        expect(page.get_by_text("Undone: Place x", exact=False)).to_be_visible()
        until(lambda: self.steps() == began, 10, "the undo")
        self.assertAlmostEqual(self.layer()["x"], 200, delta=1)

        # The size for delivering is chosen and Deliver pressed at once: what is delivered is that size.
        page.route("**/edits", lambda route: held.append(route))
        page.get_by_role("button", name="Deliver", exact=True).click()
        self.choose("Size", "Half")
        page.get_by_role("dialog").get_by_role("button", name="Deliver", exact=True).click()
        until(lambda: page.evaluate("1") == len(held), 10, "the setting to be on its way")
        held.pop().continue_()
        page.unroute("**/edits")
        self.assertEqual(probe(self.download()).size, (160, 90))

    def test_an_edit_made_while_another_windows_is_fetched_loses_neither(self) -> None:
        page = self.page
        held: list[tuple[Route, APIResponse]] = []
        shot = self.stored().id
        page.route(f"**/api/shots/{shot}", lambda route: held.append((route, route.fetch())))
        patch_shot(shot, [{"op": "replace", "path": "/name", "value": "Renamed there"}], "Rename the shot")
        until(lambda: page.evaluate("1") == len(held), 10, "the page to fetch what has changed")
        self.type_number("Place x", 90)
        route, answer = held.pop()
        route.fulfill(response=answer)
        page.unroute(f"**/api/shots/{shot}")
        until(lambda: self.layer()["x"] == 90, 10, "the edit")
        self.caught_up()
        expect(page.get_by_label("Name of the shot")).to_have_value("Renamed there")
        expect(page.get_by_label("Place x value")).to_have_value("90.0 px")

    def test_a_second_window_sees_the_change(self) -> None:
        other = self.context.new_page()
        other.goto(self.page.url)
        expect(other.get_by_role("button", name="Hide disc")).to_be_visible()
        self.page.get_by_label("Name of the shot").fill("Renamed here")
        self.page.keyboard.press("Enter")
        expect(other.get_by_label("Name of the shot")).to_have_value("Renamed here")
        other.close()
