"""From a phone clip to a delivered shot with something stuck to it, by hand in the browser."""

from __future__ import annotations

import csv
import itertools
import unittest
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np
from django.conf import settings
from playwright.sync_api import expect

from demo_project.management.commands.load_demo import load_demo
from plonket.base.conventions import F64
from plonket.media import open_clip, probe
from plonket.media.sound import read_sound
from synth.phone.quickset import chart_shot
from synth.phone.take import Recording, frame_times, write_recording
from tests.browser.stage import BrowserTest
from tests.core.clips import clap_sample

FLASH_S = 0.612


def magenta_disc(path: Path) -> Path:
    """A still that occurs nowhere in the footage, so that it can be found again."""
    y, x = np.mgrid[0:61, 0:61]
    alpha = np.clip(26.5 - np.hypot(x - 30, y - 30), 0, 1)
    picture = np.dstack([np.full((61, 61), 255), np.zeros((61, 61)), np.full((61, 61), 255), alpha * 255])
    cv2.imwrite(str(path), picture.astype(np.uint8))
    return path


def disc_centre(rgb: np.ndarray) -> F64:
    """Centre of the magenta disc in a picture, in pixels."""
    v = rgb.astype(np.float64)
    weight = np.clip((np.minimum(v[..., 0], v[..., 2]) - v[..., 1] - 40) / 120, 0, 1)
    y, x = np.mgrid[0 : rgb.shape[0], 0 : rgb.shape[1]] + 0.5
    assert weight.sum() > 40, "the disc is not in the picture"
    return np.array([(x * weight).sum(), (y * weight).sum()]) / weight.sum()


def worst(path: Path, truth: F64) -> float:
    """Largest distance of the disc from the truth over all frames."""
    clip = open_clip(path)
    return max(float(np.hypot(*(disc_centre(clip.rgb(i)) - truth[i]))) for i in range(clip.info.frames))


