"""Forms tugged into place and followed over the API, objects from points, light maps, and slow layers worked out ahead."""

from __future__ import annotations

from fractions import Fraction
from functools import cache
from pathlib import Path

import cv2
import numpy as np

from jobs.models import Job
from library.pool import pool
from plonket.media.clip import ArrayClip
from plonket.room.camera_track import CameraTrack
from plonket.track.form.fit import FormPose
from plonket.track.form.measure import stood_in
from plonket.track.form.settings import Pose
from synth.elements.models import cargo_crate
from synth.phone.take import Recording, frame_times, write_recording
from tests.core.test_form import BOX, CORNERS, FOCAL, SIZE, filmed, swim, tugs_of, turning
from tests.server.test_plate import WithPlate

FRAMES = 16


@cache
def crate_clip() -> ArrayClip:
    return filmed(turning(FRAMES))


class WithCrate(WithPlate):
    def crate(self) -> str:
        """A shot of a crate in a hand."""
        path = self.folder / "crate.mp4"
        recording = Recording(rate=Fraction(30), frames=FRAMES, crf=10, sound=False)
        write_recording(path, iter(crate_clip().frames), frame_times(recording), SIZE, recording)
        return self.shot_with_clip(path)

    def file(self, name: str, data: bytes) -> Path:
        path = self.folder / name
        path.write_bytes(data)
        return path

    def motion(self, shot: str, k: int = 0) -> dict[str, object]:
        return self.page.json("GET", f"/shots/{shot}")["document"]["motions"][k]  # type: ignore[no-any-return]

    def followed(self) -> str:
        """A box tugged on to the crate and followed."""
        shot = self.crate()
        self.page.json("POST", f"/shots/{shot}/forms", {"shape": "box", "frame": 4})
        self.edit(shot, {"op": "replace", "path": "/motions/0/tall", "value": BOX[1]},
                  {"op": "replace", "path": "/motions/0/knows", "value": "pixels"},
                  {"op": "replace", "path": "/motions/0/focal_px", "value": FOCAL})  # fmt: skip
        tugs = [t.model_dump() for t in tugs_of(turning(FRAMES)[4])]
        self.page.json("POST", f"/shots/{shot}/motions/motion-1/tugs", {"frame": 4, "tugs": tugs})
        job = self.page.json("POST", f"/shots/{shot}/motions/motion-1/measure", {})
        self.assertEqual(Job.objects.get(pk=job["id"]).state, "done", Job.objects.get(pk=job["id"]).message)
        # Told frame by frame while it was followed: where it stands before the camera.
        rows = [r for e in self.page.json("GET", f"/jobs/{job['id']}/partial") for r in e["rows"]]
        self.assertEqual({int(r[0]) for r in rows}, set(range(FRAMES)) - {4})
        for row in rows:
            seen = FormPose.of(Pose(place=row[4:7], turn=row[7:])).seen(np.array(CORNERS) * BOX, FOCAL, SIZE)
            self.assertLess(float(np.abs(seen - turning(FRAMES)[int(row[0])].seen(np.array(CORNERS) * BOX, FOCAL, SIZE)).max()), 2.0)
        return shot


