"""Picking in the browser: a click, measured, brought forward, taken out, ignored; movers by one press; a railing before it."""

from __future__ import annotations

import re
from fractions import Fraction
from functools import cache
from pathlib import Path

import cv2
import numpy as np
from playwright.sync_api import expect

from jobs.models import Job
from library.pool import pool
from plonket.base.conventions import U8
from plonket.document.shot import read_shot
from plonket.media.write import Coding, VideoWriter
from plonket.render.frame import render_frame
from plonket.render.sources import ShotSources
from plonket.room.camera_track import CameraTrack
from plonket.track.matte.matte_track import MatteTrack
from tests.browser.stage import BrowserTest, until
from tests.core.photos import photo
from tests.core.test_pick import likeness

SIZE = (480, 272)
FRAMES = 20
BARS = (184, 191), (246, 253)


@cache
def take() -> tuple[list[U8], list[U8], list[U8]]:
    """A figure walks behind two bars before a wall, the camera stands: frames, the same without it, and what it covers."""
    rng = np.random.default_rng(12)
    wall = photo("gravel.png", SIZE).astype(np.float32)
    worn = photo("coffee.png", (120, 160)).astype(np.float32)
    frames, clean, covers = [], [], []
    for k in range(FRAMES):
        cover = np.zeros((SIZE[1], SIZE[0]), np.uint8)
        x, y = 110 + 10 * k, 150
        cv2.ellipse(cover, (x, y), (26, 62), 0, 0, 360, 255, -1, cv2.LINE_AA)
        cv2.circle(cover, (x, y - 78), 20, 255, -1, cv2.LINE_AA)
        placed = cv2.warpAffine(worn, np.array([[1.0, 0, x - 60], [0, 1.3, y - 104]]), SIZE, borderMode=cv2.BORDER_REFLECT)
        share = cover[..., None] / np.float32(255)
        filmed = wall * (1 - share) + placed * share
        without = wall.copy()
        for a, b in BARS:
            filmed[:, a:b] = without[:, a:b] = (60, 120, 96)
            cover[:, a:b] = 0
        frames.append(np.clip(filmed + 1.2 * rng.standard_normal(filmed.shape), 0, 255).astype(np.uint8))
        clean.append(np.clip(without, 0, 255).astype(np.uint8))
        covers.append(cover)
    return frames, clean, covers


