"""Delivering in the browser: an upright frame that follows somebody beside a wide one, several files at once, coverage on a page."""

from __future__ import annotations

import io
import zipfile
from fractions import Fraction
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from django.conf import settings
from PIL import Image
from playwright.sync_api import expect

from deliveries.models import Delivery, SavedFiles
from jobs.models import Job
from plonket.base.conventions import U8
from plonket.media import open_clip
from plonket.media.write import Coding, VideoWriter
from plonket.media.yuv import PlaneCoding
from shots.editing import patch_shot
from tests.browser.stage import BrowserTest, until
from tests.browser.test_mattes import FRAMES, SIZE, take
from tests.core.test_colour_path import write_planes

SHELF = Path(settings.DEMO) / "shelf"


class Delivering(BrowserTest):
    def tearDown(self) -> None:
        until(lambda: not Job.objects.filter(state__in=Job.OPEN).exists(), 60, "all work to end")
        super().tearDown()

    def finished(self, count: int) -> dict[str, Delivery]:
        """What is delivered, by the names of the files, once there is so much."""
        until(lambda: Delivery.objects.count() == count, 120, f"{count} files")
        return {one.file: one for one in Delivery.objects.all()}

    def start(self) -> Any:
        self.page.get_by_role("button", name="Deliver", exact=True).click()
        return self.page.get_by_role("dialog")

    def test_an_upright_frame_keeps_who_walks_in_the_middle_beside_a_wide_one(self) -> None:
        page = self.page
        walk = self.folder / "walk.mp4"
        with VideoWriter(walk, SIZE, Fraction(20), coding=Coding(crf=10)) as out:
            for frame in take()[0]:
                out.write(frame)
        self.new_shot()
        self.bring_in(walk)
        page.keyboard.press("z")
        page.mouse.click(*self.screen(110, 150, SIZE))
        expect(page.get_by_test_id("matte")).to_have_attribute("data-says", "clicked")
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Measure", exact=True).click()
        until(lambda: self.document()["motions"][0]["measurement"] is not None, 90, "the matte")

        self.caught_up()
        page.get_by_role("button", name="Cut", exact=True).click()
        page.get_by_role("menuitem", name="Upright").click()
        handles = page.get_by_test_id("delivery-frame")
        expect(handles).to_be_visible()
        expect(page.get_by_text("enlarged")).to_be_visible()
        self.choose("Short side", "As it is cut")
        self.choose("Motion it follows", "Matte")
        until(lambda: self.document()["frames"][0]["target"] is not None, 20, "it to follow")
        # At the last frame the box lies round him.
        self.caught_up()
        self.go_to(FRAMES - 1)
        until(lambda: abs(self.middle()[0] - (110 + 10 * (FRAMES - 1))) < 6, 20, "the frame to lie round him")
        # Dragged, he stands a bit to the left of its middle from then on.
        x, y = self.screen(self.middle()[0], 60, SIZE)
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 20, y, steps=5)
        page.mouse.up()
        until(lambda: self.document()["frames"][0]["x"] > 5, 20, "it to be moved")
        page.keyboard.press("Control+z")
        until(lambda: self.document()["frames"][0]["x"] == 0, 20, "it to be back")
        self.caught_up()
        # By a corner it takes in less.
        box = self.box_of()
        x, y = self.screen(box[0] + box[2], box[1] + box[3], SIZE)
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x - 24, y - 43, steps=5)
        page.mouse.up()
        until(lambda: self.document()["frames"][0]["size"] < 90, 20, "it to take in less")
        self.caught_up()
        self.type_number("Takes in", 100)
        until(lambda: self.document()["frames"][0]["size"] == 100, 20, "it to fill the picture again")

        self.caught_up()
        page.get_by_role("button", name="Cut", exact=True).click()
        page.get_by_role("menuitem", name="Wide, 16:9").click()
        until(lambda: len(self.document()["frames"]) == 2, 20, "the wide one")
        self.choose("Short side", "As it is cut")
        until(lambda: self.document()["frames"][1]["pixels"] == "cut", 20, "its size")

        dialog = self.start()
        expect(dialog.get_by_role("list", name="Files that are made").get_by_role("listitem")).to_have_count(2)
        dialog.get_by_role("button", name="Deliver", exact=True).click()
        made = self.finished(2)
        name = self.document()["name"]
        upright, wide = (open_clip(made[f"{name} {which}.mp4"].path) for which in ("Upright", "Wide"))
        self.addCleanup(upright.close)
        self.addCleanup(wide.close)
        self.assertEqual((upright.info.size, wide.info.size), ((154, 272), (480, 270)))
        self.assertEqual((upright.info.frames, wide.info.frames), (FRAMES, FRAMES))
        for k in range(0, FRAMES, 3):
            self.assertLess(abs(self.lies(upright.rgb(k), take()[0][k]) + 77 - (110 + 10 * k)), 8, f"he is in the middle in frame {k}")
            self.assertLess(float(np.abs(wide.rgb(k).astype(int) - take()[0][k][1:271]).mean()), 6)
        expect(dialog.get_by_role("link", name="Download H.264 (MP4)")).to_have_count(2)

    def box_of(self) -> list[float]:
        return [float(v) for v in (self.page.get_by_test_id("delivery-frame").get_attribute("data-box") or "0,0,0,0").split(",")]

    def middle(self) -> tuple[float, float]:
        x, y, w, h = self.box_of()
        return x + w / 2, y + h / 2

    def lies(self, part: U8, whole: U8) -> int:
        """Where a part as high as the picture lies in it."""
        found = cv2.matchTemplate(whole, part, cv2.TM_SQDIFF)
        return int(np.argmin(found[0]))

    def test_what_was_filmed_in_hdr_is_offered_as_such(self) -> None:
        grey = np.full((90, 160, 3), 30_000, np.uint16)
        coding = PlaneCoding(matrix="2020", bits=10)
        self.new_shot()
        self.bring_in(write_planes(self.folder / "hdr.mkv", [grey] * 3, coding, primaries=9, transfer=18))
        self.page.get_by_role("navigation", name="Run sheet").locator("button[aria-pressed]").first.click()
        expect(self.page.get_by_text("HDR (HLG)")).to_be_visible()
        dialog = self.start()
        expect(dialog).to_contain_text("This clip is HDR (HLG)")
        dialog.get_by_role("button", name="Add one in HDR").click()
        until(lambda: [o.get("light") for o in self.document()["delivery"]["outputs"]] == [None, "hlg-back"], 20, "it")
        expect(dialog).not_to_contain_text("This clip is HDR (HLG)")

    def test_several_files_of_one_shot_and_settings_kept_for_the_next(self) -> None:
        page = self.page
        clip = self.folder / "plain.mp4"
        with VideoWriter(clip, (320, 180), Fraction(20)) as out:
            for k in range(8):
                out.write(np.full((180, 320, 3), 60 + 10 * k, np.uint8))
        self.new_shot()
        self.bring_in(clip)
        dialog = self.start()
        for kind in ("PNG sequence", "Animated GIF", "One frame"):
            dialog.get_by_role("button", name="Add a file").click()
            page.get_by_role("menuitem", name=kind).click()
            expect(dialog.get_by_role("button", name=kind)).to_have_attribute("aria-pressed", "true")
        self.type_number("Frame", 5)
        until(lambda: self.document()["delivery"]["outputs"][3]["at"] == 5, 20, "the frame that is wanted")
        called = dialog.get_by_label("What the file is called")
        called.fill("{shot} cover {size}")
        called.press("Enter")
        expect(dialog.get_by_text("cover 320x180.png")).to_be_visible()
        dialog.get_by_role("button", name="Animated GIF").click()
        self.type_number("Every", 2)
        until(lambda: self.document()["delivery"]["outputs"][2]["every"] == 2, 20, "every second frame")
        dialog.get_by_role("button", name="Keep these settings").click()
        dialog.get_by_label("Name for these settings").fill("All of it")
        dialog.get_by_label("Name for these settings").press("Enter")
        until(lambda: SavedFiles.objects.count() == 1, 20, "the settings to be kept")
        dialog.get_by_role("button", name="Deliver", exact=True).click()
        made = self.finished(4)
        self.assertEqual(sorted(one.kind for one in made.values()), ["gif", "h264", "png", "still"])
        still = next(one for one in made.values() if one.kind == "still")
        self.assertIn("cover 320x180.png", still.file)
        self.assertLess(abs(int(np.array(Image.open(still.path))[90, 160, 0]) - 110), 3)
        loop = Image.open(next(one.path for one in made.values() if one.kind == "gif"))
        self.addCleanup(loop.close)
        self.assertEqual(loop.n_frames, 4)  # type: ignore[attr-defined]
        # All are shown as what they are, and one by one taken away.
        page.goto(f"{self.address}/deliveries")
        expect(page.get_by_role("listitem")).to_have_count(4)
        expect(page.get_by_text("PNG sequence, for other programs.")).to_be_visible()
        until(lambda: page.evaluate("[...document.images].filter(i => i.naturalWidth === 320).length") == 2, 20, "both pictures")
        for left in (3, 2, 1, 0):
            page.get_by_role("button", name="Remove").first.click()
            expect(page.get_by_role("listitem")).to_have_count(left)
        self.assertFalse(still.path.parent.exists())
        # Another shot is delivered alike with one press.
        self.page.goto(self.address)
        page.get_by_role("button", name="New shot").first.click()
        self.bring_in(clip)
        self.start().get_by_role("button", name="All of it", exact=True).click()
        until(lambda: len(self.document()["delivery"]["outputs"]) == 4, 20, "the same files")

    def test_coverage_is_laid_over_a_page(self) -> None:
        page = self.page
        self.new_shot()
        page.get_by_role("button", name="An empty canvas").click()
        page.get_by_role("dialog").get_by_role("button", name="Make it").click()
        until(lambda: self.document()["footage"] is not None, 60, "the canvas")
        self.caught_up()
        fill = {"kind": "fill", "id": "f", "name": "F", "first": "#ff8000", "cover": 50}
        webm = {"kind": "vp9", "id": "w", "name": "W", "quality": "best"}
        patch_shot(self.stored().id, [
            {"op": "replace", "path": "/footage/out_frame", "value": 9},
            {"op": "replace", "path": "/footage/ground", "value": "clear"},
            {"op": "add", "path": "/stack/0", "value": fill},
            {"op": "replace", "path": "/delivery/outputs", "value": [webm]},
        ], "Half an orange")  # fmt: skip
        self.caught_up()
        self.start().get_by_role("button", name="Deliver", exact=True).click()
        made = next(iter(self.finished(1).values()))
        self.assertEqual(made.ending, ".webm")
        # Anywhere on this server, so that the page may ask for it.
        page.goto(f"{self.address}/deliveries")
        shown = page.evaluate(
            """async (src) => {
              document.body.innerHTML = '<div style="position:fixed;inset:0;background:rgb(0,64,200)"><video muted width=320></video></div>';
              const video = document.querySelector("video");
              video.src = src;
              await new Promise((done, failed) => { video.oncanplay = done; video.onerror = () => failed(video.error.message) });
              video.currentTime = 0.1;
              await new Promise((done) => (video.onseeked = done));
              await new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)));
              return [video.videoWidth, video.videoHeight];
            }""",
            f"/api/deliveries/{made.pk}/file",
        )
        self.assertEqual(shown, [made.width, made.height])
        seen: U8 = np.array(Image.open(io.BytesIO(page.screenshot())).convert("RGB"))
        np.testing.assert_allclose(seen[60, 100], [128, 96, 100], atol=6, err_msg="half of it over the page's own colour")
        np.testing.assert_allclose(seen[60, 600], [0, 64, 200], atol=2)


