"""A solved camera put right by hand in the browser: a key on one frame, its cost, its curve, and back."""

from __future__ import annotations

from uuid import UUID

import numpy as np
from playwright.sync_api import expect

from library.pool import read_measurement
from plonket.document.shot import Shot as Document
from plonket.room.alignment import Room
from plonket.room.camera import RoomCamera
from plonket.room.camera_track import CameraTrack
from plonket_server import store
from shots.editing import change_shot
from shots.models import Measurement
from tests.browser.filmed_room import FilmedRoom, room
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

    def see_details(self) -> None:
        """A file says where details are, not where each was seen: as if it had been measured."""
        digest = store.keep_measurement(room().track().at_moments(np.arange(float(FRAMES))).to_bytes())
        Measurement.objects.get_or_create(digest=digest, defaults={"kind": CameraTrack.KIND, "summary": {}})

        def change(document: Document) -> Document:
            seen = document.motions[0].model_copy(update={"measurement": digest})
            return document.model_copy(update={"motions": [seen]})

        change_shot(UUID(self.page.url.rsplit("/", 1)[1]), "Details", change)
        until(lambda: self.motion()["measurement"] == digest, 20, "the details")

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

    def test_a_detail_is_pulled_to_where_it_belongs(self) -> None:
        page = self.page
        self.begin(FRAMES)
        self.see_details()
        solved, name = self.motion()["measurement"], str(self.motion()["name"])
        self.open_at(AT, name)
        page.get_by_role("switch", name="Pull details").click()
        expect(page.get_by_text("Pick a detail on the picture")).to_be_visible()
        self.type_number("Fades over", 0)
        mark = page.locator('[data-detail][data-trust="good"]').nth(12)
        number = int(mark.get_attribute("data-detail") or -1)
        mark.click()
        cross = page.get_by_role("button", name="Where the camera puts this detail")
        x, y = self.reached(cross)
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 10, y - 4, steps=4)
        page.mouse.move(x + 24, y - 8, steps=4)
        page.mouse.up()
        until(lambda: self.motion()["solved"] == solved, 20, "the camera to be put right")
        made, before = self.track(self.motion()["measurement"]), self.track(solved)
        place = before.points[int(np.flatnonzero(before.ids == number)[0])]
        moved = [RoomCamera(track, Room()).project(AT, place) for track in (before, made)]
        step = moved[1] - moved[0]
        self.assertGreater(float(step[0]), 3)
        self.assertAlmostEqual(float(step[1] / step[0]), -1 / 3, delta=0.08)
        turned = np.abs(made.rotation - before.rotation).max(axis=(1, 2)) > 1e-9
        self.assertEqual(np.flatnonzero(turned).tolist(), [AT], "this frame alone")
        # By the arrow keys it goes on from there, and one step takes it back.
        measured = self.motion()["measurement"]
        self.caught_up()
        cross.focus()
        page.keyboard.press("ArrowRight")
        until(lambda: self.motion()["measurement"] != measured, 20, "the arrow key")
        on = RoomCamera(self.track(self.motion()["measurement"]), Room()).project(AT, place) - moved[1]
        np.testing.assert_allclose(on, [1, 0], atol=0.05)
        self.caught_up()
        page.keyboard.press("Escape")
        page.keyboard.press("Control+z")
        until(lambda: self.motion()["measurement"] == measured, 20, "undo")