class OnOwnClip(BrowserTest):
    """An uneven, rotated phone clip made in the test."""

    FRAMES = 45
    SIZE = (640, 360)

    def film(self) -> tuple[Path, F64]:
        recording = Recording(rate=Fraction(30), frames=self.FRAMES, jitter_s=0.001, rotation=90, crf=16, clap_at=FLASH_S)
        when = frame_times(recording)

        def flash(t: float) -> float:
            return 2.2 if 0 <= t - FLASH_S < 0.04 else 1.0

        shot = chart_shot(frames=self.FRAMES, light=flash)
        path = self.folder / "chart take.mp4"
        write_recording(path, iter(shot.frames), when, self.SIZE, recording)
        return path, shot.on_chart(0.72, 0.70)

    def test_the_whole_job(self) -> None:
        clip, truth = self.film()
        page = self.page
        self.new_shot()
        self.bring_in(clip)
        expect(page.get_by_text("360p · 30 · 45 fr")).to_be_visible()

        # Follow: set a point by clicking, on frame 10, and watch the track come in.
        self.go_to(10)
        page.keyboard.press("n")
        page.mouse.click(*self.screen(*truth[10], self.SIZE))
        handle = page.locator("[data-point]")
        expect(handle).to_have_attribute("data-state", "3")
        # Zoom in and put it on the pixel with the loupe open, as one does.
        at = self.centre(page.locator('[data-point="point-1"]'))
        page.mouse.move(*at)
        page.mouse.down()
        page.mouse.move(at[0] + 12, at[1] + 9, steps=3)
        expect(page.get_by_test_id("loupe")).to_be_visible()
        page.mouse.move(*self.screen(*truth[10], self.SIZE), steps=3)
        page.mouse.up()
        expect(page.get_by_test_id("loupe")).to_be_hidden()
        given = np.array([float(handle.get_attribute(f"data-{k}") or 0) for k in "xy"])
        self.assertLess(np.hypot(*(given - truth[10])), 1.5)
        for _ in range(20):  # the arrow keys take care of the rest
            off = truth[10] - np.array([float(handle.get_attribute(f"data-{k}") or 0) for k in "xy"])
            k = int(np.argmax(np.abs(off)))
            if abs(off[k]) < 0.06:
                break
            before = handle.get_attribute(f"data-{'xy'[k]}")
            page.keyboard.press("Alt+" + (("ArrowRight", "ArrowLeft"), ("ArrowDown", "ArrowUp"))[k][int(off[k] < 0)])
            expect(handle).not_to_have_attribute(f"data-{'xy'[k]}", before or "")
        page.get_by_role("button", name="Measure", exact=True).click()
        expect(page.get_by_text("holds")).to_be_visible(timeout=60_000)
        expect(page.get_by_role("button", name="Measure again")).to_be_visible()
        self.go_to(40)
        measured = np.array([float(handle.get_attribute(f"data-{k}") or 0) for k in "xy"])
        self.assertLess(np.hypot(*(measured - truth[40])), 0.3)

        # Plonk a still of one's own by clicking in the picture, then put it right with its handles.
        self.go_to(20)
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(magenta_disc(self.folder / "disc.png"))
        page.get_by_role("button", name="Plonk disc").click()
        x, y = self.screen(*truth[20], self.SIZE)
        page.mouse.click(x - 60, y + 40)
        layer = page.get_by_role("button", name="Move disc", exact=True)
        expect(layer).to_be_visible()
        expect(page.get_by_role("combobox", name="Motion it follows")).to_contain_text("Point motion")
        centre = self.centre(page.get_by_test_id("layer-centre"))
        page.mouse.move(*centre)
        page.mouse.down()
        page.mouse.move(x, y, steps=5)
        page.mouse.up()
        expect(page.get_by_text("Saved · step")).to_be_visible()
        self.type_number("Place x", round(float(truth[20, 0]), 2))
        self.type_number("Place y", round(float(truth[20, 1]), 2))
        self.type_number("Size", 60)
        undo = page.get_by_role("button", name="Undo", exact=True)
        expect(undo).to_have_attribute("title", "Undo: Size of disc (Ctrl Z)")

        # Check: wipe, flick, plate, undo and redo, all across a reload.
        page.get_by_role("button", name="Wipe", exact=True).click()
        expect(page.get_by_role("slider", name="Wipe between the untouched clip and the shot")).to_be_visible()
        page.keyboard.press("w")
        page.get_by_role("button", name="Flick ends").click()
        self.shown(0)
        page.get_by_role("button", name="Flick ends").click()
        self.shown(self.FRAMES - 1)
        page.keyboard.press("Control+z")
        expect(undo).not_to_have_attribute("title", "Undo: Size of disc (Ctrl Z)")
        page.reload()
        self.shown(self.FRAMES - 1)
        page.get_by_role("button", name="Redo", exact=True).click()
        expect(undo).to_have_attribute("title", "Undo: Size of disc (Ctrl Z)")

        # The viewer shows the disc where it belongs, pixel for pixel, after scrubbing about.
        for frame in (3, 44, 20):
            self.go_to(frame)
            page.wait_for_function(
                "(f) => document.querySelector('canvas[data-frame]').dataset.url.endsWith('/100/' + f + '.jpg')", arg=frame
            )
            seen = disc_centre(self.canvas_pixels())
            sx, sy = self.screen(*truth[frame], self.SIZE)
            well = self.box(page.get_by_test_id("well"))
            self.assertLess(np.hypot(seen[0] - (sx - well["x"]), seen[1] - (sy - well["y"])), 1.0)

        # Deliver, and look at the file itself.
        path = self.deliver()
        info = probe(path)
        self.assertEqual((info.frames, info.size, info.rate, info.variable), (self.FRAMES, self.SIZE, Fraction(30), False))
        self.assertLess(worst(path, truth), 0.5)
        clip_out = open_clip(path)
        bright = [float(clip_out.rgb(i)[200:].mean()) for i in range(self.FRAMES)]
        flash = int(np.argmax(np.diff(bright))) + 1
        sound = read_sound(path)
        assert sound is not None
        self.assertLess(abs(clap_sample(sound.samples, sound.rate) - flash / 30), 1 / 30)

        # It is kept under Deliveries too.
        page.goto(f"{self.address}/deliveries")
        expect(page.get_by_role("link", name="Download")).to_be_visible()