class Bringing(BrowserTest):
    """Footage that is no video: numbered pictures, in a ZIP or picked one by one, and a still."""

    def pictures(self, numbers: tuple[int, ...]) -> list[Path]:
        out = []
        for k in numbers:
            out.append(self.folder / f"storm-{k}.png")
            cv2.imwrite(str(out[-1]), np.full((90, 160, 3), 10 * k, np.uint8))
        return out

    def test_numbered_pictures_in_a_zip_or_picked_are_a_clip(self) -> None:
        page = self.page
        box = self.folder / "storm.zip"
        with zipfile.ZipFile(box, "w") as target:
            for path in self.pictures((8, 9, 10, 12)):
                target.write(path, path.name)
        self.new_shot()
        self.bring_in(box)
        self.assertEqual(self.document()["footage"]["frames"], 5)
        self.go_to(3)
        self.shown(3)
        until(lambda: abs(float(self.canvas_pixels().max()) - 100) < 6, 20, "the tenth picture in place of the eleventh")
        page.get_by_role("navigation", name="Run sheet").locator("button[aria-pressed]").first.click()
        expect(page.get_by_text("Pictures 3 were not there")).to_be_visible()

        page.goto(self.address)
        page.get_by_role("button", name="New shot").first.click()
        page.get_by_label("Clip to bring in").set_input_files(self.pictures((1, 2, 3)))
        self.shown(0)
        footage = self.document()["footage"]
        self.assertEqual((footage["frames"], footage["name"], footage["width"]), (3, "storm", 160))

        # Picked with one missing, one is asked before anything is sent.
        page.get_by_role("navigation", name="Run sheet").locator("button[aria-pressed]").first.click()
        pick = page.get_by_label("Another clip", exact=True)
        pick.set_input_files(self.pictures((1, 2, 3, 4, 6)))
        dialog = page.get_by_role("dialog", name="Pictures are missing")
        expect(dialog).to_contain_text("Between storm-1.png and storm-6.png these are not there: 5.")
        dialog.get_by_role("button", name="Don’t bring them in").click()
        self.assertEqual(self.document()["footage"]["frames"], 3)
        pick.set_input_files(self.pictures((1, 2, 3, 4, 6)))
        dialog.get_by_role("button", name="Hold the one before").click()
        until(lambda: self.document()["footage"]["frames"] == 6, 60, "the pictures, and one in place of the fifth")

    def test_a_still_lasts_as_long_as_one_likes(self) -> None:
        page = self.page
        still = self.pictures((20,))[0]
        self.new_shot()
        page.get_by_label("Clip to bring in").set_input_files(still)
        dialog = page.get_by_role("dialog")
        expect(dialog.get_by_text("A shot on a still picture")).to_be_visible()
        length = dialog.get_by_label("Length")
        length.click()
        length.fill("0.4")
        length.press("Enter")
        dialog.get_by_role("button", name="Make it").click()
        self.shown(0)
        footage = self.document()["footage"]
        self.assertEqual((footage["frames"], footage["width"], footage["opacity"]), (12, 160, 100))
