"""Cameras, rooms, models and lights to files of other programs and back; paths that do not fit a clip as they are."""

from __future__ import annotations

import io
import json
import tempfile
import unittest
from fractions import Fraction
from pathlib import Path

import numpy as np
import trimesh
from pxr import Gf, Usd, UsdGeom, UsdLux, UsdValidation

from plonket.base.conventions import F64, quaternion_to_matrix
from plonket.base.errors import FormatError
from plonket.document.shot import Footage
from plonket.formats.camera_csv import write_camera_csv
from plonket.formats.camera_gltf import write_camera_glb
from plonket.formats.camera_json import write_camera
from plonket.formats.camera_path import CameraPath, laid_over
from plonket.formats.camera_usd import write_camera_usd
from plonket.formats.registry import Coming, Timing, facts_of_file, motion_from_file
from plonket.formats.scene import Placed, Scene, SetLight
from plonket.room.alignment import Room
from plonket.room.camera_track import CameraTrack
from plonket.room.meshes.files import read_model
from plonket.room.meshes.mesh import Material, Mesh, Part, Texture
from plonket.track.camera.settings import CameraMotion

SIZE, FRAMES, RATE = (96, 54), 12, Fraction(24)
ROOM = Room(turn=(0.0, 0.6, 0.0, 0.8), shift=(0.1, 0.2, -0.3), scale=2.0)


def path_of(frames: F64, *, points: int = 7) -> CameraPath:
    """A camera that goes along a curve and turns on its way, at any frames."""
    t = np.asarray(frames, np.float64)
    angle = 0.04 * t
    turns = quaternion_to_matrix(np.stack([0.1 * np.sin(angle / 2), np.sin(angle / 2), 0 * t, np.cos(angle / 2)], axis=1))
    place = np.stack([0.1 * t, 1.5 + 0 * t, 3 - 0.05 * t], axis=1)
    cloud = np.random.default_rng(3).normal(size=(points, 3))
    return CameraPath(frames=t, position=place, rotation=turns, focal=80 + 0 * t, points=cloud)


def track_of() -> CameraTrack:
    path = path_of(np.arange(FRAMES, dtype=float))
    return laid_over(path, FRAMES, SIZE, Timing(first=0.0, step=1.0, points=100))


def tin() -> Mesh:
    """A card with a picture, partly clear, next to one that shines."""
    rng = np.random.default_rng(5)
    picture = Texture(pixels=rng.integers(0, 255, (16, 8, 3), np.uint8), wrap="clamp")
    cover = Texture(pixels=rng.integers(0, 255, (16, 8, 1), np.uint8), wrap="clamp")
    rough = Texture(pixels=rng.integers(0, 255, (16, 8, 2), np.uint8))
    card = Material(name="Card", colour=np.array([0.5, 1, 1], np.float32), picture=picture, cover=cover)
    glows = Material(name="Lit", colour=np.array([0.1, 0.2, 0.3], np.float32), surface=rough, rough=1.0, metal=1.0,
                     glow=(2.0, 1.0, 0.5))  # fmt: skip
    places = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0.0]])
    faces, uv = np.array([[0, 1, 2], [0, 2, 3]]), places[:, :2]
    normals = np.tile([0.0, 0, 1], (4, 1))
    parts = (Part(vertices=places, faces=faces, uv=uv, normals=normals, material=card),
             Part(vertices=places + [0, 0, 2], faces=faces, uv=uv, normals=normals, material=glows))  # fmt: skip
    return Mesh(parts=parts, size=np.array([1.0, 1, 2]))


def scene_of(**extra: object) -> Scene:
    return Scene(track=track_of(), room=ROOM, fps=RATE, name="Camera", **extra)  # type: ignore[arg-type]


def coming(data: bytes | str, *, frames: int = FRAMES, rate: str = "24/1", timing: Timing | None = None) -> Coming:
    footage = Footage(asset="a" * 64, name="f", width=SIZE[0], height=SIZE[1], rate=rate, frames=frames, in_frame=0,
                      out_frame=frames - 1)  # fmt: skip
    return Coming(text=data if isinstance(data, str) else "", data=data.encode() if isinstance(data, str) else data,
                  motion_id="m", name="Camera", footage=footage, timing=timing)  # fmt: skip


def files() -> dict[str, bytes | str]:
    scene = scene_of()
    return {
        "json": write_camera(scene.track, RATE, ROOM), "csv": write_camera_csv(scene.track, ROOM), "glb": write_camera_glb(scene),
        **{ending: write_camera_usd(scene, f".{ending}") for ending in ("usda", "usdc", "usdz")},
    }


