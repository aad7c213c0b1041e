"""A surface followed, something pinned to it, checked, put right and delivered, by hand in the browser."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np
from playwright.sync_api import Locator, expect

from demo_project.management.commands.load_demo import load_demo
from plonket.base.conventions import F64, U8
from plonket.media import open_clip, probe
from synth.phone.quickset import QuickShot, chart_shot, quad
from synth.phone.take import Recording, frame_times, write_recording
from tests.browser.stage import BrowserTest, until
from tests.core.shots import chart_corners

SIZE = (640, 360)
FRAMES = 36
SPOTS = ((0.15, 0.18), (0.85, 0.18), (0.85, 0.82), (0.15, 0.82))


def marked_still(path: Path) -> Path:
    """A dark picture in the chart's shape with a magenta disc near each corner."""
    picture = np.full((420, 600, 4), 255, np.uint8)
    picture[..., :3] = 25
    for u, v in SPOTS:
        cv2.circle(picture, (round(u * 600 * 16) - 8, round(v * 420 * 16) - 8), 34 * 16, (255, 0, 255, 255), -1, cv2.LINE_AA, 4)
    cv2.imwrite(str(path), picture)
    return path


def discs(rgb: U8, near: F64) -> F64:
    """Centres (4, 2) of the magenta discs, each looked for round its expected place."""
    v = rgb.astype(np.float64)
    weight = np.clip((np.minimum(v[..., 0], v[..., 2]) - v[..., 1] - 60) / 120, 0, 1)
    y, x = np.mgrid[0 : rgb.shape[0], 0 : rgb.shape[1]] + 0.5
    out = []
    for spot in near:
        close = weight * (np.hypot(x - spot[0], y - spot[1]) < 40)
        assert close.sum() > 60, "a disc is not in the picture"
        out.append([(x * close).sum() / close.sum(), (y * close).sum() / close.sum()])
    return np.array(out)


def place(handle: Locator) -> F64:
    return np.array([float(handle.get_attribute(f"data-{k}") or 0) for k in "xy"])


