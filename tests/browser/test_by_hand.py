"""A solved camera put right by hand in the browser: a key on one frame, its cost, its curve, and back."""

from __future__ import annotations

import numpy as np
from playwright.sync_api import expect

from library.pool import read_measurement
from plonket.room.camera_track import CameraTrack
from tests.browser.filmed_room import FilmedRoom
from tests.browser.stage import until

FRAMES, AT = 8, 3


class ByHand(FilmedRoom):
    def motion(self) -> dict[str, object]:
        return self.document()["motions"][0]  # type: ignore[no-any-return]

    def track(self, digest: object) -> CameraTrack:
        found = read_measurement(str(digest))
        assert isinstance(found, CameraTrack)
        return found

    def open_at(self, frame: int, name: str) -> None:
        """What puts the camera right, at a frame; gone to before, for the room's views show it too."""
        self.go_to(frame)
        self.page.get_by_role("navigation", name="Run sheet").get_by_role("button", name=name).first.click()
        self.page.get_by_text("Put right by hand").click()

    def test_a_camera_key_is_put_right(self) -> None:
        page = self.page
        self.begin(FRAMES)
        solved = self.motion()["measurement"]
        name = str(self.motion()["name"])
        self.open_at(AT, name)
        page.get_by_role("button", name="Key Aside here").click()
        until(lambda: isinstance(self.motion()["aside"], dict), 20, "the key")
        self.assertEqual(self.motion()["measurement"], solved, "a key of nothing changes nothing")
        page.keyboard.press("Escape")
        self.open_at(AT + 1, name)
        self.type_number("Aside", 0.05)
        until(lambda: self.motion()["solved"] == solved, 20, "the camera to be put right")
        moved = np.linalg.norm(self.track(self.motion()["measurement"]).position - self.track(solved).position, axis=1)
        np.testing.assert_allclose(moved[: AT + 1], 0, atol=1e-9)
        np.testing.assert_allclose(moved[AT + 1 :], 0.05, atol=1e-6)
        expect(page.get_by_test_id("cost")).to_contain_text("as solved by")
        # Its keys are curves under its path.
        self.caught_up()
        page.keyboard.press("x")
        expect(page.get_by_role("img", name=f"Path of {name} over time")).to_be_visible()
        expect(page.get_by_label(f"Key curves of {name}")).to_be_visible()
        page.get_by_role("button", name="As solved again").click()
        until(lambda: self.motion()["solved"] is None, 20, "the solve again")
        self.assertEqual(self.motion()["measurement"], solved)
        self.caught_up()
        page.keyboard.press("Control+z")
        until(lambda: self.motion()["solved"] == solved, 20, "undo")