class RoundTrips(unittest.TestCase):
    def test_every_format_gives_the_path_the_lens_and_the_points_back(self) -> None:
        scene = scene_of()
        poses = scene.poses()
        for name, data in files().items():
            with self.subTest(name):
                self.assertTrue(facts_of_file(coming(data)).fits)
                motion, back = motion_from_file(coming(data))
                assert isinstance(back, CameraTrack) and isinstance(motion, CameraMotion)
                np.testing.assert_allclose(back.position, poses[:, :3, 3], atol=2e-5)
                np.testing.assert_allclose(back.rotation, poses[:, :3, :3], atol=2e-5)
                np.testing.assert_allclose(back.focal, 80, rtol=1e-4)
                self.assertTrue(back.known().all())
                if name != "csv":
                    np.testing.assert_allclose(np.sort(back.points, axis=0), np.sort(scene.points(), axis=0), atol=2e-5)

    def test_a_zoom_keeps_its_lens_in_usd(self) -> None:
        from dataclasses import replace

        track = replace(track_of(), focal=np.linspace(80, 120, FRAMES))
        usd = write_camera_usd(Scene(track=track, room=ROOM, fps=RATE), ".usdc")
        back = motion_from_file(coming(usd))[1]
        assert isinstance(back, CameraTrack)
        np.testing.assert_allclose(back.focal, track.focal, rtol=1e-5)


class Fitting(unittest.TestCase):
    def usd(self, *, first: int, rate: float, up: str = "Z", metres: float = 0.01) -> bytes:
        """A camera as a program with other habits writes it: from frame 1001 on, z up, in centimetres."""
        stage = Usd.Stage.CreateInMemory()
        UsdGeom.SetStageUpAxis(stage, up)
        UsdGeom.SetStageMetersPerUnit(stage, metres)
        stage.SetTimeCodesPerSecond(rate)
        camera = UsdGeom.Camera.Define(stage, "/camera")
        camera.CreateHorizontalApertureAttr(36.0)
        camera.CreateFocalLengthAttr(30.0)
        place = camera.AddTranslateOp()
        camera.AddRotateXOp().Set(90.0)
        for k in range(25):
            place.Set((100.0 * k, 0.0, 150.0), first + k)
        return stage.ExportToString().encode()

    def test_one_with_another_first_frame_rate_and_upright_is_asked_about_and_laid_right(self) -> None:
        data = self.usd(first=1001, rate=24)
        facts = facts_of_file(coming(data, frames=30, rate="30/1"))
        self.assertEqual((facts.fits, facts.first, facts.last, facts.rate), (False, 1001, 1025, 24))
        assert facts.timing is not None
        self.assertEqual((facts.timing.first, facts.timing.step), (1001, 0.8))
        back = motion_from_file(coming(data, frames=30, rate="30/1", timing=facts.timing))[1]
        assert isinstance(back, CameraTrack)
        # Metres with y up; 30 frames of the clip are 24 of the file.
        np.testing.assert_allclose(back.position, np.stack([0.8 * np.arange(30), np.full(30, 1.5), np.zeros(30)], axis=1), atol=1e-6)
        np.testing.assert_allclose(back.rotation[7], np.eye(3), atol=1e-6)
        np.testing.assert_allclose(back.focal, 30 / 36 * SIZE[0], rtol=1e-6)
        # Frame by frame instead, from the third on: what it does not reach is not known.
        other = Timing(first=1003, step=1.0, points=0)
        back = motion_from_file(coming(data, frames=30, rate="30/1", timing=other))[1]
        assert isinstance(back, CameraTrack)
        self.assertEqual(np.flatnonzero(back.known()).tolist(), list(range(23)))
        self.assertAlmostEqual(float(back.position[4, 0]), 6.0, places=6)

    def test_half_steps_turn_the_short_way(self) -> None:
        path = path_of(np.arange(20.0))
        back = laid_over(path, 19, SIZE, Timing(first=0.5, step=1.0, points=0))
        true = path_of(np.arange(19) + 0.5)
        np.testing.assert_allclose(back.position, true.position, atol=1e-9)
        np.testing.assert_allclose(back.rotation, true.rotation, atol=1e-5)
        # A gap in the file is a gap in the track.
        gap = path_of(np.array([0.0, 1, 2, 8, 9]))
        known = laid_over(gap, 10, SIZE, Timing(first=0.0, step=1.0, points=0)).known()
        self.assertEqual(np.flatnonzero(known).tolist(), [0, 1, 2, 8, 9])

    def test_many_points_are_asked_about_and_thinned(self) -> None:
        data = json.loads(write_camera(track_of(), RATE))
        data["points"] = [{"id": k, "position": [k, 0, 0]} for k in range(9000)]
        text = json.dumps(data)
        facts = facts_of_file(coming(text))
        self.assertEqual((facts.fits, facts.points), (False, 9000))
        back = motion_from_file(coming(text, timing=Timing(first=0.0, step=1.0, points=500)))[1]
        assert isinstance(back, CameraTrack)
        self.assertEqual(len(back.points), 500)
        self.assertEqual((back.points[0, 0], back.points[-1, 0]), (0, 8999))

    def test_a_larger_picture_of_the_same_shape_is_scaled_another_shape_refused(self) -> None:
        data = json.loads(write_camera(track_of(), RATE))
        data |= {"width": 192, "height": 108}
        back = motion_from_file(coming(json.dumps(data)))[1]
        assert isinstance(back, CameraTrack)
        np.testing.assert_allclose(back.focal, 40, rtol=1e-4)
        data |= {"width": 192, "height": 192}
        with self.assertRaises(FormatError) as caught:
            motion_from_file(coming(json.dumps(data)))
        self.assertIn("192 x 192", caught.exception.message)

    def test_files_without_a_camera_and_with_numbers_that_are_none(self) -> None:
        stage = Usd.Stage.CreateInMemory()
        UsdGeom.Cube.Define(stage, "/cube")
        bad = self.usd(first=0, rate=24).replace(b"float focalLength = 30", b"float focalLength = 0")
        for data, word in ((stage.ExportToString().encode(), "no camera"), (bad, "numbers"), (b"#usda 1.0\n{", "could not be read"),
                           (b"PXR-USDC junk", "could not be read"), (b"\0\1\2", "no file of points")):  # fmt: skip
            with self.assertRaises(FormatError) as caught:
                motion_from_file(coming(data))
            self.assertIn(word, caught.exception.message)


