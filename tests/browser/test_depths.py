"""A model put behind what was filmed by hand in the browser, without anything drawn."""

from __future__ import annotations

import re
from fractions import Fraction
from typing import Any

import cv2
import numpy as np
from playwright.sync_api import expect

from library.models import Asset
from library.pool import pool
from plonket.base.conventions import F64
from plonket.track.depth.depth_track import DepthTrack
from synth.elements.models import cargo_crate
from synth.phone.take import Recording, frame_times, write_recording
from tests.browser.filmed_room import SIZE, FilmedRoom, room
from tests.browser.stage import until

FIRST, LAST = 10, 13
AT = 11


class Behind(FilmedRoom):
    def put_range(self) -> None:
        """Only a few frames are looked at."""
        for name, key, frame in (("First", "i", FIRST), ("Last", "o", LAST)):
            self.go_to(frame)
            self.page.keyboard.press(key)
            field = "in_frame" if name == "First" else "out_frame"
            until(lambda f=field, n=frame: self.document()["footage"][f] == n, 20, f"the {name} frame")  # type: ignore[misc]
        self.go_to(AT)

    def follow(self, what: str) -> None:
        self.page.get_by_role("button", name="Follow", exact=True).click()
        self.page.get_by_role("menuitem", name=re.compile(what)).click()

    def crates(self) -> np.ndarray:
        """(h, w) where the crates before the back wall's foot are filmed."""
        true = room().depth(AT)
        return np.asarray(true < 1.3)

    def test_a_crate_stands_behind_one_that_was_filmed(self) -> None:
        page = self.page
        self.begin()
        self.put_range()
        self.follow("^How far things are")
        expect(page.get_by_role("heading", name="Depth", exact=True).first).to_be_visible()
        until(lambda: self.document()["motions"][1]["measurement"] is not None, 90, "depth to be measured")
        view = page.get_by_test_id("depth")
        expect(view).to_have_attribute("data-how", "measured")
        expect(page.get_by_role("img", name=re.compile("^Distances from 0"))).to_be_visible()
        track = pool().measured(self.document()["motions"][1]["measurement"])
        assert isinstance(track, DepthTrack)
        self.assertEqual(list(np.flatnonzero(track.known())), list(range(FIRST, LAST + 1)))
        # Beside the camera's path what was filmed is seen from above and from the side, and can be put away.
        page.get_by_role("navigation", name="Run sheet").get_by_role("button", name="holds").first.click()
        from_above = page.get_by_role("img", name="The room from above")
        expect(from_above).not_to_have_attribute("data-cloud", "0")
        page.get_by_role("switch", name="What was filmed, by its depth").click()
        expect(from_above).to_have_attribute("data-cloud", "0")
        # Asked for again, it is the one that is there.
        self.follow("^How far things are")
        self.caught_up()
        self.assertEqual(len(self.document()["motions"]), 2)

        model = self.folder / "box.glb"
        model.write_bytes(cargo_crate())
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(model)
        until(lambda: Asset.objects.filter(name="box", state="ready").exists(), 30, "the model on the shelf")
        page.get_by_role("dialog").get_by_role("button", name="Plonk box").click()
        page.mouse.click(*self.screen(*self.behind(), SIZE))
        until(lambda: len(self.document()["stack"]) == 1, 20, "the layer")
        self.type_number("Height", 0.3)
        until(lambda: self.document()["stack"][0]["tall"] == 0.3, 20, "the height")
        # Its shadow falls on what was filmed by depth, and on level ground without.
        page.get_by_role("switch", name="Shadow", exact=True).click()
        until(lambda: not self.document()["stack"][0]["shadow"], 20, "no shadow")
        self.caught_up()
        hidden = self.picture()
        # Switched off, it stands before everything; undone, behind again.
        page.get_by_role("switch", name="Hidden by the set").click()
        until(lambda: not self.document()["stack"][0]["follow"]["hidden"], 20, "the switch")
        self.caught_up()
        before = self.picture()
        filmed = self.crates().astype(np.uint8)
        crate, near = (cv2.erode(filmed, np.ones((7, 7), np.uint8)) > 0, cv2.dilate(filmed, np.ones((15, 15), np.uint8)) > 0)
        differs = np.abs(before - hidden).max(axis=2) > 25
        self.assertGreater(int((differs & crate).sum()), 300)
        self.assertLess(int((differs & ~near).sum()), 60)
        page.keyboard.press("Control+z")
        until(lambda: self.document()["stack"][0]["follow"]["hidden"], 20, "undo")
        self.caught_up()
        self.assertLess(float(np.abs(self.picture() - hidden).max()), 3)
        self._a_picture_lies_on_the_wall()

    def _a_picture_lies_on_the_wall(self) -> None:
        """Put on what is upright in the footage, it lies flat there, whichever way that faces."""
        page = self.page
        sign = self.folder / "sign.png"
        cv2.imwrite(str(sign), np.full((60, 90, 3), (40, 40, 220), np.uint8))
        page.keyboard.press("Escape")
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(sign)
        until(lambda: Asset.objects.filter(name="sign", state="ready").exists(), 30, "the picture on the shelf")
        x, y = room().pixels(np.array([[0.2, 0.42, -0.6]]))[AT, 0]
        page.get_by_role("dialog").get_by_role("button", name="Plonk sign").click()
        page.mouse.click(*self.screen(float(x), float(y), SIZE))
        until(lambda: len(self.document()["stack"]) == 2, 20, "the sign")
        layer = next(one for one in self.document()["stack"] if one["kind"] == "still")
        spot = next(p["spot"] for p in self.document()["perches"] if p["id"] == layer["follow"]["target"])
        self.assertEqual((spot["faces"], layer["y"], layer["looks"]), ("still", 0, []))
        self.assertLess(abs(spot["z"] + 0.6), 0.05)
        self.assertLess(abs(spot["heading"]) + abs(spot["tilt"]), 20)
        rgb = self.picture()
        self.assertGreater(rgb[int(y), int(x), 0], rgb[int(y), int(x), 2] + 100, "it is seen, not behind its own wall")
        self._its_halves_come_out_of_the_wall()

    def _its_halves_come_out_of_the_wall(self) -> None:
        """On a hinge, as a card does that is half open; shut flat it is as it was."""
        page = self.page

        def red() -> float:
            rgb = self.picture()
            return float((rgb[..., 0] > rgb[..., 2] + 90).sum())

        def sign() -> dict[str, Any]:
            return next(one for one in self.document()["stack"] if one["kind"] == "still")

        flat = red()
        page.get_by_role("switch", name="Hinged").click()
        until(lambda: sign()["hinged"], 20, "the hinge")
        self.type_number("Folded", 60)
        until(lambda: sign()["fold"] == 60, 20, "the fold")
        self.caught_up()
        # Seen from aside, one half covers more than it did, the other much less.
        self.assertTrue(0.35 < red() / flat < 0.93, red() / flat)
        self.type_number("Folded", 0)
        until(lambda: sign()["fold"] == 0, 20, "flat again")
        self.caught_up()
        self.assertAlmostEqual(red() / flat, 1, delta=0.08)
        self.type_number("Folded", 60)
        until(lambda: sign()["fold"] == 60, 20, "the fold again")
        self.caught_up()
        page.get_by_role("button", name="Key Folded here").click()
        until(lambda: sign()["fold"] not in (0, 60), 20, "a key, to flap by")

    def picture(self) -> F64:
        """What the viewer shows of the frame, in the frame's size (h, w, 3)."""
        well = self.box(self.page.get_by_test_id("well"))
        (x0, y0), (x1, y1) = (self.screen(*at, SIZE) for at in ((0, 0), SIZE))
        shown = self.canvas_pixels()
        part = shown[round(y0 - well["y"]) : round(y1 - well["y"]), round(x0 - well["x"]) : round(x1 - well["x"])]
        return np.asarray(cv2.resize(np.ascontiguousarray(part), SIZE, interpolation=cv2.INTER_AREA), np.float64)

    def behind(self) -> tuple[float, float]:
        """Pixel of the bench behind the crate on the left, beside it."""
        x, y = room().pixels(np.array([[-0.62, 0.0, -0.25]]))[AT, 0]
        return float(x), float(y)

    def test_without_a_camera_it_is_told_what_comes_first(self) -> None:
        recording = Recording(rate=Fraction(30), frames=4, crf=12, sound=False)
        clip = self.folder / "room.mp4"
        write_recording(clip, iter(room().frames[:4]), frame_times(recording), SIZE, recording)
        self.new_shot()
        self.bring_in(clip)
        self.follow("^How far things are")
        expect(self.page.get_by_text("First follow the camera, and measure it")).to_be_visible()