class Forms(WithCrate):
    def test_a_box_is_tugged_on_to_a_crate_followed_and_stood_on(self) -> None:
        shot = self.followed()
        motion = self.motion(shot)
        self.assertAlmostEqual(float(motion["wide"]), BOX[0], delta=0.004)  # type: ignore[arg-type]
        track = pool().measured(str(motion["measurement"]))
        assert isinstance(track, CameraTrack)
        self.assertTrue(track.known().all())
        self.assertLess(float(swim(track, turning(FRAMES)).mean()), 0.3)
        told = self.page.json("GET", f"/measurements/{motion['measurement']}")["camera"]
        self.assertEqual(told["kind"], "full")
        # A picture on a spot of the form's room lies where the form's top is.
        asset = self.page.upload(self.still())["Plonket-Asset"]
        follow = {"target": "motion-1", "reference_frame": 4, "perspective": True}
        perch = {"id": "top", "name": "Top", "follow": follow,
                 "spot": {"kind": "spot", "x": 0.0, "y": BOX[1], "z": 0.0, "faces": "still", "tilt": 90.0, "pixel_mm": 1.0}}  # fmt: skip
        still = {"kind": "still", "id": "s", "name": "Red", "asset": asset, "width": 40, "height": 40, "x": 0.0, "y": 0.0,
                 "size": 150.0, "follow": follow | {"target": "top"}}  # fmt: skip
        self.edit(shot, {"op": "add", "path": "/perches/-", "value": perch}, {"op": "add", "path": "/stack/0", "value": still})
        for frame in (0, 15):
            picture = self.picture(shot, "final", frame)
            red = (picture[..., 2] - picture[..., 1] > 90).astype(np.uint8)
            middle = np.array(np.nonzero(red))[::-1].mean(axis=1) + 0.5
            true = turning(FRAMES)[frame].seen(np.array([[0.0, BOX[1], 0.0]]), FOCAL, SIZE)[0]
            self.assertLess(float(np.hypot(*(middle - true))), 2.0)

    def test_a_fit_is_shown_without_changing_anything_and_undo_takes_a_tug_back(self) -> None:
        shot = self.crate()
        self.page.json("POST", f"/shots/{shot}/forms", {"frame": 0})
        before = self.motion(shot)
        corner = {"at": [0.5, 1.0, 0.5], "x": 300.0, "y": 150.0}
        fit = self.page.json("POST", f"/shots/{shot}/motions/motion-1/fit", {"frame": 0, "tugs": [corner]})
        self.assertLess(fit["off_px"], 1.0)
        self.assertEqual(self.motion(shot), before)
        self.page.json("POST", f"/shots/{shot}/motions/motion-1/tugs", {"frame": 0, "tugs": [corner]})
        after = self.motion(shot)
        self.assertEqual(after["stakes"][0]["pose"], fit["pose"])  # type: ignore[index]
        self.page.json("POST", f"/shots/{shot}/undo")
        self.assertEqual(self.motion(shot), before)
        # A tug anywhere on it: the place that a click shows.
        shown = self.page.json("POST", f"/shots/{shot}/motions/motion-1/touch", {"frame": 0, "x": SIZE[0] / 2, "y": SIZE[1] / 2})
        self.assertTrue(all(-0.51 <= v <= 1.01 for v in shown["at"]), shown)
        self.assertIsNone(self.page.json("POST", f"/shots/{shot}/motions/motion-1/touch", {"frame": 0, "x": 1, "y": 1}))
        self.page.json("POST", f"/shots/{shot}/motions/motion-1/tugs", {"frame": 99, "tugs": []}, status=400)
        self.page.json("POST", f"/shots/{shot}/forms", {"shape": "model", "frame": 0}, status=400)

    def test_outlines_of_forms_and_of_a_model_as_a_form(self) -> None:
        rows = self.page.json("GET", "/forms/outline?shape=box")["edges"]
        self.assertEqual((len(rows), len(rows[0])), (12, 12))
        crate = self.page.upload(self.file("crate.glb", cargo_crate()))["Plonket-Asset"]
        edges = np.array(self.page.json("GET", f"/forms/outline?shape=model&asset={crate}")["edges"])
        self.assertGreater(len(edges), 12)
        self.assertAlmostEqual(float(edges[:, 1].max()), 1.0, delta=1e-3)
        shot = self.crate()
        self.page.json("POST", f"/shots/{shot}/forms", {"shape": "model", "frame": 0, "asset": crate})
        motion = self.motion(shot)
        self.assertEqual(motion["asset"], crate)
        self.assertAlmostEqual(float(motion["wide"]) / float(motion["tall"]), 0.2 / 0.16, delta=0.02)  # type: ignore[arg-type]
        other = self.page.upload(self.still())["Plonket-Asset"]
        self.page.json("GET", f"/forms/outline?shape=model&asset={other}", status=400)

    def test_an_object_is_solved_from_the_points_of_a_motion(self) -> None:
        shot = self.crate()
        poses = turning(FRAMES)
        marks = np.array([*CORNERS, (0.0, 1.0, 0.0), (0.3, 1.0, 0.2), (-0.3, 1.0, -0.2)]) * BOX
        rows = ["name,frame,x,y,confidence,state"]
        for k, mark in enumerate(marks):
            for i, pose in enumerate(poses):
                x, y = pose.seen(mark[None], FOCAL, SIZE)[0]
                rows.append(f"m{k},{i},{x:.3f},{y:.3f},1,tracked")
        self.page.json("POST", f"/shots/{shot}/motions/import", {"name": "marks.csv", "text": "\n".join(rows) + "\n"})
        value = {"kind": "object", "id": "thing", "name": "Thing", "points": ["motion-1"], "knows": "pixels", "focal_px": FOCAL}
        self.edit(shot, {"op": "add", "path": "/motions/-", "value": value})
        job = self.page.json("POST", f"/shots/{shot}/motions/thing/measure", {})
        self.assertEqual(Job.objects.get(pk=job["id"]).state, "done", Job.objects.get(pk=job["id"]).message)
        track = pool().measured(str(self.motion(shot, 1)["measurement"]))
        assert isinstance(track, CameraTrack)
        # Its points are seen where they were followed: the room is the thing's own, whatever its scale.
        for i in (0, 7, 15):
            found = stood_in(track, i).seen(track.points, float(track.focal[i]), SIZE)
            true = poses[i].seen(marks, FOCAL, SIZE)
            self.assertLess(float(np.abs(found - true).max()), 0.5)
        few = {"kind": "object", "id": "few", "name": "Few", "points": []}
        self.edit(shot, {"op": "add", "path": "/motions/-", "value": few})
        job = self.page.json("POST", f"/shots/{shot}/motions/few/measure", {})
        self.assertIn("eight points", Job.objects.get(pk=job["id"]).message)
        self.edit(shot, {"op": "add", "path": "/motions/-", "value": few | {"id": "none", "points": ["nothing"]}}, status=400)


