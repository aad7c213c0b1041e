"""The light of the set in the browser: what is plonked into a solved yard takes its sun by itself."""

from __future__ import annotations

import re
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings
from playwright.sync_api import expect

from library.models import Asset
from library.pool import pool
from plonket.base.colour import linear_of
from plonket.layers.model import FULL_SKY, FULL_SUN
from plonket.lighting.cast_shadows import direction
from plonket.media.write import Coding, VideoWriter
from plonket.room.alignment import Room
from plonket.room.camera_track import CameraTrack
from synth.phone.sets.yard import Daylight, YardTake, yard_take
from tests.browser.stage import BrowserTest, until

SIZE = (512, 288)
LIGHT = Daylight(heading=-120, height=32, soft_deg=2, sun=(0.8, 0.7, 0.52), sky=(0.17, 0.2, 0.27))
CRATE = Path(settings.DEMO) / "shelf" / "cargo-crate.glb"


def take() -> YardTake:
    return yard_take(LIGHT, size=SIZE, frames=24, samples=4)


class Yard(BrowserTest):
    def begin(self) -> None:
        path = self.folder / "yard.mp4"
        with VideoWriter(path, SIZE, Fraction(12), coding=Coding(crf=10)) as out:
            for frame in take().frames:
                out.write(frame)
        self.new_shot()
        self.bring_in(path)
        self.solve_camera()

    def layer(self) -> dict[str, Any]:
        return dict(self.document()["stack"][0])

    def off(self, layer: dict[str, Any]) -> float:
        """Degrees between a model's sun and the true one."""
        motion = self.document()["motions"][0]
        track = pool().measured(motion["measurement"])
        assert isinstance(track, CameraTrack)
        solved = Room.model_validate(motion["room"]).turns(track.rotation)
        u, _, vt = np.linalg.svd(np.einsum("nij,nkj->ik", take().rotation, solved))
        way = u @ vt @ direction(layer["sun_heading"], layer["sun_height"])
        return float(np.degrees(np.arccos(np.clip(way @ LIGHT.way, -1, 1))))

    def test_a_crate_is_lit_by_the_yard_s_sun_and_its_shadow_as_deep_as_one_that_is_pointed_at(self) -> None:
        page = self.page
        self.begin()
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(CRATE)
        until(lambda: Asset.objects.filter(name="cargo-crate", state="ready").exists(), 30, "the crate on the shelf")
        page.get_by_role("dialog").get_by_role("button", name="Plonk cargo-crate").click()
        page.mouse.click(*self.screen(150, 240, SIZE))
        until(lambda: len(self.document()["stack"]) == 1, 20, "the crate")
        # It stands at once, and is lit when the light of the yard is known.
        until(lambda: self.off(self.layer()) < 15, 60, "the crate to be lit as the yard")
        plonked = self.layer()
        motion = self.document()["motions"][0]
        told = pool().set_light(self.document()["footage"]["asset"], motion["measurement"], Room.model_validate(motion["room"]))
        self.assertEqual(told.told, "shadows", told)
        self.assertEqual(plonked["sun_warm"], 0)
        said = page.get_by_test_id("set-light")
        expect(said).to_be_visible()

        # Turned away by hand, one press brings it back; one step undoes that.
        self.type_number("From", 170)
        until(lambda: self.layer()["sun_heading"] == 170, 20, "the sun turned")
        self.caught_up()
        page.get_by_role("button", name="Light it as the set").click()
        until(lambda: self.layer()["sun_heading"] == plonked["sun_heading"], 40, "the set's sun again")
        expect(said).to_have_text(re.compile("shadows"))
        self.caught_up()
        page.get_by_role("button", name="Undo").click()
        until(lambda: self.layer()["sun_heading"] == 170, 20, "undone")
        self.caught_up()
        page.get_by_role("button", name="Redo").click()
        until(lambda: self.layer()["sun_heading"] == plonked["sun_heading"], 20, "done again")

        # A shadow of the yard is pointed at: the post's, on the ground behind it.
        self.caught_up()
        sun = self.layer()["sun"]
        away = LIGHT.way * [1, 0, 1] / np.hypot(*LIGHT.way[[0, 2]])
        shadow = take().solved().project(0, np.array([[0.80, 0.0, -0.3]]) - 0.24 * away)
        page.get_by_role("button", name="Point at a shadow").click()
        page.mouse.click(*self.screen(float(shadow[0, 0]), float(shadow[0, 1]), SIZE))
        until(lambda: self.layer()["sun"] != sun, 20, "a shadow as deep")
        now = self.layer()
        by = FULL_SUN * now["sun"] / 100 * linear_of(now["sun_colour"]) * np.sin(np.radians(now["sun_height"]))
        rest = FULL_SKY * now["sky"] / 100 * linear_of(now["sky_colour"])
        np.testing.assert_allclose(by / (by + rest), LIGHT.missing, atol=0.15)

        # What is seen, continued to all sides, hangs over the room.
        self.caught_up()
        page.get_by_role("button", name="Light map from the footage").click()
        until(lambda: any(one["kind"] == "dome" for one in self.document()["stack"]), 60, "the light map")
