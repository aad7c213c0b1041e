"""A box tugged on to a crate in a hand, followed, and a lit cabin in its place: by hand in the browser, against the truth."""

from __future__ import annotations

from fractions import Fraction
from functools import cache
from typing import Any

import cv2
import numpy as np
from playwright.sync_api import expect

from library.models import Asset
from library.pool import pool
from plonket.base.conventions import F64
from plonket.media import open_clip
from plonket.media.clip import ArrayClip
from plonket.room.alignment import Room
from plonket.room.camera import RoomCamera
from plonket.room.camera_track import CameraTrack
from plonket.track.form.fit import FormPose, focal_of
from plonket.track.form.settings import FormMotion
from synth.elements.lights import window_light
from synth.elements.models import little_cabin
from synth.phone.take import Recording, frame_times, write_recording
from tests.browser.stage import BrowserTest, until
from tests.core.test_form import BOX, CORNERS, FOCAL, SIZE, filmed, stood, swim

FRAMES = 8


def poses() -> list[Any]:
    """A crate that is carried and turned a little."""
    t = np.linspace(0, 1, FRAMES)
    return [stood(-30 + 26 * k, 24 + 3 * np.sin(5 * k), 0.04 * np.sin(4 * k), 0.02 * np.cos(7 * k), 0.95) for k in t]


@cache
def clip() -> ArrayClip:
    return filmed(poses())


