"""Checking views that show what they say, notices that get out of the way, and a page that slow pictures do not hold up."""

from __future__ import annotations

import re
from fractions import Fraction
from pathlib import Path

import numpy as np
from playwright.sync_api import Route, expect

from jobs.models import Job
from library.models import Asset, Project
from plonket.media.write import VideoWriter
from shots.models import Shot
from tests.browser.stage import BrowserTest, until
from tests.core.clips import numbered

SIZE = (640, 360)
DARK = {"kind": "fill", "id": "dark", "name": "Dark", "first": "#101018"}
CARD = {"kind": "fill", "id": "card", "name": "Card", "first": "#f0f0f0", "masks": [
    {"kind": "outline", "id": "m", "name": "Left half", "outline": {"keys": [{"frame": 0, "points": [
        {"x": 0, "y": 0}, {"x": 320, "y": 0}, {"x": 320, "y": 360}, {"x": 0, "y": 360}]}]}}]}  # fmt: skip


class Checking(BrowserTest):
    def clip(self, frames: int = 60) -> Path:
        path = self.folder / "bright.mp4"
        with VideoWriter(path, SIZE, Fraction(30)) as out:
            for i in range(frames):
                out.write(np.full((SIZE[1], SIZE[0], 3), 190 + i % 20, np.uint8))
        return path

    def halves(self) -> tuple[float, float]:
        """How bright the left and the right part of what the viewer shows is, 0 to 255."""
        x0, y0 = self.screen(100, 180, SIZE)
        x1, _ = self.screen(540, 180, SIZE)
        well = self.page.get_by_test_id("well").bounding_box()
        assert well
        found = self.page.evaluate(
            """([xs, y]) => { const c = document.querySelector('canvas[data-frame]'); const r = devicePixelRatio;
            return xs.map((x) => c.getContext('2d').getImageData(x * r, y * r, 1, 1).data[0]); }""",
            [[x0 - well["x"], x1 - well["x"]], y0 - well["y"]],
        )
        return float(found[0]), float(found[1])

    def frame(self) -> int:
        return int(self.page.get_by_test_id("frame-number").text_content() or -1)

    def test_wipe_plays_both_sides_and_matte_shows_what_is_chosen(self) -> None:
        page = self.page
        missing: list[str] = []
        page.on("response", lambda answer: answer.status == 404 and missing.append(answer.url))
        self.new_shot()
        self.bring_in(self.clip())
        self.put_in(DARK, CARD)
        # The matte of what is chosen, though everything is covered by what lies below it.
        page.get_by_role("radio", name="Matte").click()
        self.canvas_pixels()
        until(lambda: self.halves() == (255, 255), 20, "the whole stack's matte")
        page.get_by_role("navigation", name="Run sheet").get_by_role("button", name="Card").first.click()
        until(lambda: self.halves() == (255, 0), 20, "the card's own matte")
        shown = page.locator("canvas[data-frame]")
        until(lambda: "/matte-card/" in (shown.get_attribute("data-url") or ""), 20, "the card's matte in full")
        page.get_by_role("radio", name="Final").click()
        # The wipe stands in the middle: the untouched clip to its left, the dark shot to its right.
        page.get_by_role("button", name="Wipe").click()
        page.get_by_role("button", name="Hide Card").click()
        until(lambda: self.halves()[0] > 170 and self.halves()[1] < 40, 20, "the wipe")
        page.get_by_role("button", name="Play").click()
        seen: dict[int, tuple[float, float]] = {}

        def plays() -> bool:
            seen[self.frame()] = self.halves()
            return len(seen) > 6

        until(plays, 30, "frames to play under the wipe")
        for number, (left, right) in seen.items():
            self.assertTrue(left > 170 and right < 40, (number, left, right))
        self.assertEqual(missing, [], "a silent clip is not asked for its sound")

    def test_any_two_pictures_are_compared_and_any_frame_laid_over(self) -> None:
        page = self.page
        self.new_shot()
        self.bring_in(self.clip())
        self.put_in(DARK)
        until(lambda: self.halves()[1] < 40, 20, "the dark shot")
        whole = self.halves()
        page.get_by_role("button", name="Compare …").click()
        panel = page.get_by_role("dialog", name="Compare")
        # What differs from the untouched clip, as it is and made stronger.
        panel.get_by_role("radio", name="Difference").click()
        expect(page.get_by_text("Final less Untouched clip")).to_be_visible()
        until(lambda: self.halves()[1] > 200, 20, "the difference, four times")
        panel.get_by_role("slider", name="Gain").press("Home")
        until(lambda: 100 < self.halves()[1] < 240, 20, "the difference itself")
        # The same picture does not differ.
        self.choose("Compared with", "The finished picture")
        panel.get_by_role("slider", name="Gain").press("End")
        until(lambda: self.halves() == (0, 0), 20, "no difference")
        # Beside each other: the plate in the left half of the well, the shot in the right one.
        self.choose("Compared with", "The plate")
        panel.get_by_role("radio", name="Beside").click()
        until(lambda: self.beside()[0] > 170 and self.beside()[1] < 60, 20, "both beside each other")
        # An earlier step is called by what was done next.
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Hide Dark").click()
        until(lambda: self.beside()[1] > 170, 20, "the shot without its dark layer")
        page.get_by_role("button", name="Compare …").click()
        self.choose("Compared with", "Before: Hide Dark")
        until(lambda: self.beside()[0] < 60, 20, "the step before")
        panel.get_by_role("button", name="Stop comparing").click()
        page.keyboard.press("Control+z")
        until(lambda: self.halves() == whole, 20, "the shot alone")
        # Any frame is laid over, as strongly as is wanted.
        frame = panel.get_by_label("Onion frame")
        frame.click()
        frame.fill("7")
        frame.press("Enter")
        expect(page.locator('canvas[data-onion="7"]')).to_be_visible()
        panel.get_by_role("slider", name="Strength").press("End")
        expect(panel.get_by_text("95 %")).to_be_visible()

    def beside(self) -> tuple[float, float]:
        """Grey in the middle of both halves of the well."""
        found = self.page.evaluate(
            """() => { const c = document.querySelector('canvas[data-frame]');
            return [0.25, 0.75].map((x) => c.getContext('2d').getImageData(c.width * x, c.height / 2, 1, 1).data[0]); }"""
        )
        return float(found[0]), float(found[1])

    def test_notices_leave_the_tools_alone_and_go_by_themselves(self) -> None:
        page = self.page
        self.new_shot()
        broken = self.folder / "broken.mp4"
        broken.write_bytes(b"this is no clip " * 400)
        page.get_by_label("Clip to bring in").set_input_files(broken)
        notice = page.get_by_text("broken.mp4 cannot be read")
        expect(notice).to_be_visible()
        box, tools = notice.bounding_box(), page.get_by_role("toolbar", name="Tools").bounding_box()
        assert box and tools
        self.assertGreater(box["y"], tools["y"] + tools["height"])
        notice.hover()
        page.get_by_role("button", name="Dismiss").focus()
        page.mouse.move(300, 300)
        page.get_by_label("Clip to bring in").focus()
        expect(notice).to_be_hidden(timeout=60_000)

    def test_slow_small_pictures_hold_up_nothing(self) -> None:
        page = self.page
        self.new_shot()
        self.bring_in(self.clip(12))
        shot = self.stored()
        assert shot.current
        for k in range(9):
            twin = Shot.objects.create(project=shot.project, name=f"Twin {k}")
            twin.current = twin.revisions.create(
                number=1, document=shot.current.document | {"name": f"Twin {k}"}, picture=shot.current.picture, label="x"
            )
            twin.save()
        held: list[Route] = []
        holding = [True]

        def hold(route: Route) -> None:
            if holding[0]:
                held.append(route)
            else:
                route.continue_()

        page.route("**/api/thumbs/**", hold)
        page.goto(self.address)
        expect(page.get_by_role("button", name="Open Twin 3")).to_be_visible()

        def asked() -> int:
            # What is held back arrives only while the browser is heard.
            page.wait_for_timeout(50)
            return len(held)

        until(lambda: asked() == 2, 20, "the first two pictures to be asked for")
        page.get_by_role("button", name="New project").click()
        page.get_by_label("Name of the project").fill("Made meanwhile")
        page.get_by_role("button", name="Make it").click()
        expect(page.get_by_role("heading", name="Made meanwhile")).to_be_visible()
        self.assertEqual(len(held), 2, "no more than two at once")
        self.assertTrue(Project.objects.filter(name="Made meanwhile").exists())
        holding[0] = False
        for route in held:
            route.continue_()
        expect(page.locator("li img")).to_have_count(10)

    def test_a_camera_that_is_advised_can_be_taken(self) -> None:
        page = self.page
        self.new_shot()
        self.bring_in(self.clip(12))
        told = {"facts": [{"about": "depth", "grade": "good", "says": "There is depth."}], "movers": [],
                "suggestions": [{"kind": "camera", "frame": 3, "outline": [], "why": "The room can be solved."}]}  # fmt: skip
        page.route("**/advice?**", lambda route: route.fulfill(json=told))
        page.keyboard.press("q")
        page.get_by_role("button", name="Use this").click()
        until(lambda: [m["kind"] for m in self.document()["motions"]] == ["camera"], 20, "the camera")
        # It is measured at once. On a clip as even as this nothing comes of it, which is said.
        over = [Job.State.DONE, Job.State.FAILED]
        until(lambda: Job.objects.filter(kind="measure", state__in=over).exists(), 60, "measuring to end")
        expect(page.get_by_role("button", name=re.compile("^Measure")).first).to_be_visible()

    def test_a_clip_whose_answer_was_lost_is_known_all_the_same(self) -> None:
        page = self.page
        self.new_shot()
        clip = self.folder / "lost.mp4"
        with VideoWriter(clip, SIZE, Fraction(30)) as out:
            for i in range(8):
                out.write(numbered(i, SIZE))

        def swallow(route: Route) -> None:
            """The file arrives, and the server is gone before it has answered."""
            if route.request.method == "PATCH":
                route.fetch()
                route.abort("connectionreset")
            else:
                route.continue_()

        page.route("**/api/uploads/*", swallow)
        page.get_by_label("Clip to bring in").set_input_files(clip)
        expect(page.get_by_role("img", name="Frame 0")).to_be_visible(timeout=120_000)
        self.assertEqual(Asset.objects.filter(name="lost").count(), 1)
        self.assertEqual(Job.objects.filter(kind="conform").count(), 1)

    def test_keeping_from_the_key_is_offered_only_where_there_is_a_key(self) -> None:
        page = self.page
        self.new_shot()
        self.bring_in(self.clip(12))
        self.put_in(CARD)
        page.get_by_role("navigation", name="Run sheet").get_by_role("button", name="Card").first.click()
        page.get_by_role("combobox", name="Goes").click()
        expect(page.get_by_role("option", name="Off those above")).to_be_visible()
        expect(page.get_by_role("option", name="Kept from the key")).to_have_count(0)
        page.keyboard.press("Escape")
