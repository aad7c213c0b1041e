"""Kinds that only a test knows have cards, forms and handles in the browser, without any edit there."""

from __future__ import annotations

from playwright.sync_api import expect

from shots.editing import patch_shot
from tests.browser.stage import BrowserTest, until
from tests.core.clips import phone_clip
from tests.kinds import announced

SIZE = (320, 180)


class Kinds(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.enterContext(announced())
        self.new_shot()
        self.bring_in(phone_clip(self.folder / "n.mp4", frames=12))
        stripe = {"kind": "stripe", "id": "stripe", "name": "Red stripe", "x": 100.0, "y": 60.0,
                  "looks": [{"kind": "dimmed", "id": "dim", "name": "Dim"}]}  # fmt: skip
        self.patch(
            {"op": "add", "path": "/motions/-", "value": {"kind": "drifting", "id": "drift", "name": "Current"}},
            {"op": "add", "path": "/plate/-", "value": {"kind": "nudged", "id": "nudged", "name": "Dropped", "down": 5.0}},
            {"op": "add", "path": "/stack/-", "value": stripe},
        )
        self.caught_up()

    def patch(self, *steps: dict[str, object]) -> None:
        patch_shot(self.stored().id, list(steps), "Put in")

    def test_a_layer_has_its_card_form_handles_and_looks(self) -> None:
        page = self.page
        card = page.locator("[data-card=stripe]")
        expect(card).to_contain_text("Stripe")
        card.get_by_text("Red stripe").click()
        details = page.get_by_label("Details")
        expect(details).to_contain_text("A stripe, normal")
        with self.subTest("a number of its own, saved, drawn, and still there after a reload"):
            self.type_number("Stripe's width", 80)
            until(lambda: self.document()["stack"][0]["wide"] == 80, 10, "the width to be stored")
            self.caught_up()
            page.reload()
            expect(page.get_by_label("Stripe's width value")).to_have_value("80 px")
        with self.subTest("fields that mean nothing yet are not shown"):
            expect(page.get_by_label("Frame's width value")).to_have_count(0)
            page.get_by_role("switch", name="Framed").click()
            expect(page.get_by_label("Frame's width value")).to_be_visible()
            expect(card).to_contain_text("Framed stripe")
        with self.subTest("handles: dragged to another place"):
            at = self.centre(page.get_by_test_id("layer-centre"))
            step = self.screen(40, 0, SIZE)[0] - self.screen(0, 0, SIZE)[0]
            before = self.steps()
            page.mouse.move(*at)
            page.mouse.down()
            page.mouse.move(at[0] + step, at[1], steps=4)
            page.mouse.up()
            until(lambda: self.steps() > before, 10, "the move to be stored")
            self.assertAlmostEqual(self.document()["stack"][0]["x"], 140, delta=1)
        with self.subTest("its look has a form as well"):
            self.type_number("Dimmed by", 25)
            until(lambda: self.document()["stack"][0]["looks"][0]["by"] == 25, 10, "the look to be stored")
        with self.subTest("undone, once more, and taken away"):
            page.keyboard.press("Escape")
            page.keyboard.press("Control+z")
            until(lambda: self.document()["stack"][0]["looks"][0]["by"] == 50, 10, "undo")
            self.caught_up()
            card.get_by_text("Red stripe").click()
            page.keyboard.press("e")
            until(lambda: len(self.document()["stack"]) == 2, 10, "the copy")
            self.assertEqual(self.document()["stack"][0]["name"], "Red stripe 2")
            self.caught_up()
            page.keyboard.press("Delete")
            until(lambda: [one["id"] for one in self.document()["stack"]] == ["stripe"], 10, "the copy to go")

    def test_motions_and_treatments_have_cards_and_forms(self) -> None:
        page = self.page
        page.get_by_text("Current", exact=True).first.click()
        details = page.get_by_label("Details")
        expect(details).to_contain_text("Goes by itself.")
        self.type_number("Speed", 7)
        until(lambda: self.document()["motions"][0]["speed"] == 7, 10, "the speed to be stored")
        page.get_by_text("Dropped", exact=True).first.click()
        expect(details).to_contain_text("Moved down.")
        self.type_number("Moved down", 20)
        until(lambda: self.document()["plate"][0]["down"] == 20, 10, "the treatment to be stored")
        self.caught_up()
        details.get_by_role("button", name="Remove Dropped").click()
        until(lambda: self.document()["plate"] == [], 10, "the treatment to go")