class Crate(BrowserTest):
    def form(self) -> dict[str, Any]:
        return dict(self.document()["motions"][0])

    def begin(self) -> None:
        path = self.folder / "crate.mp4"
        recording = Recording(rate=Fraction(30), frames=FRAMES, crf=10, sound=False)
        write_recording(path, iter(clip().frames), frame_times(recording), SIZE, recording)
        self.new_shot()
        self.bring_in(path)
        page = self.page
        page.get_by_role("button", name="Follow", exact=True).click()
        page.get_by_role("menuitem", name="A thing, by its form").click()
        expect(page.get_by_test_id("form-handles")).to_be_visible()
        expect(page.get_by_role("button", name="Measure", exact=True)).to_be_disabled()

    def true(self, frame: int, corner: tuple[float, float, float]) -> F64:
        return np.asarray(poses()[frame].seen(np.array([corner]) * BOX, FOCAL, SIZE)[0])

    def drag(self, corner: tuple[float, float, float], frame: int) -> None:
        """A corner of the form from where it is drawn to where the crate's is seen."""
        page = self.page
        name = ",".join(f"{v:g}" for v in corner)
        handle = page.locator(f'[data-corner-at="{name}"]')
        form = FormMotion.model_validate(self.form())
        at = FormPose.of(form.stakes[0].pose).seen(np.array([corner]) * form.size, focal_of(form, SIZE), SIZE)[0]

        def drawn() -> bool:
            x, y = (float(handle.get_attribute(k) or -1e4) for k in ("data-x", "data-y"))
            return bool(np.hypot(*(at - [x, y])) < 0.6)

        # The page shows what the last tug made of the form.
        until(drawn, 20, "the form to be drawn where it is")
        x, y = at
        before = len(self.form()["stakes"][0]["tugs"])
        page.mouse.move(*self.screen(x, y, SIZE))
        page.mouse.down()
        to = self.screen(*self.true(frame, corner), SIZE)
        page.mouse.move(to[0] - 9, to[1] - 6, steps=3)
        page.mouse.move(*to, steps=2)
        expect(page.get_by_test_id("loupe")).to_be_visible()
        page.mouse.up()
        until(lambda: len(self.form()["stakes"][0]["tugs"]) == before + 1, 20, "the tug")
        expect(page.locator(f'[data-tug="{name}"]')).to_have_count(1)

    def test_a_crate_becomes_a_lit_cabin(self) -> None:
        page = self.page
        self.begin()
        # Six corners that are seen, dragged in the picture: lens and proportions are told by them.
        for k in (7, 6, 5, 3, 2, 4):
            self.drag(CORNERS[k], 0)
        self.type_number("Height", BOX[1])
        until(lambda: abs(self.form()["tall"] - BOX[1]) < 1e-6 and abs(self.form()["wide"] - BOX[0]) < 0.02, 20, "the size")
        page.get_by_role("button", name="Measure", exact=True).click()
        until(lambda: self.form()["measurement"] is not None, 90, "the form to be followed")
        track = pool().measured(self.form()["measurement"])
        assert isinstance(track, CameraTrack)
        self.assertTrue(track.known().all())
        self.assertLess(float(swim(track, poses()).mean()), 2.0)
        # A second stake on the last frame: one corner put right by hand.
        self.go_to(FRAMES - 1)
        name = ",".join(f"{v:g}" for v in CORNERS[7])
        page.locator(f'[data-corner-at="{name}"]').focus()
        page.keyboard.press("Alt+ArrowRight")
        until(lambda: len(self.form()["stakes"]) == 2, 20, "a stake on the last frame")
        self.caught_up()
        page.keyboard.press("Control+z")
        until(lambda: len(self.form()["stakes"]) == 1, 20, "the stake to be undone")
        self.go_to(0)

        # The cabin on the crate's place, and light from a map.
        (self.folder / "cabin.glb").write_bytes(little_cabin())
        cv2.imwrite(str(self.folder / "window.hdr"), np.ascontiguousarray(window_light()[..., ::-1]))
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files([self.folder / "cabin.glb", self.folder / "window.hdr"])
        until(lambda: Asset.objects.filter(name__in=("cabin", "window"), state="ready").count() == 2, 30, "the shelf")
        page.get_by_role("dialog").get_by_role("button", name="Plonk window").click()
        until(lambda: [layer["kind"] for layer in self.document()["stack"]] == ["dome"], 20, "the light map")
        self.caught_up()
        page.keyboard.press("p")
        page.get_by_role("dialog").get_by_role("button", name="Plonk cabin").click()
        foot = poses()[0].seen(np.zeros((1, 3)), FOCAL, SIZE)[0]
        page.mouse.click(*self.screen(*foot, SIZE))
        until(lambda: any(layer["kind"] == "model" for layer in self.document()["stack"]), 20, "the cabin")
        # Its handle lies where the render stands it.
        spot = self.document()["perches"][-1]["spot"]
        camera = RoomCamera(track, Room())
        rendered = self.screen(*camera.project(0, np.array([spot["x"], spot["y"], spot["z"]])), SIZE)
        grip = page.locator('[data-model-grip="move"]')
        expect(grip).to_be_visible()
        middle = self.centre(grip)
        self.assertLess(float(np.hypot(middle[0] - rendered[0], middle[1] - rendered[1])), 1.0)
        self.type_number("Height", 0.24)
        until(lambda: abs(self.document()["stack"][0]["tall"] - 0.24) < 1e-6, 20, "its height")
        # Filmed ahead, with progress, then delivered.
        page.get_by_role("button", name="All frames now").click()
        expect(page.get_by_text("All frames are filmed.")).to_be_visible(timeout=180_000)
        finished = open_clip(self.deliver())
        self.addCleanup(finished.close)
        for frame in (0, FRAMES // 2, FRAMES - 1):
            # Its windows shine where the crate's front was; the wall behind is as it was.
            pose = poses()[frame]
            window = pose.seen(np.array([[0.058, 0.083, 0.098], [-0.058, 0.083, 0.098]]), FOCAL, SIZE)
            rgb = finished.rgb(frame).astype(int)
            plate = clip().rgb(frame).astype(int)
            lit = [float(rgb[int(y) - 1 : int(y) + 2, int(x) - 1 : int(x) + 2, 0].mean()) for x, y in window]
            self.assertGreater(max(lit), 200, frame)
            far = np.abs(rgb - plate).mean(axis=2)[:60]
            self.assertLess(float(far.mean()), 4.0, frame)
        # Without the form nothing stands in its room any more, and undo brings all back.
        page.keyboard.press("Escape")
        expect(page.get_by_role("dialog")).to_have_count(0)
        page.get_by_role("button", name="Form", exact=False).first.click()
        page.get_by_role("button", name="Remove Form").click()
        until(lambda: not self.document()["motions"] and self.document()["perches"][-1]["spot"] is None, 20, "the form to go")
        self.caught_up()
        page.keyboard.press("Control+z")
        until(lambda: len(self.document()["motions"]) == 1 and self.document()["perches"][-1]["spot"], 20, "undo")
