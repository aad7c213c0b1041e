"""Regions shaped and keyed by hand, gaps, onion skin, what the adviser offers, and files in and out."""

from __future__ import annotations

import csv
import json
import re
from fractions import Fraction
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from playwright.sync_api import Locator, expect

from plonket.base.conventions import F64
from plonket.base.outlines import carry
from plonket.track.plane.correct import quad_homography
from synth.phone.quickset import QuickShot, chart_shot, quad
from synth.phone.take import Recording, frame_times, write_recording
from tests.browser.stage import BrowserTest, until
from tests.core.shots import chart_corners

SIZE = (640, 360)
FRAMES = 24


class Regions(BrowserTest):
    """The chart on the wall; a board passes before all of it for a few frames in the middle."""

    path: Path
    shot: QuickShot
    corners: F64

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()

        def board(t: float) -> F64:
            return quad((-2.4 + 4.8 * t / (FRAMES / 30), 0.0, 0.2), 1.1, 1.2)

        cls.shot = chart_shot(frames=FRAMES, hand=board)
        cls.corners = chart_corners(cls.shot)

    def setUp(self) -> None:
        super().setUp()
        recording = Recording(rate=Fraction(30), frames=FRAMES, crf=14, sound=False)
        self.path = self.folder / "wall.mp4"
        write_recording(self.path, iter(self.shot.frames), frame_times(recording), SIZE, recording)
        self.new_shot()
        self.bring_in(self.path)

    def plane(self) -> dict[str, Any]:
        return next(m for m in self.document()["motions"] if m["kind"] == "plane")

    def outline(self, points: F64, ignore: bool = False) -> None:
        """Draw by clicking round, closed with Enter."""
        page = self.page
        before = len(self.document()["motions"]) and len(self.plane()["regions"])
        page.keyboard.press("Shift+r" if ignore else "r")
        for spot in points:
            page.mouse.click(*self.screen(*spot, SIZE))
        page.keyboard.press("Enter")
        until(lambda: bool(self.document()["motions"]) and len(self.plane()["regions"]) == before + 1, 20, "the region")
        # Stored is not yet shown: the next press must find the plane chosen.
        expect(page.locator("[data-region]")).to_have_count(before + 1)

    def measure(self) -> None:
        self.page.get_by_role("button", name="Measure", exact=True).click()
        expect(self.page.get_by_role("button", name="Measure again")).to_be_visible(timeout=120_000)

    def chart(self, inset: float = 0.0) -> F64:
        c = self.corners[0]
        return np.asarray(c + (c.mean(axis=0) - c) * inset)

    def grip(self, k: int) -> Locator:
        return self.page.locator(f'[data-outline-point="{k}"]')

    def drag(self, thing: Locator, by: tuple[float, float], key: str | None = None) -> None:
        page = self.page
        x, y = self.centre(thing)
        zoom = (self.screen(100, 0, SIZE)[0] - self.screen(0, 0, SIZE)[0]) / 100
        page.mouse.move(x, y)
        if key:
            page.keyboard.down(key)
        page.mouse.down()
        page.mouse.move(x + by[0] * zoom / 2, y + by[1] * zoom / 2, steps=3)
        page.mouse.move(x + by[0] * zoom, y + by[1] * zoom, steps=3)
        page.mouse.up()
        if key:
            page.keyboard.up(key)

    def first_points(self, key: int = 0) -> list[dict[str, float]]:
        return list(self.plane()["regions"][0]["outline"]["keys"][key]["points"])

    def test_shape_bend_add_and_remove_points(self) -> None:
        page = self.page
        self.outline(self.chart(0.1))
        start = self.first_points()
        self.assertEqual(len(start), 4)
        self.drag(self.grip(0), (-12, -9))
        until(lambda: abs(self.first_points()[0]["x"] - start[0]["x"] + 12) < 1.2, 20, "the point to move")
        self.assertAlmostEqual(self.first_points()[0]["y"], start[0]["y"] - 9, delta=1.2)
        # Ctrl-drag pulls out both handles of a curve, mirrored.
        self.drag(self.grip(1), (20, 14), key="Control")
        until(lambda: self.first_points()[1]["out_x"] != 0, 20, "the corner to become a curve")
        p = self.first_points()[1]
        self.assertAlmostEqual(p["out_x"], 20, delta=1.5)
        self.assertEqual((p["in_x"], p["in_y"]), (-p["out_x"], -p["out_y"]))
        self.assertAlmostEqual(p["x"], start[1]["x"], delta=0.01)
        # A point on a side: in the middle of what is drawn, so nothing changes its form but the count.
        page.get_by_label("Add a point here").nth(2).click(force=True)
        until(lambda: len(self.first_points()) == 5, 20, "the new point")
        new = self.first_points()[3]
        self.assertAlmostEqual(new["x"], (start[2]["x"] + start[3]["x"]) / 2, delta=0.1)
        self.grip(3).focus()
        page.keyboard.press("Delete")
        until(lambda: len(self.first_points()) == 4, 20, "the point to go")
        self.grip(1).dblclick()
        until(lambda: self.first_points()[1]["out_x"] == 0, 20, "the curve to be a corner again")
        for _ in range(5):
            page.keyboard.press("Control+z")
        until(lambda: self.first_points() == start, 20, "undo of all of it")
        for _ in range(5):
            page.keyboard.press("Control+Shift+z")
        until(lambda: abs(self.first_points()[0]["x"] - start[0]["x"] + 12) < 1.2, 20, "redo")

    def test_a_region_is_keyed_and_rides_on_another_motion(self) -> None:
        page = self.page
        self.outline(self.chart())
        self.outline(self.chart(0.6), ignore=True)
        self.assertFalse(self.plane()["regions"][1]["use"])
        # On the screen and keyed: it moves between its two keys.
        self.choose("What Ignore rides on", "Nothing (the screen)")
        page.get_by_role("button", name="Key the shape of Ignore here").click()
        self.go_to(20)
        page.get_by_role("button", name="Key the shape of Ignore here").click()
        until(lambda: len(self.plane()["regions"][1]["outline"]["keys"]) == 2, 20, "the second key")
        self.drag(self.grip(0), (40, 0))

        def keys() -> list[dict[str, Any]]:
            return list(self.plane()["regions"][1]["outline"]["keys"])

        until(lambda: keys()[1]["points"][0]["x"] - keys()[0]["points"][0]["x"] > 35, 20, "the key's own shape")
        self.assertEqual([k["frame"] for k in keys()], [0, 20])
        moved = keys()[1]["points"][0]["x"] - keys()[0]["points"][0]["x"]
        self.go_to(10)
        x = self.centre(self.grip(0))[0]
        half = self.screen(keys()[0]["points"][0]["x"] + moved / 2, keys()[0]["points"][0]["y"], SIZE)
        self.assertAlmostEqual(x, half[0], delta=1.5)
        # Then it rides on another motion: the grip goes along with a point that was followed.
        self.go_to(0)
        page.get_by_role("button", name="Key the shape of Ignore here").click()
        until(lambda: len(keys()) == 1, 20, "the key to go")
        page.keyboard.press("Escape")
        page.keyboard.press("Escape")
        page.keyboard.press("n")
        page.mouse.click(*self.screen(*self.chart()[0], SIZE))
        self.measure()
        page.get_by_role("button", name="Plane Plane").click()
        page.get_by_role("button", name="Ignore", exact=True).nth(1).click()
        self.choose("What Ignore rides on", "Point motion")
        until(lambda: self.plane()["regions"][1]["follow"].startswith("motion:"), 20, "the ride")

        def grip_at(frame: int) -> F64:
            self.go_to(frame)
            at = self.box(self.grip(0))
            return np.array([at["x"], at["y"]])

        start = grip_at(0)
        zoom = (self.screen(100, 0, SIZE)[0] - self.screen(0, 0, SIZE)[0]) / 100
        true = (self.corners[4, 0] - self.corners[0, 0]) * zoom
        until(lambda: bool(np.abs(grip_at(4) - start - true).max() < 1.0), 20, f"the grip to go along by {true}")

    def test_gap_onion_stop_and_files(self) -> None:
        page = self.page
        self.outline(self.chart(0.02))
        self.measure()
        first = self.plane()["measurement"]
        card = page.get_by_role("button", name="Plane Plane")
        expect(card).to_contain_text("lost", timeout=30_000)
        lost = card.inner_text()
        found = re.search(r"lost (\d+)", lost)
        assert found, lost
        # Only the gap: what was known stays as it was, to the bit.
        before = self.download("Plane JSON")
        self.go_to(int(found.group(1)))
        page.get_by_role("button", name="Measure only this gap").click()
        until(lambda: self.plane()["measurement"] != first or self.idle(), 90, "the gap to be measured")
        after = self.download("Plane JSON")
        told = json.loads(before.read_text())["frames"], json.loads(after.read_text())["frames"]
        for a, b in zip(*told, strict=True):
            if a["state"] != "lost":
                self.assertEqual(a["homography"], b["homography"])
        # Onion skin: the far end lies half opaque over this frame.
        self.go_to(2)
        alone = self.canvas_pixels().astype(float)
        page.keyboard.press("u")
        page.wait_for_function("() => document.querySelector('canvas[data-frame]').dataset.onion === '23'")
        both = self.canvas_pixels().astype(float)
        page.keyboard.press("u")
        self.go_to(FRAMES - 1)
        other = self.canvas_pixels().astype(float)
        inner = (slice(60, -60), slice(200, -200))
        mixed = np.abs(both[inner] - (alone[inner] + other[inner]) / 2).mean()
        self.assertLess(mixed, 0.25 * np.abs(both[inner] - alone[inner]).mean())
        # Corners as a table agree with the truth; regions go out and come in as SVG.
        rows = list(csv.DictReader(self.download("Corners CSV").open()))
        self.assertEqual(len(rows), FRAMES)
        quad0 = np.array(self.plane()["quad"])
        np.testing.assert_allclose([[float(rows[0][f"x{k}"]), float(rows[0][f"y{k}"])] for k in range(1, 5)], quad0, atol=0.01)
        svg = self.download("Regions SVG")
        with page.expect_file_chooser() as chooser:
            page.get_by_role("button", name="Regions from an SVG file").click()
        chooser.value.set_files(svg)
        until(lambda: len(self.plane()["regions"]) == 2, 30, "the region to come in")
        a, b = (r["outline"]["keys"][0]["points"] for r in self.plane()["regions"])
        np.testing.assert_allclose([(p["x"], p["y"]) for p in a], [(p["x"], p["y"]) for p in b], atol=0.02)
        # The plane's own file comes in as a motion that is measured already.
        page.get_by_role("button", name="Follow", exact=True).click()
        with page.expect_file_chooser() as chooser:
            page.get_by_role("menuitem", name="From a file").click()
        chooser.value.set_files(after)
        until(lambda: len(self.document()["motions"]) == 2, 30, "the motion to come in")
        self.assertIsNotNone(self.document()["motions"][1]["measurement"])

    def idle(self) -> bool:
        return self.page.get_by_role("button", name="Measure again").is_visible()

    def download(self, label: str) -> Path:
        with self.page.expect_download() as waiting:
            self.page.get_by_role("link", name=label).click()
        target = self.folder / f"{len(list(self.folder.iterdir()))}-{waiting.value.suggested_filename}"
        waiting.value.save_as(target)
        return target

    def test_take_what_the_adviser_suggests(self) -> None:
        page = self.page
        page.keyboard.press("q")
        advice = page.get_by_role("dialog", name="What to follow")
        expect(advice.get_by_text("first choice")).to_be_visible(timeout=60_000)
        # The wall, whether the camera is offered before it or not.
        advice.get_by_role("listitem").filter(has_text="One flat surface").get_by_role("button", name="Use this").click()
        until(lambda: bool(self.document()["motions"]), 20, "the motion")
        made = self.plane()
        outline = np.array([(p["x"], p["y"]) for p in made["regions"][0]["outline"]["keys"][0]["points"]], np.float32)
        self.assertGreater(cv2.contourArea(outline), 0.02 * SIZE[0] * SIZE[1])
        self.measure()
        # What it measured moves as the wall does: its quad goes where the true camera puts it.
        rows = list(csv.DictReader(self.download("Corners CSV").open()))
        seen = [r for r in rows if r["state"] != "lost"]
        self.assertGreater(len(seen), FRAMES * 0.5)
        reference = made["reference_frame"]
        for row in seen:
            moved = quad_homography(self.corners[reference], self.corners[int(row["frame"])])
            assert moved is not None
            found = [(float(row[f"x{k}"]), float(row[f"y{k}"])) for k in range(1, 5)]
            np.testing.assert_allclose(found, carry(np.array(made["quad"]), moved), atol=1.5)
