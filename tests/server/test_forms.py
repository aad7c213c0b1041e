"""Forms tugged into place and followed over the API, objects from points, light maps, and slow layers worked out ahead."""

from __future__ import annotations

import base64
import io
import json
import zipfile
from fractions import Fraction
from functools import cache
from pathlib import Path

import cv2
import numpy as np
import trimesh
from pxr import Usd, UsdGeom, UsdLux

from jobs.models import Job
from library.pool import pool
from plonket.base.fields import value_at
from plonket.document.shot import read_shot
from plonket.formats.camera_gltf import camera_path_of_gltf, write_camera_glb
from plonket.formats.camera_json import camera_path, write_camera
from plonket.formats.camera_usd import camera_path_of_usd
from plonket.formats.scene import Scene
from plonket.layers.light import lamp_of
from plonket.media.clip import ArrayClip
from plonket.outputs.parts import Parts
from plonket.render.deliver import deliver
from plonket.render.sources import ShotSources
from plonket.room.alignment import Room
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

    def test_cameras_come_in_from_json_and_glb(self) -> None:
        shot = self.followed()
        found = pool().measured(str(self.motion(shot)["measurement"]))
        assert isinstance(found, CameraTrack)
        room = Room(turn=(0.0, 0.6, 0.0, 0.8), shift=(0.1, 0.2, -0.3), scale=2.0)
        glb = write_camera_glb(Scene(track=found, room=room, fps=Fraction(30)))
        again = camera_path_of_gltf(glb, SIZE, Fraction(30))
        np.testing.assert_allclose(again.position, room.points(found.position), atol=1e-5)
        np.testing.assert_allclose(again.rotation, room.turns(found.rotation), atol=1e-5)
        np.testing.assert_allclose(again.focal, found.focal, rtol=1e-5)
        data = {"name": "camera.glb", "data": base64.b64encode(glb).decode()}
        self.page.json("POST", f"/shots/{shot}/motions/import", data)
        self.page.json("POST", f"/shots/{shot}/motions/import", {"name": "c.json", "text": write_camera(found, Fraction(30))})
        for k in (1, 2):
            motion = self.motion(shot, k)
            self.assertEqual(motion["kind"], "camera")
            path = self.movement(shot, motion["id"], 0)
            self.assertEqual(path.shape, (FRAMES, 9))
        for name, text in (("x.glb", ""), ("y.json", '{"asset": {}, "nodes": []}')):
            body = {"name": name, "text": text, "data": base64.b64encode(b"glTF junk that is none").decode() if not text else ""}
            self.page.json("POST", f"/shots/{shot}/motions/import", body, status=422)


    def test_a_usd_model_comes_in_as_one_glb_and_a_usd_camera_says_how_it_fits(self) -> None:
        path = self.folder / "tin.usda"
        stage = Usd.Stage.CreateNew(str(path))
        UsdGeom.SetStageMetersPerUnit(stage, 0.01)
        UsdGeom.Cube.Define(stage, "/tin").CreateSizeAttr(30.0)
        stage.GetRootLayer().Save()
        digest = self.page.upload(path)["Plonket-Asset"]
        asset = self.page.json("GET", f"/assets/{digest}")
        self.assertEqual((asset["kind"], asset["name"]), ("model", "tin"))
        extent = self.page.json("GET", f"/assets/{digest}/model")["extent"]
        np.testing.assert_allclose(extent, [0.3, 0.3, 0.3], atol=1e-6)
        bad = self.file("bad.usdz", b"PK\x03\x04 junk")
        answer = self.page.upload(bad)
        self.assertEqual(answer.status_code, 422)
        self.assertIn("bad.usdz could not be read", json.loads(answer.content)["message"])
        shot = self.crate()
        camera = UsdGeom.Camera.Define(stage, "/camera")
        place = camera.AddTranslateOp()
        for k in range(8):
            place.Set((100.0 * k, 0.0, 0.0), 101 + k)
        data = {"name": "move.usda", "data": base64.b64encode(stage.GetRootLayer().ExportToString().encode()).decode()}
        facts = self.page.json("POST", f"/shots/{shot}/motions/import/facts", data)
        self.assertEqual((facts["kind"], facts["fits"], facts["first"], facts["last"]), ("camera", False, 101, 108))
        timing = {"first": 103, "step": 0.5, "points": 0}
        self.page.json("POST", f"/shots/{shot}/motions/import", data | {"timing": timing})
        track = pool().measured(str(self.motion(shot)["measurement"]))
        assert isinstance(track, CameraTrack)
        np.testing.assert_allclose(track.position[:11, 0], 2 + 0.5 * np.arange(11), atol=1e-6)
        self.assertEqual(int(track.known().sum()), 11)
        self.page.json("POST", f"/shots/{shot}/motions/import", data | {"timing": timing | {"step": 0}}, status=400)

    def test_what_stands_in_a_room_goes_out_with_the_camera(self) -> None:
        shot = self.followed()
        crate = self.page.upload(self.file("crate.glb", cargo_crate()))["Plonket-Asset"]
        follow = {"target": "motion-1", "reference_frame": 4, "perspective": True}
        model = {"kind": "model", "id": "m", "name": "Crate", "asset": crate, "extent": [0.2, 0.16, 0.16], "tall": 0.16,
                 "lift": 0.22, "heading": 90.0, "across": 2, "across_gap": 0.5, "follow": follow}  # fmt: skip
        form = {"kind": "form", "id": "f", "name": "Bench", "wide": 1.0, "tall": 0.05, "deep": 0.6, "follow": follow}
        self.edit(shot, {"op": "add", "path": "/stack/0", "value": model}, {"op": "add", "path": "/stack/1", "value": form})
        glb = self.page.get(f"/shots/{shot}/motions/motion-1/export/camera.glb").content
        scene = trimesh.load_scene(io.BytesIO(glb), file_type="glb")
        boxes = [g.bounds for g in scene.dump() if isinstance(g, trimesh.Trimesh)]
        # Turned by a quarter, a copy to each side along z; standing on the form's top. And the bench.
        self.assertEqual(len(boxes), 3)
        sizes = sorted((np.ptp(b, axis=0).round(2).tolist() for b in boxes), key=lambda v: v[0])
        np.testing.assert_allclose(sizes[0], [0.16, 0.16, 0.2], atol=0.01)
        np.testing.assert_allclose(sizes[2], [1.0, 0.05, 0.6], atol=0.01)
        crates = sorted(float(b.mean(axis=0)[2]) for b in boxes if np.ptp(b, axis=0)[0] < 0.5)
        np.testing.assert_allclose(crates, [-0.25, 0.25], atol=1e-3)
        self.assertTrue(all(abs(b[0, 1] - 0.22) < 1e-3 for b in boxes if np.ptp(b, axis=0)[0] < 0.5))
        # The camera in the same file is the one that was measured.
        again = camera_path_of_gltf(glb, SIZE, Fraction(30))
        found = pool().measured(str(self.motion(shot)["measurement"]))
        assert isinstance(found, CameraTrack)
        np.testing.assert_allclose(again.position, found.position, atol=1e-5)
        for form in ("camera.usda", "camera.usdz"):
            usd = self.page.get(f"/shots/{shot}/motions/motion-1/export/{form}").content
            again = camera_path_of_usd(usd, SIZE)
            np.testing.assert_allclose(again.position, found.position, atol=1e-5)
            np.testing.assert_allclose(again.focal, found.focal, rtol=1e-5)
        # In the reader's own words: two crates where they stand, a bench, the sun and the sky.
        path = self.file("scene.usdz", usd)
        stage = Usd.Stage.Open(str(path))
        space = UsdGeom.BBoxCache(0, [UsdGeom.Tokens.default_])
        crates = [p for p in stage.GetPrimAtPath("/shot").GetChildren() if p.GetName().startswith("Crate")]
        middles = sorted(space.ComputeWorldBound(p).ComputeAlignedRange().GetMidpoint()[2] for p in crates)
        np.testing.assert_allclose(middles, [-0.25, 0.25], atol=1e-3)
        sun = UsdLux.DistantLight(stage.GetPrimAtPath("/shot/Sun"))
        down = UsdGeom.Xformable(sun).ComputeLocalToWorldTransform(4).TransformDir((0, 0, -1))
        # From the model's own heading and height: it shines the other way.
        self.assertAlmostEqual(down[1], -np.sin(np.radians(45.0)), places=5)
        self.assertTrue(stage.GetPrimAtPath("/shot/Sky").IsA(UsdLux.DomeLight))
        lights = json.loads(glb[20 : 20 + int.from_bytes(glb[12:16], "little")])["extensions"]["KHR_lights_punctual"]["lights"]
        self.assertEqual([one["type"] for one in lights], ["directional"])

    def test_the_lamps_of_a_model_light_its_room_from_where_they_are(self) -> None:
        shot = self.followed()
        path = self.folder / "lamp.usda"
        stage = Usd.Stage.CreateNew(str(path))
        UsdGeom.SetStageMetersPerUnit(stage, 1.0)
        UsdGeom.Cube.Define(stage, "/box").CreateSizeAttr(1.0)
        spot = UsdLux.SphereLight.Define(stage, "/Beam")
        UsdLux.ShapingAPI.Apply(spot.GetPrim()).CreateShapingConeAngleAttr(20.0)
        spot.CreateColorAttr((1.0, 0.5, 0.0))
        place = UsdGeom.Xformable(spot)
        place.AddTranslateOp().Set((0.0, 1.0, 0.5))
        place.AddRotateXOp().Set(-30.0)
        stage.GetRootLayer().Save()
        asset = self.page.upload(path)["Plonket-Asset"]
        self.assertEqual(self.page.json("GET", f"/assets/{asset}/model")["lights"], ["Beam"])
        follow = {"target": "motion-1", "reference_frame": 4, "perspective": True}
        model = {"kind": "model", "id": "m", "name": "Box", "asset": asset, "extent": [1.0, 1.0, 1.0], "tall": 0.5,
                 "heading": 90.0, "follow": follow}  # fmt: skip
        self.edit(shot, {"op": "add", "path": "/stack/0", "value": model})
        self.page.json("POST", f"/shots/{shot}/layers/m/lamps", {"frame": 4})
        document = self.page.json("GET", f"/shots/{shot}")["document"]
        perch, lamp = document["perches"][-1], document["stack"][-1]
        self.assertEqual((lamp["kind"], lamp["name"], lamp["shape"], lamp["cone"]), ("lamp", "Box: Beam", "spot", 40.0))
        self.assertEqual(lamp["follow"]["target"], perch["id"])
        # Half size, turned by a quarter: what was before it (-z) is to its left (-x). From the box's foot 1.5 up, and .5 behind.
        np.testing.assert_allclose([perch["spot"][k] for k in "xyz"], [0.25, 0.75, 0.0], atol=1e-4)
        sources = ShotSources(read_shot(document), pool())
        seat = sources.seat(perch["id"])
        assert seat is not None
        shines = lamp_of(read_shot(document).stack[-1], *seat, 4)  # type: ignore[arg-type]
        assert shines is not None
        np.testing.assert_allclose(shines.place[:3, 2], [-np.cos(np.radians(30)), -0.5, 0], atol=1e-4)
        # As strong as to light a card to full white from as far off as the model is tall.
        self.assertAlmostEqual(max(shines.light), np.pi * 0.5**2, places=4)
        self.assertAlmostEqual(shines.light[1] / shines.light[0], 0.5, delta=0.01)
        self.page.json("POST", f"/shots/{shot}/undo")
        self.page.json("POST", f"/shots/{shot}/layers/m/lamps", {"frame": 4})
        self.page.json("POST", f"/shots/{shot}/layers/{lamp['id']}/lamps", {"frame": 4}, status=400)

    def test_layers_go_out_with_the_camera_what_was_picked_out_and_a_page(self) -> None:
        shot = self.followed()
        alpha = np.zeros((SIZE[1], SIZE[0]), np.uint8)
        alpha[40:100, 60:140] = 255
        box = io.BytesIO()
        with zipfile.ZipFile(box, "w") as archive:
            for k in range(FRAMES):
                archive.writestr(f"{k:03d}.png", cv2.imencode(".png", np.roll(alpha, k, axis=1))[1].tobytes())
        data = {"name": "Hand!.zip", "data": base64.b64encode(box.getvalue()).decode()}
        self.page.json("POST", f"/shots/{shot}/motions/import", data)
        fill = {"kind": "fill", "id": "wash", "name": "Red", "opacity": 50.0}
        self.edit(shot, {"op": "add", "path": "/stack/0", "value": fill},
                  {"op": "replace", "path": "/footage/in_frame", "value": 4})  # fmt: skip
        document = read_shot(self.page.json("GET", f"/shots/{shot}")["document"])
        out, sources = self.folder / "layers.zip", ShotSources(document, pool())
        parts = Parts(id="p", name="P", picture="png", shadow=False)
        deliver(document, sources, out, start=4, stop=FRAMES, scale=0.5, output=parts)
        with zipfile.ZipFile(out) as archive:
            names = set(archive.namelist())
            page, words = json.loads(archive.read("passes.json")), archive.read("how.html").decode()
            name = page["cameras"][0].removesuffix(".glb")
            camera = camera_path(archive.read(f"{name}.json").decode())
            matte = cv2.imdecode(np.frombuffer(archive.read("mattes/hand/000002.png"), np.uint8), cv2.IMREAD_GRAYSCALE)
        assert matte is not None
        self.assertEqual((page["mattes"], page["frames"], page["first_frame"]), (["mattes/hand"], FRAMES - 4, 4))
        self.assertEqual(page["cameras"], [f"{name}.{ending}" for ending in ("glb", "json", "usdz")])
        self.assertLessEqual({f"base/beauty/{k:06d}.png" for k in range(FRAMES - 4)}, names)
        self.assertNotIn(f"mattes/hand/{FRAMES - 4:06d}.png", names)
        for said in ("Red", f"{name}.usdz", "mattes/hand/"):
            self.assertIn(said, words)
        # The third picture shows the shot's seventh frame, at half size; the camera is that of the same pictures.
        self.assertEqual(matte.shape, (SIZE[1] // 2, SIZE[0] // 2))
        self.assertEqual((int(matte[35, 32]), int(matte[35, 34]), int(matte[35, 72])), (0, 255, 255))
        found = sources.camera("motion-1")
        assert found is not None
        self.assertEqual(camera.size, (SIZE[0] // 2, SIZE[1] // 2))
        np.testing.assert_allclose(camera.position, found.room.points(found.track.position[4:]), atol=1e-6)
        np.testing.assert_allclose(camera.focal, found.track.focal[4:] / 2, rtol=1e-5)

    def test_keys_and_steadying_as_files(self) -> None:
        shot = self.crate()
        keys = [{"frame": 0, "value": 0.0, "ease": "linear"}, {"frame": 10, "value": 100.0}]
        fill = {"kind": "fill", "id": "wash", "name": "Red", "opacity": {"keys": keys}}
        self.edit(shot, {"op": "add", "path": "/stack/0", "value": fill})
        text = self.page.get(f"/shots/{shot}/curves/wash/curves.csv").content.decode()
        self.assertEqual(text.splitlines()[6], "5,50")
        changed = {"name": "curves.csv", "text": text.replace("5,50", "5,80")}
        self.page.json("POST", f"/shots/{shot}/curves/wash", changed)
        layer = read_shot(self.page.json("GET", f"/shots/{shot}")["document"]).stack[0]
        self.assertEqual(value_at(layer.opacity, 5), 80)
        self.page.json("POST", f"/shots/{shot}/curves/wash", {"name": "x", "text": "frame,nothing\n0,1\n"}, status=400)
        self.page.json("GET", f"/shots/{shot}/curves/finish/curves.json", status=400)
        self.page.json("GET", f"/shots/{shot}/view/moves.csv", status=400)


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