class RoomsOut(unittest.TestCase):
    def placed(self) -> Placed:
        stands = np.tile(np.eye(4), (FRAMES, 1, 1))
        stands[:, 0, 3] = np.arange(FRAMES)
        stands[:, :3, :3] *= 0.5
        return Placed(name="Tin", model=tin(), stands=stands)

    def lights(self) -> list[SetLight]:
        still = np.tile(np.eye(4), (FRAMES, 1, 1))
        fades = np.linspace(1, 0, FRAMES)[:, None] * [3.0, 2.0, 1.0]
        flat = np.tile([1.0, 1, 1], (FRAMES, 1))
        return [SetLight(name="Sun", shape="sun", light=np.pi * flat, stands=still, soft=0.1),
                SetLight(name="Sky", shape="sky", light=0.3 * flat, stands=still),
                SetLight(name="Window", shape="soft", light=4 * flat, stands=still, wide=2.0, tall=0.5),
                SetLight(name="Bulb", shape="point", light=fades, stands=still),
                SetLight(name="Spot", shape="spot", light=flat, stands=still, cone=0.5, edge=0.25)]  # fmt: skip

    def test_lights_of_glb_shine_the_other_way_with_the_same_power(self) -> None:
        data = write_camera_glb(scene_of(lights=self.lights()))
        whole = json.loads(data[20 : 20 + int.from_bytes(data[12:16], "little")])
        lights = whole["extensions"]["KHR_lights_punctual"]["lights"]
        self.assertEqual([one["type"] for one in lights], ["directional", "spot", "point", "spot"])
        np.testing.assert_allclose([one["intensity"] for one in lights], [np.pi, 4.0, 3.0, 1.0], rtol=1e-6)
        np.testing.assert_allclose(lights[2]["color"], [1, 2 / 3, 1 / 3], rtol=1e-6)
        np.testing.assert_allclose([lights[3]["spot"][k] for k in ("innerConeAngle", "outerConeAngle")], [0.25, 0.5])
        node = next(n for n in whole["nodes"] if n["name"] == "Bulb")
        # Half a turn about y: its -z is what was its +z.
        np.testing.assert_allclose(np.abs(node["rotation"]), [0, 1, 0, 0], atol=1e-6)
        self.assertEqual(whole["extensionsUsed"].count("KHR_lights_punctual"), 1)
        trimesh.load_scene(io.BytesIO(data), file_type="glb")

    def test_lights_of_usd_have_the_same_radiance(self) -> None:
        stage = self.opened(write_camera_usd(scene_of(lights=self.lights()), ".usdc"))
        sun = UsdLux.DistantLight(stage.GetPrimAtPath("/shot/Sun"))
        half = np.radians(sun.GetAngleAttr().Get() / 2)
        self.assertAlmostEqual(sun.GetIntensityAttr().Get() * np.pi * np.sin(half) ** 2, np.pi, places=4)
        window = UsdLux.RectLight(stage.GetPrimAtPath("/shot/Window"))
        np.testing.assert_allclose([window.GetIntensityAttr().Get(), window.GetWidthAttr().Get(), window.GetHeightAttr().Get()],
                                   [4, 2, 0.5], rtol=1e-6)  # fmt: skip
        bulb = UsdLux.SphereLight(stage.GetPrimAtPath("/shot/Bulb"))
        for frame, level in ((0, 3.0), (FRAMES - 1, 0.0)):
            found = bulb.GetIntensityAttr().Get(frame) * np.pi * bulb.GetRadiusAttr().Get() ** 2
            self.assertAlmostEqual(found, level, places=5)
        spot = UsdLux.ShapingAPI(stage.GetPrimAtPath("/shot/Spot"))
        self.assertAlmostEqual(spot.GetShapingConeAngleAttr().Get(), float(np.degrees(0.5)), places=4)
        self.assertAlmostEqual(spot.GetShapingConeSoftnessAttr().Get(), 0.5, places=5)
        self.assertTrue(UsdLux.DomeLight(stage.GetPrimAtPath("/shot/Sky")))

    def opened(self, data: bytes, name: str = "scene.usdc") -> Usd.Stage:
        aside = tempfile.TemporaryDirectory()
        self.addCleanup(aside.cleanup)
        path = Path(aside.name) / name
        path.write_bytes(data)
        return Usd.Stage.Open(str(path))

    def test_a_model_moves_and_keeps_its_materials_in_a_usdz_that_passes_the_checker(self) -> None:
        data = write_camera_usd(scene_of(placed=[self.placed(), self.placed()], lights=self.lights()), ".usdz")
        stage = self.opened(data, "scene.usdz")
        checks = UsdValidation.ValidationContext(UsdValidation.ValidationRegistry().GetOrLoadAllValidators())
        self.assertEqual([(e.GetName(), e.GetMessage()) for e in checks.Validate(stage)], [])
        box = UsdGeom.BBoxCache(5, [UsdGeom.Tokens.default_]).ComputeWorldBound(stage.GetPrimAtPath("/shot/Tin"))
        np.testing.assert_allclose(box.ComputeAlignedRange().GetMin(), [5, 0, 0], atol=1e-5)
        np.testing.assert_allclose(box.ComputeAlignedRange().GetMax(), [5.5, 0.5, 1], atol=1e-5)
        aside = tempfile.TemporaryDirectory()
        self.addCleanup(aside.cleanup)
        path = Path(aside.name) / "again.usdz"
        path.write_bytes(data)
        parts = {part.material.name: part.material for part in read_model(path).parts}
        card, lit = parts["Card"], parts["Lit"]
        first, second = (part.material for part in tin().parts)
        assert card.picture and card.cover and lit.surface and first.picture and first.cover and second.surface
        np.testing.assert_array_equal(card.picture.pixels, first.picture.pixels)
        np.testing.assert_array_equal(card.cover.pixels, first.cover.pixels)
        np.testing.assert_array_equal(lit.surface.pixels, second.surface.pixels)
        np.testing.assert_allclose(card.colour, first.colour, atol=1e-6)
        np.testing.assert_allclose(lit.glow, second.glow, atol=1e-6)
        self.assertEqual(card.picture.wrap, "clamp")

    def test_what_stands_twice_is_written_once_in_text(self) -> None:
        placed = self.placed()
        text = write_camera_usd(scene_of(placed=[placed, placed]), ".usda").decode()
        self.assertEqual(text.count("point3f[] points"), 3, "two parts of one model, and the cloud")
        self.assertNotIn("asset inputs:file", text)
        stage = self.opened(text.encode(), "scene.usda")
        place = UsdGeom.Xformable(stage.GetPrimAtPath("/shot/Tin_2")).ComputeLocalToWorldTransform(3)
        self.assertEqual(place.Transform(Gf.Vec3d(0, 0, 0)), Gf.Vec3d(3, 0, 0))
