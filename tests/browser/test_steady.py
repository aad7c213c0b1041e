"""The plate steadied by hand in the browser: locked, wiped against the original, framed, shaken and delivered."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from playwright.sync_api import expect

from demo_project.management.commands.load_demo import load_demo
from plonket.base.conventions import F64
from plonket.base.outlines import carry
from plonket.media import open_clip, probe
from plonket.track.plane.measure import measure_plane
from plonket.track.request import MeasureRequest
from synth.phone.quickset import QuickShot, chart_shot
from synth.phone.take import Recording, frame_times, write_recording
from tests.browser.stage import BrowserTest, until
from tests.browser.test_first_light import magenta_disc
from tests.core.shots import chart_corners, plane_on

SIZE = (640, 360)
FRAMES = 30


class Steadied(BrowserTest):
    shot: QuickShot
    corners: F64

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.shot = chart_shot(frames=FRAMES, shake=2.0)
        cls.corners = chart_corners(cls.shot)

    def start(self) -> None:
        recording = Recording(rate=Fraction(30), frames=FRAMES, crf=14, sound=False)
        path = self.folder / "wall.mp4"
        write_recording(path, iter(self.shot.frames), frame_times(recording), SIZE, recording)
        self.new_shot()
        self.bring_in(path)

    def steady(self) -> dict[str, Any]:
        return next(t for t in self.document()["plate"] if t["kind"] == "steady")

    def treat(self, what: str) -> None:
        self.page.get_by_role("button", name="Treat").click()
        self.page.get_by_role("menuitem", name=what).first.click()

    def follow_chart(self) -> None:
        page = self.page
        page.keyboard.press("r")
        for k, nudge in enumerate(((4, 3), (-4, 3), (-4, -3), (4, -3))):
            page.mouse.click(*self.screen(*(self.corners[0, k] + nudge), SIZE))
        page.keyboard.press("Enter")
        page.get_by_role("button", name="Measure", exact=True).click()
        expect(page.get_by_role("button", name="Measure again")).to_be_visible(timeout=120_000)

    def moves(self, path: Path) -> F64:
        """Where the chart's corners went in a delivered file, followed afresh: (n, 4, 2) pixels from frame 0."""
        clip = open_clip(path)
        start = self.standing(path)
        track = measure_plane(plane_on(start[None]), MeasureRequest(clip=clip, direction="forward"))
        self.assertTrue(track.known().all())
        return np.stack([carry(start, m) for m in track.homography]) - start

    def standing(self, path: Path) -> F64:
        """Where the delivered file shows the chart's corners in frame 0."""
        record = self.document()
        view = self.page.evaluate(
            "([id, n]) => fetch(`/api/shots/${id}/view?number=${n}`).then((r) => r.json())",
            [str(self.stored().id), self.steps()],
        )
        self.assertEqual(len(view["matrices"]), record["footage"]["frames"])
        return carry(self.corners[0], np.array(view["matrices"][0]).reshape(3, 3))

    def test_lock_wipe_plonk_and_deliver(self) -> None:
        page = self.page
        self.start()
        self.follow_chart()
        page.keyboard.press("k")
        until(lambda: bool(self.document()["plate"]), 20, "the steady card")
        expect(page.get_by_role("heading", name="Holds on to")).to_be_visible()
        expect(page.get_by_text("to hide the borders")).to_be_visible()
        self.assertEqual(self.steady()["targets"], ["motion-1"])
        # Wipe against the original: on the left the untouched clip, on the right the steadied one.
        self.go_to(FRAMES - 1)
        page.wait_for_function("() => document.querySelector('canvas[data-frame]').dataset.url.endsWith('/100/29.jpg')")
        whole = self.canvas_pixels().astype(float)
        half = whole.shape[1] // 2
        page.get_by_role("button", name="Wipe", exact=True).click()
        expect(page.get_by_role("slider", name="Wipe between")).to_be_visible()

        def changed() -> F64:
            return np.abs(self.canvas_pixels().astype(float) - whole)

        until(lambda: bool(changed()[:, : half - 8].mean() > 2.0), 20, "the untouched clip on the left")
        self.assertLess(changed()[:, half + 8 :].mean(), 0.5)
        page.keyboard.press("w")
        # Handles lie where the steadied picture shows the thing: a disc plonked on the chart sits where clicked.
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Plane Plane").click()
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(magenta_disc(self.folder / "disc.png"))
        page.get_by_role("button", name="Plonk disc").click()
        clicked = self.screen(330, 170, SIZE)
        page.mouse.click(*clicked)
        centre = page.get_by_test_id("layer-centre")
        expect(centre).to_be_visible()
        self.assertLess(np.hypot(*np.subtract(self.centre(centre), clicked)), 1.5)
        self.go_to(5)
        self.assertLess(np.hypot(*np.subtract(self.centre(centre), clicked)), 1.5)
        page.get_by_role("button", name="Hide disc").click()
        out = self.deliver()
        self.assertEqual((probe(out).frames, probe(out).size), (FRAMES, SIZE))
        moved = self.moves(out)
        self.assertLess(float(np.sqrt((moved**2).sum(axis=-1).mean())), 0.12)
        filmed = self.corners - self.corners[0]
        self.assertGreater(float(np.sqrt((filmed**2).sum(axis=-1).mean())), 5.0)
        clip = open_clip(out)
        self.assertTrue(all(clip.luma(i)[[0, -1]].min() > 4 for i in range(0, FRAMES, 5)))

    def test_framing_smoothing_shaking_and_undo(self) -> None:
        page = self.page
        self.start()
        # Without any motion a look at the clip finds what to hold on to, and says so.
        self.treat("Steady by itself")
        until(lambda: bool(self.document()["plate"]), 60, "the steady card")
        expect(page.get_by_role("button", name="Steady Locked")).to_contain_text("Found by itself")
        until(lambda: self.document()["motions"][0]["measurement"] is not None, 120, "the measuring")
        expect(page.get_by_text("to hide the borders")).to_be_visible()
        # Put a spot in the middle by clicking on it.
        page.get_by_role("button", name="Put a spot in the middle").click()
        page.mouse.click(*self.screen(360, 200, SIZE))
        until(lambda: abs(self.steady()["x"] + 40) < 1.5 and abs(self.steady()["y"] + 20) < 1.5, 20, "the spot to be moved")
        self.caught_up()
        page.keyboard.press("ArrowRight")
        until(lambda: abs(self.steady()["x"] + 39) < 1.5, 20, "the nudge")
        # Smooth keeps the move that is meant; parts and borders are choices of the form.
        self.choose("Does", "Smooth: bumps out")
        until(lambda: self.steady()["mode"] == "smooth", 20, "the mode")
        expect(page.get_by_role("button", name="Steady Smoothed")).to_be_visible()
        self.choose("Borders", "Fill from other frames")
        until(lambda: self.steady()["fit"] == "fill", 20, "the borders")
        self.treat("Handheld")
        until(lambda: len(self.document()["plate"]) == 2, 20, "the shake")
        self.go_to(12)
        page.wait_for_function("() => document.querySelector('canvas[data-frame]').dataset.url.endsWith('/12.jpg')")
        shaken = self.canvas_pixels().astype(float)
        page.get_by_role("button", name="Turn Handheld off").click()
        until(lambda: self.document()["plate"][1]["shown"] is False, 20, "the shake to be off")
        until(lambda: np.abs(self.canvas_pixels().astype(float) - shaken).mean() > 1, 20, "the picture to change")
        # Taking the motion away lets go of it; undo brings all of it back.
        page.get_by_role("button", name="Found by itself Plane").click()
        page.get_by_role("button", name="Remove Found by itself").click()
        until(lambda: self.steady()["targets"] == [], 20, "the hold to be let go")
        expect(page.get_by_text("holds nothing")).to_be_visible()
        page.keyboard.press("Control+z")
        until(lambda: len(self.steady()["targets"]) == 1, 20, "undo")

    def test_the_demo_workshop_is_locked_on_its_chart(self) -> None:
        page = self.page
        load_demo()
        page.goto(self.address)
        page.get_by_role("button", name="Open The chart held still").click()
        self.shown(0)
        expect(page.get_by_role("button", name="Steady Locked")).to_be_visible()
        first = cv2.cvtColor(self.canvas_pixels(), cv2.COLOR_RGB2GRAY).astype(np.float32)
        self.go_to(100)
        page.wait_for_function("() => document.querySelector('canvas[data-frame]').dataset.url.includes('/100.jpg')")
        later = cv2.cvtColor(self.canvas_pixels(), cv2.COLOR_RGB2GRAY).astype(np.float32)
        x0, y0 = (int(v) for v in np.array(self.screen(450, 170, (1280, 720))) - self.well())
        x1, y1 = (int(v) for v in np.array(self.screen(800, 410, (1280, 720))) - self.well())
        shift, _ = cv2.phaseCorrelate(first[y0:y1, x0:x1], later[y0:y1, x0:x1])
        # As filmed it goes some thirty screen pixels in that time; the light on it changes, which moves the correlation a little.
        self.assertLess(float(np.hypot(*shift)), 1.0)

    def well(self) -> F64:
        box = self.box(self.page.get_by_test_id("well"))
        return np.array([box["x"], box["y"]])
