"""A project packed in the browser, everything removed, opened again and delivered: the same pictures."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import numpy as np
from playwright.sync_api import expect

from jobs.models import Job
from library.models import Project
from plonket.media import open_clip
from plonket.media.write import VideoWriter
from shots.models import Shot
from tests.browser.stage import BrowserTest, until


class Packs(BrowserTest):
    def tearDown(self) -> None:
        until(lambda: not Job.objects.filter(state__in=Job.OPEN).exists(), 60, "all work to end")
        super().tearDown()

    def saved(self) -> Path:
        page = self.page
        page.get_by_role("button", name="Pack", exact=True).click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("switch", name="With every step").click()
        dialog.get_by_role("button", name="Pack it").click()
        link = dialog.get_by_role("link", name="Save it")
        expect(link).to_be_visible(timeout=150_000)
        with page.expect_download() as waiting:
            link.click()
        path = self.folder / "saved.plonket"
        waiting.value.save_as(path)
        self.assertEqual(waiting.value.suggested_filename, "Small Lights.plonket")
        dialog.get_by_role("button", name="Close").click()
        return path

    def open_packed(self, path: Path, into: str | None = None) -> None:
        page = self.page
        page.get_by_label("Packed project to open").set_input_files(path)
        if into is not None:
            self.choose("Into", into)
        page.get_by_role("dialog").get_by_role("button", name="Open it").click()

    def test_a_project_comes_back_from_its_file(self) -> None:
        page = self.page
        clip = self.folder / "bars.mp4"
        with VideoWriter(clip, (320, 180), Fraction(25)) as out:
            for k in range(10):
                picture = np.full((180, 320, 3), 40, np.uint8)
                picture[:, 20 * k : 20 * k + 30] = (200, 120, 40)
                out.write(picture)
        self.new_shot()
        self.bring_in(clip)
        page.get_by_role("button", name="Cut", exact=True).click()
        page.get_by_role("menuitem", name="Square").click()
        until(lambda: len(self.document()["frames"]) == 1, 20, "the frame")
        self.choose("Short side", "As it is cut")
        until(lambda: self.document()["frames"][0]["pixels"] == "cut", 20, "its size")
        first = open_clip(self.deliver())
        before = [first.rgb(k) for k in (0, 4, 9)]
        first.close()
        page.goto(self.address)
        path = self.saved()
        page.get_by_role("button", name="Remove", exact=True).click()
        page.get_by_role("dialog").get_by_role("button", name="Remove").click()
        until(lambda: not Project.objects.exists(), 20, "the project to be gone")
        expect(page.get_by_text("No projects yet")).to_be_visible()

        self.open_packed(path)
        until(lambda: Shot.objects.count() == 1, 60, "its shot")
        page.get_by_role("button", name="Open Shot 1").click()
        self.shown(0)
        expect(page.get_by_role("button", name="Undo")).to_be_enabled()
        again = open_clip(self.deliver())
        self.addCleanup(again.close)
        for k, picture in zip((0, 4, 9), before, strict=True):
            np.testing.assert_array_equal(again.rgb(k), picture)

        # Its shots go into another project, too; and one is copied by hand.
        page.goto(self.address)
        self.open_packed(path, "Its shots into Small Lights")
        until(lambda: Shot.objects.count() == 2, 60, "the shot once more")
        self.assertEqual(Project.objects.count(), 1)
        card = page.get_by_role("listitem").filter(has=page.get_by_role("button", name="Open Shot 1")).first
        card.hover()
        card.get_by_role("button", name="Copy").click()
        page.get_by_role("dialog").get_by_role("button", name="Copy it").click()
        until(lambda: Shot.objects.filter(name="Shot 2").exists(), 20, "the copy")

    def test_what_is_no_pack_says_so(self) -> None:
        page = self.page
        self.new_shot()
        page.goto(self.address)
        bad = self.folder / "holiday.plonket"
        bad.write_text("no pack")
        self.open_packed(bad)
        expect(page.get_by_test_id("opening")).to_contain_text("holiday.plonket is not a packed project", timeout=30_000)