class Slow(WithCrate):
    def picture_of(self, path: Path, light: np.ndarray) -> Path:
        cv2.imwrite(str(path), light.astype(np.float32))
        return path

    def test_light_maps_come_in_are_shown_and_light_a_room(self) -> None:
        light = np.full((32, 64, 3), 0.2, np.float32)
        light[:10] = 3.0
        asset = self.page.upload(self.picture_of(self.folder / "sky.hdr", light))["Plonket-Asset"]
        told = self.page.json("GET", f"/assets/{asset}")
        self.assertEqual((told["kind"], told["width"], told["height"]), ("light", 64, 32))
        preview = self.page.get(f"/models/{asset}.jpg")
        self.assertEqual(preview["Content-Type"], "image/jpeg")
        square = self.picture_of(self.folder / "square.hdr", light[:, :32])
        refused = self.page.upload(square)
        self.assertNotIn("Plonket-Asset", refused)
        shot = self.followed()
        crate = self.page.upload(self.file("crate.glb", cargo_crate()))["Plonket-Asset"]
        model, dome = self.standing(crate, asset)
        self.edit(shot, {"op": "add", "path": "/stack/0", "value": model})
        dark = self.picture(shot, "final", 2).astype(int)
        self.edit(shot, {"op": "add", "path": "/stack/0", "value": dome | {"strength": 400.0}})
        lit = self.picture(shot, "final", 2).astype(int)
        self.assertGreater(int((lit.sum(axis=2) - dark.sum(axis=2) > 40).sum()), 1500)

    def standing(self, crate: str, light: str) -> tuple[dict[str, object], dict[str, object]]:
        follow = {"target": "motion-1", "reference_frame": 4, "perspective": True}
        model = {"kind": "model", "id": "m", "name": "Crate", "asset": crate, "extent": [0.2, 0.16, 0.16], "tall": 0.16,
                 "follow": follow}  # fmt: skip
        return model, {"kind": "dome", "id": "d", "name": "Sky", "asset": light, "follow": follow}

    def test_models_are_filmed_ahead_once_and_found_again(self) -> None:
        shot = self.followed()
        crate = self.page.upload(self.file("crate.glb", cargo_crate()))["Plonket-Asset"]
        self.edit(shot, {"op": "add", "path": "/stack/0", "value": self.standing(crate, "0" * 64)[0] | {"sun": 73.0}})
        self.edit(
            shot, {"op": "replace", "path": "/footage/in_frame", "value": 2},
            {"op": "replace", "path": "/footage/out_frame", "value": 4})  # fmt: skip
        told = self.page.json("GET", f"/shots/{shot}/layers/m/ahead?percent=50")
        self.assertEqual((told["slow"], told["done"], told["total"]), (True, 0, 3))
        job = self.page.json("POST", f"/shots/{shot}/layers/m/ahead", {"percent": 50})
        self.assertEqual(Job.objects.get(pk=job["id"]).state, "done", Job.objects.get(pk=job["id"]).message)
        self.assertEqual(self.page.json("GET", f"/shots/{shot}/layers/m/ahead?percent=50")["done"], 3)
        self.assertEqual(self.page.json("GET", f"/shots/{shot}/layers/m/ahead?percent=100")["done"], 0)
        self.edit(shot, {"op": "replace", "path": "/stack/0/sun", "value": 50.0})
        self.assertEqual(self.page.json("GET", f"/shots/{shot}/layers/m/ahead?percent=50")["done"], 0)
        self.page.json("GET", f"/shots/{shot}/layers/none/ahead?percent=50", status=400)

    def test_a_cut_out_is_carried_ahead(self) -> None:
        shot = self.crate()
        clip = self.page.json("GET", f"/shots/{shot}")["document"]["footage"]["asset"]
        x, y = (float(v) for v in turning(FRAMES)[4].seen(np.array([[0.0, BOX[1] / 2, 0.0]]), FOCAL, SIZE)[0])
        strokes = [{"frame": 4, "subject": True, "width": 20, "points": [[x - 20, y], [x + 20, y]]}]
        layer = {"kind": "still", "id": "c", "name": "Crate", "asset": clip, "width": SIZE[0], "height": SIZE[1],
                 "x": SIZE[0] / 2, "y": SIZE[1] / 2, "size": 100.0, "key": {"kind": "cutout", "strokes": strokes}}  # fmt: skip
        self.edit(shot, {"op": "add", "path": "/stack/0", "value": layer})
        told = self.page.json("GET", f"/shots/{shot}/layers/c/ahead?percent=50")
        self.assertEqual((told["done"], told["total"]), (1, FRAMES), "the frame with the stroke needs no carrying")
        job = self.page.json("POST", f"/shots/{shot}/layers/c/ahead", {"percent": 50})
        self.assertEqual(Job.objects.get(pk=job["id"]).state, "done", Job.objects.get(pk=job["id"]).message)
        self.assertEqual(self.page.json("GET", f"/shots/{shot}/layers/c/ahead?percent=50")["done"], FRAMES)
        self.edit(shot, {"op": "replace", "path": "/stack/0/key", "value": None})
        self.assertFalse(self.page.json("GET", f"/shots/{shot}/layers/c/ahead?percent=50")["slow"])
        self.page.json("POST", f"/shots/{shot}/layers/c/ahead", {"percent": 50}, status=400)
