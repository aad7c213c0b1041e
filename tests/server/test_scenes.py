"""Rooms, models, cameras, lamps, layers and keys as files of other programs, over the API."""

from __future__ import annotations

import base64
import io
import json
import zipfile
from fractions import Fraction

import cv2
import numpy as np
import trimesh
from pxr import Usd, UsdGeom, UsdLux

from library.pool import pool
from plonket.base.fields import value_at
from plonket.document.shot import read_shot
from plonket.formats.camera_gltf import camera_path_of_gltf, write_camera_glb
from plonket.formats.camera_json import camera_path, write_camera
from plonket.formats.camera_usd import camera_path_of_usd
from plonket.formats.scene import Scene
from plonket.layers.light import lamp_of
from plonket.outputs.parts import Parts
from plonket.render.deliver import deliver
from plonket.render.sources import ShotSources
from plonket.room.alignment import Room
from plonket.room.camera_track import CameraTrack
from synth.elements.models import cargo_crate
from tests.core.test_form import SIZE
from tests.server.test_forms import FRAMES, WithCrate


class Scenes(WithCrate):
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