@unittest.skipUnless((Path(settings.DEMO) / "clips" / "workshop.mp4").exists(), "the demo clips are not here")
class OnDemoClip(BrowserTest):
    """The shipped workshop clip, against the truth beside it."""

    RANGE = 60

    def test_something_stuck_to_the_lamp(self) -> None:
        with (settings.DEMO / "truth" / "workshop" / "points.csv").open() as f:
            rows = [r for r in csv.DictReader(f) if r["name"] == "lamp tip"]
        truth = np.array([[float(r["x"]), float(r["y"])] for r in rows])
        page = self.page
        self.new_shot()
        self.bring_in(settings.DEMO / "clips" / "workshop.mp4")
        # Trim to the frames that matter.
        page.get_by_role("button", name="workshop").click()
        last = page.get_by_role("textbox", name="Last frame")
        last.click()
        last.fill(str(self.RANGE - 1))
        last.press("Enter")
        expect(page.get_by_text(f"720p · 29.97 · {self.RANGE} fr")).to_be_visible()
        page.keyboard.press("n")
        page.mouse.click(*self.screen(*truth[0], (1280, 720)))
        handle = page.locator("[data-point]")
        expect(handle).to_have_attribute("data-state", "3")
        page.keyboard.press("m")
        expect(page.get_by_text("holds")).to_be_visible(timeout=60_000)
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(magenta_disc(self.folder / "disc.png"))
        page.get_by_role("button", name="Plonk disc").click()
        page.mouse.click(*self.screen(*truth[0], (1280, 720)))
        self.type_number("Place x", round(float(truth[0, 0]), 2))
        self.type_number("Place y", round(float(truth[0, 1]), 2))
        self.type_number("Size", 80)
        path = self.deliver()
        info = probe(path)
        self.assertEqual((info.frames, info.size, info.rate), (self.RANGE, (1280, 720), Fraction(30000, 1001)))
        self.assertLess(worst(path, truth), 0.5)
        clip = open_clip(path)
        bright = [float(clip.rgb(i)[:, 700:].mean()) for i in range(self.RANGE)]
        flash = int(np.argmax(np.diff(bright))) + 1
        sound = read_sound(path)
        assert sound is not None
        self.assertLess(abs(clap_sample(sound.samples, sound.rate) - flash * 1001 / 30000), 1001 / 30000)


class Around(BrowserTest):
    """Pages, keys, themes, and what happens when something is wrong."""

    def test_demo_project_opens_measured_and_composed(self) -> None:
        load_demo()
        page = self.page
        page.goto(self.address)
        page.get_by_role("button", name="Open Chart wall, take 3").click()
        self.shown(0)
        expect(page.get_by_text("holds")).to_have_count(2)
        expect(page.get_by_role("button", name="Paper boat Still Chart tacks")).to_be_visible()
        final = self.canvas_pixels().astype(int)
        page.get_by_role("radio", name="Plate").click()
        page.wait_for_function("() => document.querySelector('canvas[data-frame]').dataset.url.includes('/plate/')")
        plate = self.canvas_pixels().astype(int)
        changed = np.abs(final - plate).max(axis=2) > 24
        self.assertTrue(0.0005 < changed.mean() < 0.05, changed.mean())
        page.get_by_role("radio", name="Matte").click()
        page.wait_for_function("() => document.querySelector('canvas[data-frame]').dataset.url.includes('/matte/')")
        page.keyboard.press("?")
        expect(page.get_by_role("dialog", name="Keys")).to_be_visible()
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Dim room").click()
        self.assertEqual(page.evaluate("document.documentElement.dataset.theme"), "dim")
        # Playing shows frame after frame, in order, and none that does not belong.
        page.get_by_role("radio", name="Final").click()
        page.get_by_role("button", name="Play").click()
        seen: list[int] = []
        for _ in range(200):
            seen.append(int(page.get_by_test_id("frame-number").inner_text()))
            if seen[-1] > 100:
                break
            page.wait_for_timeout(50)
        page.get_by_role("button", name="Pause").click()
        # On a slow machine the end may come before a look at a late frame, and the range begins anew.
        returns = [(a, b) for a, b in itertools.pairwise(seen) if b < a]
        self.assertTrue(all(b < 12 and a > 30 for a, b in returns), seen)
        self.assertGreater(len(set(seen)), 4)

    def test_a_file_that_is_no_clip_says_why(self) -> None:
        self.new_shot()
        words = self.folder / "words.mp4"
        words.write_text("only words")
        self.page.get_by_label("Clip to bring in").set_input_files(words)
        expect(self.page.get_by_text("words.mp4 cannot be read")).to_be_visible()
        expect(self.page.get_by_text("Bring in a clip").first).to_be_visible()

    def test_a_flat_spot_is_told_and_a_better_one_offered(self) -> None:
        from tests.core.clips import phone_clip

        self.new_shot()
        self.bring_in(phone_clip(self.folder / "n.mp4", frames=12))
        self.page.keyboard.press("n")
        self.page.mouse.click(*self.screen(150, 128, (320, 180)))
        expect(self.page.get_by_text("The picture is flat here")).to_be_visible()
        self.page.get_by_role("button", name="Move it there").click()
        handle = self.page.locator("[data-point]")
        expect(handle).not_to_have_attribute("data-x", "150.000")
        x, y = (float(handle.get_attribute(f"data-{k}") or 0) for k in "xy")
        self.assertLess(min(np.hypot(x - cx, y - cy) for cx in (40, 120) for cy in (100, 150)), 8)
