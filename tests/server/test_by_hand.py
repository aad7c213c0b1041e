"""A camera put right by hand over the API: a measurement of its own, over the untouched solve."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import numpy as np

from library.pool import read_measurement
from plonket.formats.camera_json import write_camera
from plonket.room.alignment import Room
from plonket.room.camera import RoomCamera
from plonket.room.camera_track import CameraTrack
from shots.models import Measurement
from tests.server.test_plate import WithPlate
from tests.server.test_rooms import SIZE, film, room


class ByHand(WithPlate):
    def with_camera(self) -> str:
        shot = self.shot_with_clip(film(self.folder / "room.mp4", room()))
        text = write_camera(room().track(), Fraction(30))
        self.page.json("POST", f"/shots/{shot}/motions/import", {"name": "camera.json", "text": text})
        return shot

    def camera(self, shot: str) -> dict[str, Any]:
        return self.page.json("GET", f"/shots/{shot}")["document"]["motions"][0]  # type: ignore[no-any-return]

    def track(self, digest: str) -> CameraTrack:
        found = read_measurement(digest)
        assert isinstance(found, CameraTrack)
        return found

    def test_it_is_made_with_the_edit_undone_with_it_and_always_from_the_solve(self) -> None:
        shot = self.with_camera()
        solved = self.camera(shot)["measurement"]
        keys = {"keys": [{"frame": 0, "value": 0.0}, {"frame": 10, "value": 0.1}, {"frame": 20, "value": 0.0}]}
        self.edit(shot, {"op": "replace", "path": "/motions/0/aside", "value": keys})
        one = self.camera(shot)
        self.assertEqual(one["solved"], solved)
        self.assertNotEqual(one["measurement"], solved)
        self.assertTrue(Measurement.objects.filter(digest=one["measurement"], kind="camera").exists())
        before, after = self.track(solved), self.track(one["measurement"])
        moved = np.linalg.norm(after.position - before.position, axis=1)
        self.assertAlmostEqual(float(moved[10]), 0.1, places=6)
        self.assertLess(float(moved[[0, 20]].max()), 1e-9)
        # What the browser draws by is the same, and so is what an edit of something else leaves.
        told = self.page.json("GET", f"/measurements/{one['measurement']}")["camera"]["position"]
        np.testing.assert_allclose(np.array(told).reshape(-1, 3), after.position, atol=1e-5)
        self.edit(shot, {"op": "replace", "path": "/motions/0/name", "value": "Other"})
        self.assertEqual(self.camera(shot)["measurement"], one["measurement"])
        self.edit(shot, {"op": "replace", "path": "/motions/0/pan", "value": 1.0})
        twice = self.camera(shot)
        self.assertEqual(twice["solved"], solved)
        self.assertAlmostEqual(float(np.linalg.norm(self.track(twice["measurement"]).position - before.position, axis=1)[10]), 0.1, places=6)
        # In a room twice as large, the same step in metres is half of one as solved.
        self.edit(shot, {"op": "replace", "path": "/motions/0/room/scale", "value": 2.0})
        half = self.track(self.camera(shot)["measurement"])
        self.assertAlmostEqual(float(np.linalg.norm(half.position - before.position, axis=1)[10]), 0.05, places=6)
        for _ in range(4):
            self.page.json("POST", f"/shots/{shot}/undo", {})
        self.assertEqual((self.camera(shot)["measurement"], self.camera(shot)["solved"]), (solved, None))

    def test_as_solved_again_and_nonsense(self) -> None:
        shot = self.with_camera()
        solved = self.camera(shot)["measurement"]
        self.edit(shot, {"op": "replace", "path": "/motions/0/roll", "value": 2.0})
        self.edit(shot, {"op": "replace", "path": "/motions/0/roll", "value": 0.0})
        self.assertEqual((self.camera(shot)["measurement"], self.camera(shot)["solved"]), (solved, None))
        record = self.page.json("GET", f"/shots/{shot}")
        patch = [{"op": "replace", "path": "/motions/0/zoom_by", "value": -100.0}]
        answer = self.page.send("POST", f"/shots/{shot}/edits", {"label": "x", "patch": patch})
        self.assertEqual(answer.status_code, 400)
        self.assertEqual(self.page.json("GET", f"/shots/{shot}")["number"], record["number"])

    def test_a_pulled_detail_lies_where_it_belongs_and_one_step_undoes_it(self) -> None:
        shot = self.with_camera()
        before = self.camera(shot)
        track = self.track(before["measurement"])
        seen = RoomCamera(track, Room())
        k = next(k for k, place in enumerate(track.points) if 40 < seen.project(6, place)[0] < SIZE[0] - 40)
        x, y = (float(v) for v in seen.project(6, track.points[k]))
        body = {"frame": 6, "over": 2, "details": [{"detail": int(track.ids[k]), "x": x + 4, "y": y - 2}]}
        self.page.json("POST", f"/shots/{shot}/motions/{before['id']}/pull", body)
        after = self.camera(shot)
        self.assertEqual(after["solved"], before["measurement"])
        self.assertEqual([key["frame"] for key in after["pan"]["keys"]], [3, 6, 9])
        there = RoomCamera(self.track(after["measurement"]), Room()).project(6, track.points[k])
        np.testing.assert_allclose(there, [x + 4, y - 2], atol=0.02)
        body["details"][0]["detail"] = 10**6
        self.assertIn("details of this camera",
                      self.page.json("POST", f"/shots/{shot}/motions/{before['id']}/pull", body, status=400)["message"])
        self.page.json("POST", f"/shots/{shot}/undo", {})
        self.assertEqual(self.camera(shot), before)
