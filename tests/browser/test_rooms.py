"""A room solved, put straight and stood in, by hand in the browser; the delivered file against the truth."""

from __future__ import annotations

import unittest
from fractions import Fraction
from functools import cache
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from django.conf import settings
from playwright.sync_api import expect

from library.models import Asset
from library.pool import pool
from plonket.base.conventions import F64
from plonket.document.spot import Spot
from plonket.media import open_clip
from plonket.room.alignment import Room
from plonket.room.camera import RoomCamera, spot_path
from plonket.room.camera_track import CameraTrack
from synth.elements.models import brass_whale
from synth.phone.quickroom import RoomShot, room_shot
from synth.phone.take import Recording, frame_times, write_recording
from tests.browser.stage import BrowserTest, until
from tests.core.test_steady import write

SIZE = (640, 360)
FRAMES = 36
CLIPS = Path(settings.DEMO) / "clips"


@cache
def room() -> RoomShot:
    return room_shot("orbit", frames=FRAMES, samples=2, shake=0.6)


class Bench(BrowserTest):
    def camera(self) -> RoomCamera:
        motion = self.document()["motions"][0]
        found = pool().measured(motion["measurement"])
        assert isinstance(found, CameraTrack)
        return RoomCamera(found, Room.model_validate(motion["room"]))

    def begin(self) -> None:
        recording = Recording(rate=Fraction(30), frames=FRAMES, crf=12, sound=False)
        path = self.folder / "bench.mp4"
        write_recording(path, iter(room().frames), frame_times(recording), SIZE, recording)
        self.new_shot()
        self.bring_in(path)
        self.solve_camera()

    def alone(self, low: float, high: float) -> list[int]:
        """Rows of details so high above the bench, seen in frame 0 with nothing near them."""
        track = self.camera().track
        seen = np.isfinite(track.xy[:, 0, 0])
        height = self.camera().room.points(track.points)[:, 1]
        found = []
        for k in np.flatnonzero(track.kept & seen & (height > low) & (height < high)):
            away = np.hypot(*(track.xy[seen, 0] - track.xy[k, 0]).T)
            if np.sort(away)[1] > 12 and 20 < track.xy[k, 0, 0] < 620 and 20 < track.xy[k, 0, 1] < 340:
                found.append(int(k))
        self.assertGreater(len(found), 5)
        return found

    def bench_details(self) -> list[int]:
        """Three rows of details of the bench: left, right and in front."""
        track, alone = self.camera().track, self.alone(-0.012, 0.012)
        at = track.xy[alone, 0]
        rows = [alone[int(np.argmin(at[:, 0]))], alone[int(np.argmax(at[:, 0]))]]
        rest = [k for k in alone if k not in rows]
        rows.append(rest[int(np.argmax(track.xy[rest, 0, 1]))])
        return rows

    def pick(self, rows: list[int]) -> None:
        track = self.camera().track
        for n, k in enumerate(rows):
            x, y = track.xy[k, 0]
            if n:
                self.page.keyboard.down("Shift")
            self.page.mouse.click(*self.screen(float(x), float(y), SIZE))
            self.page.keyboard.up("Shift")
            expect(self.page.locator(f'[data-detail="{track.ids[k]}"]')).to_have_attribute("aria-pressed", "true")

    def on_bench(self, pixel: tuple[float, float]) -> F64:
        """The true place of the bench that is seen at a pixel of frame 0."""
        position, rotation = room().camera.pose(float(room().times[0]))
        w, h = SIZE
        way = rotation @ np.array([pixel[0] - w / 2, -(pixel[1] - h / 2), -room().camera.focal_px])
        return position - way * position[1] / way[1]

    def test_the_ground_is_set_and_something_stands_on_it_and_stays(self) -> None:
        page = self.page
        self.begin()
        rows = self.bench_details()
        self.pick(rows)
        page.get_by_role("button", name="Ground through these").click()
        expect(page.get_by_test_id("ground")).to_be_visible()
        track = self.camera().track
        places = self.camera().room.points(track.points[rows])
        np.testing.assert_allclose(places[:, 1], 0, atol=1e-9)
        # A true distance between two of them: the room is as large as the bench.
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Camera").first.click()
        self.pick(rows[:2])
        a, b = (self.on_bench((float(x), float(y))) for x, y in track.xy[rows[:2], 0])
        true = float(np.linalg.norm(a - b))
        box = page.get_by_label("Truly apart", exact=True)
        box.click()
        box.fill(f"{true:.4f}")
        box.press("Enter")
        page.get_by_role("button", name="Set", exact=True).click()

        def apart() -> float:
            return float(np.linalg.norm(np.diff(self.camera().room.points(track.points[rows[:2]]), axis=0)))

        until(lambda: abs(apart() - true) < 1e-3, 20, "the scale")
        height = float(self.camera().room.points(track.position)[0, 1])
        self.assertAlmostEqual(height, float(room().poses()[0][0, 1]), delta=0.02)

        # A picture is plonked where the bench is clicked, and stands there.
        self.disc(self.folder / "disc.png")
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(self.folder / "disc.png")
        until(lambda: Asset.objects.filter(name="disc", state="ready").exists(), 30, "the picture on the shelf")
        page.get_by_role("dialog").get_by_role("button", name="Plonk disc").click()
        spot = (300.0, 300.0)
        page.mouse.click(*self.screen(*spot, SIZE))
        until(lambda: len(self.document()["stack"]) == 1, 20, "the layer")
        perch = self.document()["perches"][0]
        self.assertEqual(perch["spot"]["faces"], "upright")
        self.assertAlmostEqual(perch["spot"]["y"], 0, places=4)
        # Its middle goes down to the spot, so that it can be compared with the truth.
        self.type_number("Place y", 0)
        until(lambda: self.document()["stack"][0]["y"] == 0, 20, "the place")

        # Held still, the room's depth stands; the same key leaves it.
        page.keyboard.press("h")
        held = "() => document.querySelector('canvas[data-frame]').dataset.url.includes('/held-')"
        page.wait_for_function(held)
        still = self.canvas_pixels().astype(float)
        # Not far on: an orbit soon shows other sides.
        self.go_to(3)
        page.wait_for_function(held)
        moved = np.abs(self.canvas_pixels().astype(float) - still).mean()
        page.keyboard.press("h")
        page.wait_for_function("() => document.querySelector('canvas[data-frame]').dataset.url.includes('/final/')")
        free = np.abs(self.canvas_pixels().astype(float) - still).mean()
        self.assertLess(moved, free, "what lies at the details' usual depth holds still")
        self.go_to(0)

        out = open_clip(self.deliver())
        self.addCleanup(out.close)
        world = self.on_bench(spot)
        off = []
        for i in range(FRAMES):
            expected = room().camera.project(float(room().times[i]), world[None])[0]
            off.append(np.linalg.norm(self.red_at(out.rgb(i), expected) - expected))
        # With what the three details themselves are off by.
        self.assertLess(float(np.sqrt(np.mean(np.square(off)))), 0.6)

    def test_a_brass_whale_stands_on_the_bench_with_its_shadow(self) -> None:
        page = self.page
        self.begin()
        path = self.folder / "whale.glb"
        path.write_bytes(brass_whale())
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(path)
        until(lambda: Asset.objects.filter(name="whale", state="ready").exists(), 30, "the model on the shelf")
        before = self.canvas_pixels().astype(float)
        page.get_by_role("dialog").get_by_role("button", name="Plonk whale").click()
        page.mouse.click(*self.screen(430, 300, SIZE))
        until(lambda: len(self.document()["stack"]) == 1, 20, "the layer")
        layer = self.document()["stack"][0]
        self.assertEqual(layer["kind"], "model")
        self.assertAlmostEqual(self.document()["perches"][0]["spot"]["y"], 0, places=4)
        well = self.box(page.get_by_test_id("well"))

        def changed() -> F64:
            """(h, w) how much the picture differs from what it was."""
            return np.abs(self.canvas_pixels().astype(float) - before).max(axis=2)

        until(lambda: int((changed() > 40).sum()) > 1500, 90, "the whale to be seen")
        foot = page.locator('[data-model-grip="move"]')
        where = self.box(foot)
        # It glows like brass above its foot, and beside it the bench is darker than it was.
        seen = self.canvas_pixels().astype(float)
        y, x = int(where["y"] - well["y"]), int(where["x"] - well["x"])
        part = seen[y - 90 : y - 20, x - 70 : x + 80]
        brass = (part[..., 0] > part[..., 2] + 45) & (changed()[y - 90 : y - 20, x - 70 : x + 80] > 40)
        self.assertGreater(int(brass.sum()), 400)
        shade = (before - seen)[y - 20 : y + 30, x + 20 : x + 200].min(axis=2)
        self.assertGreater(int((shade > 12).sum()), 100)

        # Dragged over the ground it goes along; the stalk turns it; a number makes it taller.
        page.mouse.move(where["x"] + 7, where["y"] + 7)
        page.mouse.down()
        page.mouse.move(where["x"] - 100, where["y"] + 7, steps=5)
        page.mouse.up()
        spot = self.document()["perches"][0]["spot"]
        until(lambda: self.document()["perches"][0]["spot"]["x"] < spot["x"] - 0.01, 20, "the whale moved")
        self.assertEqual(self.document()["perches"][0]["spot"]["y"], spot["y"])
        grip = self.box(page.locator('[data-model-grip="turn"]'))
        page.mouse.move(grip["x"] + 7, grip["y"] + 7)
        page.mouse.down()
        page.mouse.move(grip["x"] + 60, grip["y"] - 20, steps=5)
        page.mouse.up()
        until(lambda: abs(self.document()["stack"][0]["heading"]) > 10, 20, "the whale turned")
        self.type_number("Height", 0.1)
        until(lambda: self.document()["stack"][0]["tall"] == 0.1, 20, "the height")
        self.caught_up()
        page.keyboard.press("Control+z")
        until(lambda: self.document()["stack"][0]["tall"] == layer["tall"], 20, "undo")
        self._the_sun_is_pulled_round(layer)
        self._another_stands_on_what_is_really_there()

    def _the_sun_is_pulled_round(self, layer: dict[str, Any]) -> None:
        page = self.page
        sun = page.get_by_role("button", name="Turn the sun on whale")
        x, y = self.centre(sun)
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 60, y + 6, steps=6)
        page.mouse.up()
        until(lambda: self.document()["stack"][0]["sun_heading"] > layer["sun_heading"] + 20, 20, "the sun to go right")
        # It lies where it was let go.
        self.assertLess(np.hypot(*np.subtract(self.centre(sun), (x + 60, y + 6))), 2)
        height = self.document()["stack"][0]["sun_height"]
        sun.focus()
        page.keyboard.press("Shift+ArrowUp")
        until(lambda: abs(self.document()["stack"][0]["sun_height"] - min(90, height + 10)) < 0.2, 20, "the sun to rise")
        for _ in range(2):
            page.keyboard.press("Control+z")
        until(lambda: self.document()["stack"][0]["sun_heading"] == layer["sun_heading"], 20, "undo")

    def _another_stands_on_what_is_really_there(self) -> None:
        page = self.page
        page.get_by_role("button", name="Plonk", exact=True).first.click()
        page.get_by_role("menuitem", name="What is really there").click()
        page.mouse.click(*self.screen(220, 290, SIZE))
        until(lambda: self.document()["stack"][0]["kind"] == "form", 20, "the form")
        form = self.document()["stack"][0]
        # It is chosen, which lays the tool down: only then is the next one taken up.
        expect(page.get_by_role("textbox", name="Name", exact=True)).to_have_value(form["name"], timeout=60_000)
        spot = Spot.model_validate(self.document()["perches"][-1]["spot"])
        top = self.camera().project(0, spot.place(0) + [0, form["tall"], 0])
        page.keyboard.press("p")
        page.get_by_role("dialog").get_by_role("button", name="Plonk whale").click()
        page.mouse.click(*self.screen(float(top[0]), float(top[1]), SIZE))
        until(lambda: self.document()["stack"][0]["kind"] == "model", 20, "the second whale")
        self.assertAlmostEqual(self.document()["stack"][0]["lift"], form["tall"], delta=1e-3)
        self.assertEqual(self.document()["perches"][-1]["spot"]["y"], 0, "its spot stays on the ground")
        # It is drawn where it was put, and lit by the first one's sun.
        grip = page.locator('[data-model-grip="move"]')
        at = self.screen(float(top[0]), float(top[1]), SIZE)
        self.assertLess(np.hypot(*np.subtract(self.centre(grip), at)), 1.5)
        expect(page.get_by_role("button", name="Turn the sun on whale", exact=True)).to_be_visible()
        # With Ctrl it goes down on to the bench, and up on to the form again.
        down = self.screen(520, 320, SIZE)
        for start, end, lift in ((at, down, 0.0), (None, at, form["tall"])):
            page.mouse.move(*(start or self.centre(grip)))
            page.keyboard.down("Control")
            page.mouse.down()
            page.mouse.move(end[0] - 6, end[1] - 4, steps=4)
            page.mouse.move(*end, steps=2)
            page.mouse.up()
            page.keyboard.up("Control")
            until(lambda wanted=lift: abs(self.document()["stack"][0]["lift"] - wanted) < 2e-3, 20, f"a lift of {lift}")  # type: ignore[misc]
            self.assertLess(abs(self.document()["perches"][-1]["spot"]["y"]), 0.03)

    @unittest.skipUnless((CLIPS / "keeper.mp4").exists(), "the demo clips are not here")
    def test_the_keyed_keeper_stands_on_the_bench_and_stays(self) -> None:
        page = self.page
        self.begin()
        clip = open_clip(CLIPS / "keeper.mp4")
        self.addCleanup(clip.close)
        keeper = write(self.folder / "keeper.mp4", [clip.rgb(40)] * 3, crf=6)
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(keeper)
        until(lambda: Asset.objects.filter(name="keeper", state="ready").exists(), 60, "the keeper to be conformed")
        page.get_by_role("dialog").get_by_role("button", name="Plonk keeper").click()
        spot = (330.0, 300.0)
        page.mouse.click(*self.screen(*spot, SIZE))
        until(lambda: len(self.document()["stack"]) == 1, 20, "the layer")
        perch = self.document()["perches"][0]
        self.assertEqual((perch["spot"]["faces"], perch["follow"]["target"]), ("upright", self.document()["motions"][0]["id"]))
        self.choose("Key", "Screen")
        until(lambda: self.document()["stack"][0]["key"] is not None, 20, "the key")
        # The tape crosses on the cloth go, being small and by themselves.
        self.type_number("Marks off", 90)
        until(lambda: self.document()["stack"][0]["key"]["lone"] == 90, 20, "the marks to go")
        out = open_clip(self.deliver())
        self.addCleanup(out.close)
        path = spot_path(self.camera(), Spot.model_validate(perch["spot"]))
        stands = []
        for i in range(0, FRAMES, 5):
            shot = self.stored()
            assert shot.current
            answer = page.request.get(f"{self.address}/api/frames/{shot.id}/{shot.current.picture}/matte/100/{i}.jpg")
            matte = cv2.imdecode(np.frombuffer(answer.body(), np.uint8), cv2.IMREAD_GRAYSCALE)
            ys, xs = np.nonzero(matte > 127)
            self.assertGreater(len(ys), 900, i)
            # He is seen where his matte is, and nothing of the cloth came with him.
            plate, rgb = room().frames[i].astype(int), out.rgb(i).astype(int)
            self.assertGreater(float((np.abs(rgb - plate).max(axis=2)[matte > 127] > 25).mean()), 0.6, i)
            green = rgb[..., 1] - np.maximum(rgb[..., 0], rgb[..., 2])
            self.assertLess(int((green[matte > 127] > 30).sum()), 0.01 * len(ys), i)
            # Where his middle is on the standee: the room's own path of the spot leads from there to the frame.
            middle = np.array([xs.mean() + 0.5, ys.mean() + 0.5, 1.0])
            on = np.linalg.solve(path[i], middle)
            stands.append(on[:2] / on[2])
        # In every frame it is the same place of him: he stands where he was put.
        off = np.array(stands) - np.mean(stands, axis=0)
        pixel = np.sqrt(abs(np.linalg.det(path[0][:2, :2] / path[0][2, 2])))
        self.assertLess(float(np.sqrt((off**2).sum(axis=1).mean()) * pixel), 1.5, off.tolist())

    def test_the_worst_details_go_with_one_press_and_come_back(self) -> None:
        page = self.page
        self.begin()
        first = self.camera().track
        page.get_by_role("button", name="Set aside the worst").click()
        until(lambda: len(self.document()["motions"][0]["set_aside"]) > 2, 20, "the worst to be set aside")
        until(lambda: self.camera().track.mean_error_px < first.mean_error_px, 60, "a better fit")
        aside = self.document()["motions"][0]["set_aside"]
        again = self.camera().track
        self.assertFalse(again.kept[np.isin(again.ids, aside)].any())
        np.testing.assert_array_equal(again.ids, first.ids)
        expect(page.get_by_text("set aside by hand")).to_be_visible()
        page.keyboard.press("Control+z")
        page.keyboard.press("Control+z")
        until(lambda: self.document()["motions"][0]["set_aside"] == [], 20, "undo")
        # A box round picked details is what is really there, chosen, with grips; one step back it is gone.
        rows = self.alone(0.05, 0.5)
        rows = sorted(rows, key=lambda k: float(np.hypot(*(first.xy[k, 0] - first.xy[rows[0], 0]))))[:4]
        self.pick(rows[:1])
        # All others by a box drawn round them: nothing else is in it but what stands among them.
        at = np.array([self.screen(float(x), float(y), SIZE) for x, y in first.xy[rows, 0]])
        page.keyboard.down("Shift")
        expect(page.get_by_test_id("sweep")).to_be_attached()
        page.mouse.move(*(at.min(axis=0) - 9))
        page.mouse.down()
        page.mouse.move(*(at.max(axis=0) + 9), steps=4)
        page.mouse.up()
        page.keyboard.up("Shift")
        picked = page.locator('[data-detail][aria-pressed="true"]')
        expect(picked.nth(3)).to_be_attached()
        ids = picked.evaluate_all("all => all.map((one) => one.dataset.detail)")
        self.assertLessEqual({str(first.ids[k]) for k in rows}, set(ids))
        page.get_by_role("button", name="Box round these").click()
        until(lambda: [layer["kind"] for layer in self.document()["stack"]] == ["form"], 20, "the box")
        expect(page.locator('[data-model-grip="move"]')).to_be_visible()
        swept = np.isin(first.ids, np.array(ids, int))
        self.assertTrue(first.kept[swept].all(), "only what belongs to the room")
        there = np.array([self.screen(float(x), float(y), SIZE) for x, y in first.xy[swept, 0]])
        self.assertTrue(((there > at.min(axis=0) - 10) & (there < at.max(axis=0) + 10)).all(), "only what lies in the box")
        tops = self.camera().room.points(first.points[swept])[:, 1]
        self.assertAlmostEqual(self.document()["stack"][0]["tall"], float(tops.max()), delta=1e-3)
        page.keyboard.press("Control+z")
        until(lambda: not self.document()["stack"], 20, "undo")
        page.get_by_role("button", name="Camera").first.click()
        # A part that is not looked at is drawn on the picture.
        page.get_by_role("button", name="Ignore", exact=True).click()
        page.mouse.move(*self.screen(80, 60, SIZE))
        page.mouse.down()
        page.mouse.move(*self.screen(260, 330, SIZE), steps=4)
        page.mouse.up()
        until(lambda: len(self.document()["motions"][0]["regions"]) == 1, 20, "the region")
        page.get_by_role("button", name="Measure again").click()
        until(lambda: self.camera().track.followed != first.followed, 120, "another measurement")
        at = self.camera().track.xy[:, 5]
        inside = (at[:, 0] > 84) & (at[:, 0] < 256) & (at[:, 1] > 64) & (at[:, 1] < 326)
        self.assertEqual(int(inside.sum()), 0)
        views = page.locator("[data-room-view]")
        expect(views).to_have_count(2)
        expect(views.first).to_have_attribute("data-frame", "0")

    def disc(self, path: Path) -> None:
        picture = np.zeros((120, 120, 4), np.uint8)
        cv2.circle(picture, (60 * 16 - 8, 60 * 16 - 8), 40 * 16, (255, 0, 255, 255), -1, cv2.LINE_AA, 4)
        cv2.imwrite(str(path), picture)

    def red_at(self, rgb: np.ndarray, near: F64) -> F64:
        """Middle of what is magenta round a place."""
        v = rgb.astype(np.float64)
        weight = np.clip((np.minimum(v[..., 0], v[..., 2]) - v[..., 1] - 60) / 120, 0, 1)
        y, x = np.mgrid[0 : rgb.shape[0], 0 : rgb.shape[1]] + 0.5
        weight = weight * (np.hypot(x - near[0], y - near[1]) < 60)
        self.assertGreater(weight.sum(), 60)
        return np.array([(x * weight).sum(), (y * weight).sum()]) / weight.sum()