class SeaChartReplaced(BrowserTest):
    def film(self) -> tuple[Path, QuickShot]:
        """The chart on the wall; a board passes before all of it for some frames."""

        def board(t: float) -> F64:
            return quad((-2.2 + 4.4 * t / 1.2, 0.0, 0.2), 0.85, 0.9)

        recording = Recording(rate=Fraction(30), frames=FRAMES, crf=14, sound=True, clap_at=0.3)
        shot = chart_shot(frames=FRAMES, hand=board, light=lambda t: 1.0 + 0.2 * t)
        path = self.folder / "wall.mp4"
        write_recording(path, iter(shot.frames), frame_times(recording), SIZE, recording)
        return path, shot

    def put(self, corner: int, at: F64) -> None:
        """Drag a corner grip to a picture pixel with the loupe open, then nudge it with the keys."""
        page = self.page
        grip = page.locator(f'[data-corner="{corner}"]')
        box, before = self.box(grip), place(grip)
        page.mouse.move(box["x"] + 8, box["y"] + 8)
        page.mouse.down()
        page.mouse.move(box["x"] + 20, box["y"] + 16, steps=3)
        expect(page.get_by_test_id("loupe")).to_be_visible()
        # A grip may stand beside its corner: what counts is how far it is dragged.
        there, here = self.screen(*at, SIZE), self.screen(*before, SIZE)
        page.mouse.move(box["x"] + 8 + there[0] - here[0], box["y"] + 8 + there[1] - here[1], steps=4)
        page.mouse.up()
        expect(page.get_by_test_id("loupe")).to_be_hidden()
        until(lambda: self.settled(grip), 30, "the drag to be stored")
        off = at - place(grip)
        self.assertLess(np.hypot(*off), 1.8)
        grip.focus()
        for k, keys in enumerate((("ArrowRight", "ArrowLeft"), ("ArrowDown", "ArrowUp"))):
            tenths = round(abs(float(off[k])) * 10)
            for _ in range(tenths // 10):
                page.keyboard.press(keys[int(off[k] < 0)])
            for _ in range(tenths % 10):
                page.keyboard.press("Alt+" + keys[int(off[k] < 0)])
        until(lambda: bool(np.hypot(*(place(grip) - at)) < 0.15), 60, f"corner {corner} to reach {at}")

    def settled(self, grip: Locator) -> bool:
        """Whether all that was asked for is stored and shown: two looks, with a frame of the page in between, agree."""
        before = (
            grip.get_attribute("data-x"),
            grip.get_attribute("data-y"),
            self.page.get_by_text("Saved · step").inner_text(),
        )
        self.page.evaluate("() => fetch('/api/health').then(() => new Promise((done) => setTimeout(done, 250)))")
        after = (grip.get_attribute("data-x"), grip.get_attribute("data-y"), self.page.get_by_text("Saved · step").inner_text())
        return before == after

    def test_the_whole_job(self) -> None:
        path, shot = self.film()
        corners = chart_corners(shot)
        discs_at = np.stack([shot.on_chart(u, v) for u, v in SPOTS], axis=1)
        page = self.page
        self.new_shot()
        self.bring_in(path)

        # Ask what would be good to follow: it is a plane, on the wall.
        page.keyboard.press("q")
        advice = page.get_by_role("dialog", name="What to follow")
        expect(advice.get_by_text("first choice")).to_be_visible(timeout=60_000)
        page.keyboard.press("q")
        expect(advice).to_be_hidden()

        # Outline the chart by clicking round it, and put the quad on it exactly.
        self.go_to(3)
        page.keyboard.press("r")
        for k, nudge in enumerate(((4, 3), (-4, 3), (-4, -3), (4, -3))):
            page.mouse.click(*self.screen(*(corners[3, k] + nudge), SIZE))
        page.keyboard.press("Enter")
        expect(page.locator("[data-quad]")).to_be_visible()
        for k in range(4):
            self.put(k, corners[3, k])
        page.keyboard.press("m")
        expect(page.get_by_role("button", name="Measure again")).to_be_visible(timeout=120_000)
        expect(page.get_by_text("lost ").first).to_be_visible()

        # Pin a picture to it.
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(marked_still(self.folder / "night.png"))
        page.get_by_role("switch", name="Pin to the plane").click()
        page.get_by_role("button", name="Plonk night").click()
        expect(page.get_by_role("combobox", name="Plane it is pinned to")).to_contain_text("Plane")

        # Flick, hold still: the discs stand where they stood on the reference frame.
        page.get_by_role("button", name="Flick ends").click()
        self.shown(0)
        page.get_by_role("button", name="Flick ends").click()
        self.shown(FRAMES - 1)
        page.get_by_role("button", name="Held still").click()
        page.wait_for_function("() => document.querySelector('canvas[data-frame]').dataset.url.includes('/held-')")
        well = self.box(page.get_by_test_id("well"))
        wanted = np.array([np.array(self.screen(*p, SIZE)) - [well["x"], well["y"]] for p in discs_at[3]])
        np.testing.assert_allclose(discs(self.canvas_pixels(), wanted), wanted, atol=0.8)
        page.keyboard.press("h")

        # Slip is measured; while the board is in the way the bridge is off, and one frame is put right by hand.
        page.keyboard.press("c")
        expect(page.get_by_test_id("slip")).to_be_visible(timeout=90_000)
        bad = self.middle_of_lost()
        page.get_by_role("button", name="Plane Plane").click()
        self.go_to(bad)
        for k in range(4):
            self.put(k, corners[bad, k])
        expect(page.get_by_role("button", name=f"Remove the stake at {bad}")).to_be_visible()
        expect(page.get_by_text("all corners")).to_be_visible()

        # Deliver, and look at the file itself.
        out = self.deliver()
        self.assertEqual((probe(out).frames, probe(out).size), (FRAMES, SIZE))
        clip = open_clip(out)
        errors = np.array([np.hypot(*(discs(clip.rgb(i), discs_at[i]) - discs_at[i]).T).max() for i in range(FRAMES)])
        lost = self.lost
        known = np.array([i not in lost for i in range(FRAMES)])
        self.assertLess(float(errors[known].max()), 0.5, np.round(errors, 2))
        self.assertLess(float(errors[bad]), 0.5)

    def middle_of_lost(self) -> int:
        """The middle of the frames on which the plane is lost, as the card says."""
        text = self.page.get_by_text("lost ").first.inner_text().removeprefix("lost ").split(",")[0].strip()
        first, _, last = text.partition("–")
        a, b = int(first), int(last or first)
        self.lost = set(range(a, b + 1))
        self.assertLess(len(self.lost), 14)
        return (a + b) // 2


class Followers(BrowserTest):
    def open_demo(self, name: str) -> None:
        self.page.goto(self.address)
        self.page.get_by_role("button", name=f"Open {name}").click()
        self.shown(0)

    def test_perches_beams_and_lanterns_on_the_demo(self) -> None:
        """A perch on the plane, something on the perch, a beam between two perches; moving one moves what is on it."""
        page = self.page
        load_demo()
        self.open_demo("Night chart on the wall")
        page.get_by_role("button", name="Sea chart Plane").click()
        for x, y in ((500, 250), (800, 260)):
            page.keyboard.press("b")
            page.mouse.click(*self.screen(x, y, (1280, 720)))
            expect(page.get_by_text("Perch: things sit on it")).to_be_visible()
            page.get_by_role("button", name="Sea chart Plane").click()
        expect(page.locator("[data-perch]")).to_have_count(2)
        page.get_by_role("button", name="Perch 2 Perch").click()
        page.keyboard.press("p")
        page.get_by_role("button", name="Plonk Paper boat").click()
        page.mouse.click(*self.screen(600, 400, (1280, 720)))
        expect(page.get_by_role("combobox", name="Motion it follows")).to_contain_text("Perch 2")
        centre = page.get_by_test_id("layer-centre")

        def middle() -> F64:
            return np.array(self.centre(centre))

        on_perch = np.array(self.screen(800, 260, (1280, 720)))
        until(lambda: bool(np.abs(middle() - on_perch).max() < 2.0), 30, "the boat to sit on its perch")
        # Move the perch: the boat goes along.
        page.get_by_role("button", name="Perch 2 Perch").click()
        page.keyboard.press("Shift+ArrowDown")
        expect(page.get_by_text("Place y")).to_be_visible()
        page.get_by_role("button", name="Paper boat Still").click()
        zoom = (self.screen(100, 0, (1280, 720))[0] - self.screen(0, 0, (1280, 720))[0]) / 100
        expect(centre).to_be_visible()
        wanted = on_perch + [0, 10 * zoom]
        until(lambda: bool(np.abs(middle() - wanted).max() < 1.5), 30, "the boat to go along with its perch")
        # A beam between the perches, by two clicks that snap.
        page.keyboard.press("l")
        page.mouse.click(*self.screen(503, 252, (1280, 720)))
        page.mouse.click(*self.screen(797, 273, (1280, 720)))
        expect(page.get_by_text("Perch → Perch 2")).to_be_visible()
        page.wait_for_function("() => document.querySelector('canvas[data-frame]').dataset.url.includes('/final/')")
        # Undo takes the beam away again.
        page.keyboard.press("Control+z")
        expect(page.get_by_text("Perch → Perch 2")).to_be_hidden()

        # The other demo shot: lanterns hang between the keeper's wands.
        self.open_demo("Lanterns for the keeper")
        expect(page.get_by_role("button", name="Lantern string Beam")).to_be_visible()
        final = self.canvas_pixels().astype(int)
        page.get_by_role("radio", name="Plate").click()
        page.wait_for_function("() => document.querySelector('canvas[data-frame]').dataset.url.includes('/plate/')")
        changed = np.abs(final - self.canvas_pixels().astype(int)).max(axis=2) > 40
        self.assertGreater(changed.mean(), 0.005)