class Picking(BrowserTest):
    def tearDown(self) -> None:
        # What is still at work would write into the next test's tables.
        until(lambda: not Job.objects.filter(state__in=Job.OPEN).exists(), 60, "all work to end")
        super().tearDown()

    def clip(self) -> Path:
        path = self.folder / "walk.mp4"
        with VideoWriter(path, SIZE, Fraction(20), coding=Coding(crf=10)) as out:
            for frame in take()[0]:
                out.write(frame)
        return path

    def begin(self) -> None:
        self.new_shot()
        self.bring_in(self.clip())

    def follow_a_matte(self) -> None:
        self.page.get_by_role("button", name="Follow", exact=True).click()
        self.page.get_by_role("menuitem", name=re.compile("^A matte")).click()

    def measured(self) -> MatteTrack:
        until(lambda: self.document()["motions"][0]["measurement"] is not None, 90, "the matte to be measured")
        track = pool().measured(self.document()["motions"][0]["measurement"])
        assert isinstance(track, MatteTrack)
        return track

    def plate(self, frame: int) -> U8:
        """The mended plate of the shot as it is stored."""
        shot = read_shot(self.document())
        return render_frame(shot, ShotSources(shot, pool()), frame)

    def test_one_click_is_measured_cut_by_the_railing_and_put_before_things(self) -> None:
        page = self.page
        self.begin()
        self.follow_a_matte()
        x, y = self.screen(110, 150, SIZE)
        page.mouse.click(x, y)
        matte = page.get_by_test_id("matte")
        expect(matte).to_have_attribute("data-says", "clicked")
        expect(page.get_by_text("As clicked: measure it")).to_be_visible()
        # One thing it is not, taken back by a press on its mark.
        page.keyboard.down("Alt")
        page.mouse.click(*self.screen(400, 60, SIZE))
        page.keyboard.up("Alt")
        until(lambda: len(self.document()["motions"][0]["clicks"]) == 2, 20, "the second click")
        self.assertFalse(self.document()["motions"][0]["clicks"][1]["subject"])
        self.caught_up()
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Click on what it is not: take this click away").click()
        until(lambda: len(self.document()["motions"][0]["clicks"]) == 1, 20, "it to be gone")
        self.caught_up()
        page.get_by_role("button", name="Measure", exact=True).click()
        track = self.measured()
        _, _, covers = take()
        for frame in (0, 5, 10, 15, 19):
            alpha = track.alpha(frame)
            assert alpha is not None, frame
            self.assertGreater(likeness(alpha / np.float32(255), covers[frame] / np.float32(255)), 0.8, frame)
            if frame == 10:
                for a, b in BARS:
                    self.assertLess(float((alpha[60:200, a + 2 : b - 2] > 127).mean()), 0.25)
        expect(page.get_by_role("button", name="Measure again")).to_be_visible()
        self.go_to(7)
        expect(matte).to_have_attribute("data-frame", "7")
        expect(matte).to_have_attribute("data-says", "measured")

        page.get_by_role("button", name="Bring it forward").click()
        until(lambda: len(self.document()["stack"]) == 1, 20, "the layer")
        layer = self.document()["stack"][0]
        self.assertEqual((layer["kind"], layer["key"]["kind"]), ("plate", "picked"))
        expect(page.get_by_role("heading", name="Key")).to_be_visible()

        # A matte is a mask, too, of whatever has masks.
        page.get_by_role("button", name="Picked", exact=True).click()
        until(lambda: len(self.document()["stack"][0]["masks"]) == 1, 20, "the mask")
        self.type_number("Wider by", 5)
        until(lambda: self.document()["stack"][0]["masks"][0]["grow"] == 5, 20, "it to be wider")
        # And an outline with points to drag, in its place.
        page.get_by_role("button", name="Draw round it").click()
        until(lambda: len(self.document()["stack"][0]["masks"]) > 1, 30, "the outline")
        masks = self.document()["stack"][0]["masks"]
        self.assertEqual(([m["kind"] for m in masks][1], masks[0]["shown"]), ("outline", False))

        # A camera follows details on who walks, too, until his matte is ignored.
        page.get_by_role("button", name="Follow", exact=True).click()
        page.get_by_role("menuitem", name=re.compile("^The camera")).click()
        until(lambda: len(self.document()["motions"]) == 2, 20, "the camera")
        self.caught_up()
        page.get_by_role("button", name="Measure", exact=True).click()
        first = self.camera_measured(None)
        self.assertGreater(self.on_him(first), 20)
        page.get_by_role("checkbox", name=self.document()["motions"][0]["name"]).click()
        until(lambda: self.document()["motions"][1]["ignored"] == [self.document()["motions"][0]["id"]], 20, "it to be ignored")
        self.caught_up()
        known = self.document()["motions"][1]["measurement"]
        page.get_by_role("button", name="Measure again", exact=True).click()
        again = self.camera_measured(known)
        self.assertTrue(again.locked)
        self.assertLess(self.on_him(again), 0.1 * self.on_him(first))

    def camera_measured(self, known: str | None) -> CameraTrack:
        """What is measured of the camera, once it is another measurement than the known one."""
        until(lambda: self.document()["motions"][1]["measurement"] not in (None, known), 120, "the camera to be measured")
        track = pool().measured(self.document()["motions"][1]["measurement"])
        assert isinstance(track, CameraTrack)
        return track

    def on_him(self, track: CameraTrack) -> int:
        """How often a detail was followed on who walks, well inside of him."""
        found = 0
        for frame, cover in enumerate(take()[2]):
            inside = cv2.erode(cover, np.ones((9, 9), np.uint8)) > 127
            at = track.xy[:, frame][np.isfinite(track.xy[:, frame, 0])].astype(int)
            found += int(inside[np.clip(at[:, 1], 0, SIZE[1] - 1), np.clip(at[:, 0], 0, SIZE[0] - 1)].sum())
        return found

    def test_it_is_taken_out_and_nothing_of_it_is_left(self) -> None:
        page = self.page
        self.begin()
        self.go_to(10)
        self.follow_a_matte()
        a, b = self.screen(160, 40, SIZE), self.screen(260, 225, SIZE)
        page.mouse.move(*a)
        page.mouse.down()
        page.mouse.move(*b, steps=5)
        page.mouse.up()
        until(lambda: len(self.document()["motions"]) == 1, 20, "the matte")
        self.assertEqual(self.document()["motions"][0]["boxes"][0]["frame"], 10)
        expect(page.get_by_test_id("matte")).to_have_attribute("data-says", "clicked")
        page.get_by_role("button", name="Measure", exact=True).click()
        self.measured()
        page.get_by_role("button", name="Take it out").click()
        until(lambda: len(self.document()["plate"]) == 1, 20, "the mend")
        _, clean, covers = take()
        for frame in (3, 10, 16):
            found = self.plate(frame).astype(np.float32)
            hole = cv2.dilate(covers[frame], np.ones((9, 9), np.uint8)) > 0
            off = cv2.blur(found - clean[frame].astype(np.float32), (7, 7))[hole]
            self.assertLess(float(np.abs(off).mean()), 2, frame)

    def test_movers_are_offered_and_taken_out_by_one_press(self) -> None:
        page = self.page
        self.begin()
        page.get_by_role("button", name="Follow", exact=True).click()
        page.get_by_role("menuitem", name="What would be good?").click()
        page.get_by_role("button", name="Take mover 1 out").click()
        until(lambda: len(self.document()["motions"]) == 1 and len(self.document()["plate"]) == 1, 60, "the mover's mend")
        track = self.measured()
        middle = track.alpha(10)
        assert middle is not None
        self.assertGreater(likeness(middle / np.float32(255), take()[2][10] / np.float32(255)), 0.7)
        expect(page.get_by_role("button", name="Measure again")).to_be_visible()
        # One step takes the matte and what was done by it back.
        self.caught_up()
        page.get_by_role("button", name="Undo").click()
        until(lambda: self.document()["motions"][0]["measurement"] is None, 20, "the measuring undone")
        self.caught_up()
        page.get_by_role("button", name="Undo").click()
        until(lambda: not self.document()["motions"] and not self.document()["plate"], 20, "both gone")
