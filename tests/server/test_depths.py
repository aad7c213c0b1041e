"""Depth over the API: measured, shown, gone by, and gone with its camera."""

from __future__ import annotations

import io
import json
import zipfile
from fractions import Fraction
from typing import Any

import cv2
import numpy as np

from jobs.models import Job
from library.pool import pool
from plonket.base.conventions import U8
from plonket.depth.shown import COLOURS
from plonket.formats.camera_json import write_camera
from plonket.track.depth.depth_track import DepthTrack
from tests.server.test_plate import WithPlate
from tests.server.test_rooms import FRAMES, SIZE, film, room

FIRST, LAST = 10, 12


class Depths(WithPlate):
    def with_depth(self) -> str:
        """A shot of the room with its true camera, and its depth measured on three frames."""
        shot = self.shot_with_clip(film(self.folder / "room.mp4", room()))
        text = write_camera(room().track(), Fraction(30))
        self.page.json("POST", f"/shots/{shot}/motions/import", {"name": "camera.json", "text": text})
        camera = self.page.json("GET", f"/shots/{shot}")["document"]["motions"][0]["id"]
        depth = {"kind": "depth", "id": "depth", "name": "Depth", "camera": camera, "quality": "quick"}
        self.edit(shot, {"op": "add", "path": "/motions/-", "value": depth},
                  {"op": "replace", "path": "/footage/in_frame", "value": FIRST},
                  {"op": "replace", "path": "/footage/out_frame", "value": LAST})  # fmt: skip
        job = Job.objects.get(pk=self.page.json("POST", f"/shots/{shot}/motions/depth/measure", {})["id"])
        self.assertEqual(job.state, "done", job.message)
        return shot

    def seen(self, shot: str, frame: int) -> tuple[U8, dict[str, Any]]:
        answer = self.page.get(f"/shots/{shot}/motions/depth/depths/{frame}.png")
        self.assertEqual(answer.status_code, 200)
        picture = cv2.imdecode(np.frombuffer(answer.content, np.uint8), cv2.IMREAD_UNCHANGED)
        assert picture is not None
        return np.asarray(picture, np.uint8), json.loads(answer["X-Plonket-Depth"])

    def test_it_is_measured_shown_and_goes_by_the_room(self) -> None:
        shot = self.with_depth()
        motions = self.page.json("GET", f"/shots/{shot}")["document"]["motions"]
        track = pool().measured(motions[1]["measurement"])
        assert isinstance(track, DepthTrack)
        self.assertEqual(list(np.flatnonzero(track.known())), [10, 11, 12])
        told, true = track.depth(11), room().depth(11)
        assert told is not None
        self.assertLess(float(np.median(np.abs(told[told > 0] / true[told > 0] - 1))), 0.006)

        picture, says = self.seen(shot, 11)
        self.assertEqual((picture.shape, says["how"], says["colours"]), ((SIZE[1], SIZE[0], 4), "measured", list(COLOURS)))
        self.assertTrue(float(np.percentile(true, 0.2)) < says["near"] < float(np.percentile(true, 10)))
        self.assertTrue(float(np.percentile(true, 90)) < says["far"] < 1.05 * float(true.max()))
        bright = picture[..., :3].astype(float).sum(axis=2)
        near, far = (true < np.percentile(true, 5)) & (told > 0), (true > np.percentile(true, 95)) & (told > 0)
        self.assertGreater(float(np.median(bright[near])), float(np.median(bright[far])) + 200)
        self.assertEqual(self.seen(shot, 3)[1]["how"], "none")
        self.assertEqual(int(self.seen(shot, 3)[0][..., 3].max()), 0)
        self.page.json("GET", f"/shots/{shot}/motions/depth/depths/{FRAMES}.png", status=404)
        # In a room of another size it is as much farther.
        self.edit(shot, {"op": "replace", "path": "/motions/0/room/scale", "value": 2.0})
        self.assertAlmostEqual(self.seen(shot, 11)[1]["far"] / says["far"], 2, delta=1e-3)
        # Another way to measure it is another depth; what there is is shown as old.
        self.edit(shot, {"op": "replace", "path": "/motions/1/quality", "value": "good"})
        self.assertEqual(self.seen(shot, 11)[1]["how"], "old")
        answer = self.page.get(f"/shots/{shot}/motions/depth/export/depths.zip")
        with zipfile.ZipFile(io.BytesIO(answer.content)) as archive:
            self.assertEqual(len(archive.namelist()), FRAMES)
        camera = motions[0]["id"]
        gone = self.page.json("POST", f"/shots/{shot}/operations", {"operation": {"do": "remove", "thing": camera}})
        self.assertEqual(gone["shot"]["document"]["motions"], [])

    def test_it_is_a_cloud_in_the_room_where_things_are_in_their_colours(self) -> None:
        shot = self.with_depth()
        address = f"/shots/{shot}/motions/depth/cloud"

        def cloud() -> tuple[np.ndarray, np.ndarray]:
            data = self.page.get(address).content
            n = int(np.frombuffer(data[:4], "<u4")[0])
            self.assertEqual(len(data), 4 + 15 * n)
            return np.frombuffer(data, "<f4", 3 * n, 4).reshape(n, 3), np.frombuffer(data, np.uint8, 3 * n, 4 + 12 * n).reshape(n, 3)

        places, colours = cloud()
        self.assertGreater(len(places), 3000)
        # Every one of them lies where the frame shows it, at the depth and in the colour that it has there.
        pixels = room().pixels(places.astype(np.float64))[11]
        inside = ((pixels > 2) & (pixels < np.array(SIZE) - 3)).all(axis=1)
        self.assertGreater(float(inside.mean()), 0.9)
        x, y = pixels[inside].astype(int).T
        true = room().depth(11)[y, x]
        position, rotation = room().poses()
        own = -((places[inside] - position[11]) @ rotation[11])[:, 2]
        self.assertLess(float(np.median(np.abs(own / true - 1))), 0.01)
        shown = room().frames[11][y, x].astype(float)
        self.assertLess(float(np.median(np.abs(colours[inside] - shown))), 12)
        # In a room of another size it is as much larger; of another camera's depth nothing is told.
        self.edit(shot, {"op": "replace", "path": "/motions/0/room/scale", "value": 2.0})
        self.assertAlmostEqual(float(np.ptp(cloud()[0], axis=0).max() / np.ptp(places, axis=0).max()), 2, delta=0.05)
        self.edit(shot, {"op": "replace", "path": "/motions/1/quality", "value": "good"})
        self.assertEqual(len(cloud()[0]), 0)
        self.page.json("GET", f"/shots/{shot}/motions/none/cloud", status=400)

    def test_a_picture_in_the_room_goes_behind_a_crate_unless_it_is_not_to(self) -> None:
        shot = self.with_depth()
        camera = self.page.json("GET", f"/shots/{shot}")["document"]["motions"][0]["id"]
        spot = {"kind": "spot", "x": -0.34, "y": 0.15, "z": -0.1, "pixel_mm": 1.0}
        wall = {"id": "wall", "name": "Wall", "spot": spot, "follow": {"target": camera, "perspective": True}}
        noise = {"kind": "generated", "id": "noise", "name": "Texture", "follow": {"target": "wall", "perspective": True},
                 "generator": {"kind": "texture", "dark_cover": 100.0, "light_cover": 100.0}}  # fmt: skip
        self.edit(shot, {"op": "add", "path": "/perches/-", "value": wall}, {"op": "add", "path": "/stack/-", "value": noise})
        behind = self.picture(shot, "matte", 11)
        self.edit(shot, {"op": "replace", "path": "/stack/0/follow/hidden", "value": False})
        before = self.picture(shot, "matte", 11)
        true = room().depth(11)
        crate = cv2.erode(((true < 1.25) & (before.mean(axis=2) > 200)).astype(np.uint8), np.ones((9, 9), np.uint8)) > 0
        self.assertGreater(int(crate.sum()), 300)
        self.assertLess(float(np.median(behind[crate])), 3)
        self.assertLess(float(behind[crate].mean()), 40)
        self.edit(shot, {"op": "replace", "path": "/stack/0/follow/hidden", "value": True},
                  {"op": "replace", "path": "/motions/1/hides", "value": False})  # fmt: skip
        np.testing.assert_array_equal(self.picture(shot, "matte", 11), before)

    def test_what_is_taken_out_is_borrowed_by_it(self) -> None:
        shot = self.with_depth()
        box = [{"x": x, "y": y} for x, y in ((150, 90), (200, 90), (200, 150), (150, 150))]
        mask = {"kind": "outline", "id": "mask", "name": "Mask", "rides": "footage", "outline": {"keys": [{"frame": 0, "points": box}]}}
        self.edit(shot, {"op": "add", "path": "/plate/-", "value": {"kind": "mend", "id": "mend", "name": "M", "masks": [mask]}})
        self.page.json("POST", f"/shots/{shot}/ahead", {})
        told = self.page.json("GET", f"/shots/{shot}/ahead")
        self.assertEqual(told["done"], LAST - FIRST + 1)
        self.assertIn("by the measured depth of the footage", told["says"])
        by_depth = self.picture(shot, "final", 11)
        # Without it, it is another picture.
        self.page.json("POST", f"/shots/{shot}/operations", {"operation": {"do": "remove", "thing": "depth"}})
        other = self.picture(shot, "final", 11)
        self.page.json("POST", f"/shots/{shot}/ahead", {})
        self.assertIn("Measure the depth of the footage", self.page.json("GET", f"/shots/{shot}/ahead")["says"])
        self.assertGreater(int((by_depth != other).any(axis=2)[95:145, 155:195].sum()), 50)
        np.testing.assert_array_equal(by_depth[:40], other[:40])

    def test_without_a_measured_camera_it_says_so(self) -> None:
        shot = self.shot_with_clip(film(self.folder / "room.mp4", room()))
        self.edit(shot, {"op": "add", "path": "/motions/-", "value": {"kind": "camera", "id": "cam", "name": "Camera"}},
                  {"op": "add", "path": "/motions/-", "value": {"kind": "depth", "id": "depth", "name": "D", "camera": "cam"}})  # fmt: skip
        job = Job.objects.get(pk=self.page.json("POST", f"/shots/{shot}/motions/depth/measure", {})["id"])
        self.assertEqual(job.state, "failed")
        self.assertIn("camera is not measured yet", job.message)
        self.assertEqual(self.seen(shot, 0)[1]["how"], "none")
