"""Models in OpenUSD: what is read is what the file says, in metres, y up; what is damaged or reaches out is refused."""

from __future__ import annotations

import tempfile
import unittest
import zipfile
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade, UsdSkel, UsdUtils, Vt

from plonket.base.errors import FormatError
from plonket.room.meshes.boxed import boxed_model, holds_model
from plonket.room.meshes.files import about_model, read_model
from plonket.room.meshes.mesh import Mesh

QUAD = [(0, 0, 0), (2, 0, 0), (2, 3, 0), (0, 3, 0)]


class WithStages(unittest.TestCase):
    def setUp(self) -> None:
        aside = tempfile.TemporaryDirectory()
        self.addCleanup(aside.cleanup)
        self.folder = Path(aside.name)

    def stage(self, name: str = "model.usda", *, up: str = "Y", metres: float = 1.0) -> Usd.Stage:
        stage = Usd.Stage.CreateNew(str(self.folder / name))
        UsdGeom.SetStageUpAxis(stage, up)
        UsdGeom.SetStageMetersPerUnit(stage, metres)
        return stage

    def quad(self, stage: Usd.Stage, path: str = "/quad") -> UsdGeom.Mesh:
        mesh = UsdGeom.Mesh.Define(stage, path)
        mesh.CreatePointsAttr(QUAD)
        mesh.CreateFaceVertexCountsAttr([4])
        mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3])
        return mesh

    def read(self, stage: Usd.Stage) -> Mesh:
        stage.GetRootLayer().Save()
        return read_model(Path(stage.GetRootLayer().realPath))

    def picture(self, name: str, rgb: tuple[int, int, int], alpha: int = 255) -> None:
        pixels = np.full((8, 8, 4), (*rgb[::-1], alpha), np.uint8)
        pixels[:4, :, :3] //= 2
        assert cv2.imwrite(str(self.folder / name), pixels)

    def textured(self, stage: Usd.Stage, mesh: UsdGeom.Mesh, inputs: dict[str, tuple[str, str]], **plain: Any) -> UsdShade.Material:
        """A preview surface on a mesh: `inputs` by pictures and their channels, others plain."""
        material = UsdShade.Material.Define(stage, "/Looks/Tin")
        shader = UsdShade.Shader.Define(stage, "/Looks/Tin/surface")
        shader.CreateIdAttr("UsdPreviewSurface")
        material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
        reader = UsdShade.Shader.Define(stage, "/Looks/Tin/reader")
        reader.CreateIdAttr("UsdPrimvarReader_float2")
        reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set("map1")
        for name, (file, channel) in inputs.items():
            picture = UsdShade.Shader.Define(stage, f"/Looks/Tin/{name}_picture")
            picture.CreateIdAttr("UsdUVTexture")
            picture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(file)
            picture.CreateInput("wrapS", Sdf.ValueTypeNames.Token).Set("clamp")
            picture.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(reader.ConnectableAPI(), "result")
            kind = Sdf.ValueTypeNames.Float3 if channel == "rgb" else Sdf.ValueTypeNames.Float
            shader.CreateInput(name, kind).ConnectToSource(picture.ConnectableAPI(), channel)
        for name, value in plain.items():
            kind = Sdf.ValueTypeNames.Color3f if isinstance(value, tuple) else Sdf.ValueTypeNames.Float
            shader.CreateInput(name, kind).Set(value)
        UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(material)
        return material


class Shapes(WithStages):
    def test_centimetres_with_z_up_come_as_metres_with_y_up(self) -> None:
        stage = self.stage(up="Z", metres=0.01)
        box = UsdGeom.Cube.Define(stage, "/box")
        box.CreateSizeAttr(100.0)
        UsdGeom.XformCommonAPI(box).SetScale((1, 2, 3))
        mesh = self.read(stage)
        np.testing.assert_allclose(mesh.size, [1, 3, 2], atol=1e-6)
        # It stands on the middle of its bottom.
        low = np.min([p.vertices.min(axis=0) for p in mesh.parts], axis=0)
        np.testing.assert_allclose(low, [-0.5, 0, -1], atol=1e-6)
        self.assertFacesOut(mesh)

    def assertFacesOut(self, mesh: Mesh) -> None:
        """Normals point away from the middle, and so do the faces by their order."""
        middle = np.array([0, mesh.size[1] / 2, 0])
        for part in mesh.parts:
            self.assertGreater(float(np.einsum("ij,ij->i", part.vertices - middle, part.normals).min()), 0)
            a, b, c = (part.vertices[part.faces[:, k]] for k in range(3))
            out = np.cross(b - a, c - a)
            self.assertGreaterEqual(float(np.einsum("ij,ij->i", (a + b + c) / 3 - middle, out).min()), -1e-9)

    def test_named_forms_are_as_large_as_they_say(self) -> None:
        for kind, size in (("Sphere", (2, 2, 2)), ("Cylinder", (2, 2, 2)), ("Cone", (2, 2, 2)), ("Capsule", (1, 2, 1))):
            stage = self.stage(f"{kind}.usda")
            form = stage.DefinePrim("/form", kind)
            if kind != "Sphere":
                form.GetAttribute("axis").Set("Y")
            mesh = self.read(stage)
            np.testing.assert_allclose(mesh.size, size, atol=0.01, err_msg=kind)
            if kind != "Cone":
                self.assertFacesOut(mesh)
        stage = self.stage("lying.usda")
        stage.DefinePrim("/form", "Cylinder").GetAttribute("axis").Set("X")
        stage.GetPrimAtPath("/form").GetAttribute("height").Set(5.0)
        np.testing.assert_allclose(self.read(stage).size, [5, 2, 2], atol=0.01)

    def test_faces_of_many_corners_holes_and_left_handed_ones(self) -> None:
        stage = self.stage()
        mesh = UsdGeom.Mesh.Define(stage, "/m")
        mesh.CreatePointsAttr([*QUAD, (1, 5, 0)])
        mesh.CreateFaceVertexCountsAttr([5, 3])
        mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 4, 3, 0, 2, 1])
        mesh.CreateHoleIndicesAttr([1])
        part = self.read(stage).parts[0]
        self.assertEqual(len(part.faces), 3)
        self.assertTrue((part.normals[:, 2] > 0.99).all())
        mesh.CreateOrientationAttr("leftHanded")
        self.assertTrue((self.read(stage).parts[0].normals[:, 2] < -0.99).all())

    def test_what_is_hidden_or_only_a_guide_is_left_out(self) -> None:
        stage = self.stage()
        self.quad(stage)
        UsdGeom.Imageable(self.quad(stage, "/hidden")).MakeInvisible()
        UsdGeom.Imageable(self.quad(stage, "/guide")).CreatePurposeAttr("guide")
        self.assertEqual(len(self.read(stage).parts), 1)

    def test_copies_of_one_thing(self) -> None:
        stage = self.stage()
        self.quad(stage, "/proto/quad")
        stage.GetPrimAtPath("/proto").SetSpecifier(Sdf.SpecifierClass)
        for k in range(3):
            copy = UsdGeom.Xform.Define(stage, f"/copy{k}")
            copy.GetPrim().GetReferences().AddInternalReference("/proto")
            copy.GetPrim().SetInstanceable(True)
            UsdGeom.XformCommonAPI(copy).SetTranslate((4.0 * k, 0, 0))
        mesh = self.read(stage)
        self.assertEqual(len(mesh.parts), 3)
        self.assertAlmostEqual(float(mesh.size[0]), 10.0, places=5)

    def test_a_point_instancer(self) -> None:
        stage = self.stage()
        many = UsdGeom.PointInstancer.Define(stage, "/many")
        self.quad(stage, "/many/patterns/quad")
        UsdGeom.XformCommonAPI(UsdGeom.Mesh.Get(stage, "/many/patterns/quad")).SetScale((2, 1, 1))
        many.CreatePrototypesRel().AddTarget("/many/patterns/quad")
        many.CreateProtoIndicesAttr([0, 0])
        many.CreatePositionsAttr([(0, 0, 0), (10, 0, 0)])
        mesh = self.read(stage)
        self.assertEqual(len(mesh.parts), 2)
        self.assertAlmostEqual(float(mesh.size[0]), 14.0, places=5)

    def test_colours_of_its_own(self) -> None:
        stage = self.stage()
        mesh = self.quad(stage)
        mesh.CreateDisplayColorAttr([(0.2, 0.4, 0.6)])
        part = self.read(stage).parts[0]
        np.testing.assert_allclose(part.material.colour, [0.2, 0.4, 0.6], atol=1e-5)
        self.assertIsNone(part.tints)
        UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("displayColor", Sdf.ValueTypeNames.Color3fArray, "vertex").Set(
            [(1, 0, 0), (0, 1, 0), (0, 0, 1), (0, 0, 0)])  # fmt: skip
        tints = self.read(stage).parts[0].tints
        assert tints is not None
        np.testing.assert_allclose(tints[0], [1, 0, 0], atol=1e-5)


class Materials(WithStages):
    def with_uv(self, stage: Usd.Stage) -> UsdGeom.Mesh:
        mesh = self.quad(stage)
        UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("map1", Sdf.ValueTypeNames.TexCoord2fArray, "faceVarying").Set(
            [(0, 0), (1, 0), (1, 1), (0, 1)])  # fmt: skip
        return mesh

    def test_pictures_and_their_channels(self) -> None:
        stage = self.stage()
        self.picture("tin.png", (200, 100, 50), alpha=128)
        self.picture("parts.png", (0, 180, 240))
        mesh = self.with_uv(stage)
        self.textured(stage, mesh, {"diffuseColor": ("tin.png", "rgb"), "opacity": ("tin.png", "a"),
                                    "roughness": ("parts.png", "g"), "metallic": ("parts.png", "b")})  # fmt: skip
        stage.GetRootLayer().Save()
        UsdUtils.CreateNewUsdzPackage(str(self.folder / "model.usda"), str(self.folder / "model.usdz"))
        part = read_model(self.folder / "model.usdz").parts[0]
        of = part.material
        assert of.picture is not None and of.cover is not None and of.surface is not None
        self.assertEqual(of.name, "Tin")
        # The picture's lower half, where v is small, is the bright one.
        np.testing.assert_allclose(of.picture.pixels[-1, 0, :3], [200, 100, 50], atol=1)
        np.testing.assert_allclose(of.picture.pixels[0, 0, :3], [100, 50, 25], atol=1)
        self.assertTrue((abs(of.cover.pixels.astype(int) - 128) <= 1).all())
        np.testing.assert_allclose(of.surface.pixels[-1, 0], [180, 240], atol=1)
        self.assertEqual(of.picture.wrap, "clamp")
        lower = part.vertices[:, 1] < 0.1
        self.assertTrue((part.uv[lower, 1] < 0.01).all() and (part.uv[~lower, 1] > 0.99).all())

    def test_plain_numbers(self) -> None:
        stage = self.stage()
        self.textured(stage, self.quad(stage), {}, diffuseColor=(0.1, 0.2, 0.3), metallic=0.7, roughness=0.25,
                      emissiveColor=(3.0, 0.0, 1.5), opacity=0.5)  # fmt: skip
        of = self.read(stage).parts[0].material
        np.testing.assert_allclose(of.colour, [0.1, 0.2, 0.3], atol=1e-6)
        np.testing.assert_allclose([of.metal, of.rough, of.opacity], [0.7, 0.25, 0.5], atol=1e-6)
        np.testing.assert_allclose(of.glow, [3, 0, 1.5], atol=1e-5)

    def test_faces_of_one_mesh_with_materials_of_their_own(self) -> None:
        stage = self.stage()
        mesh = UsdGeom.Mesh.Define(stage, "/m")
        mesh.CreatePointsAttr([*QUAD, (4, 0, 0), (4, 3, 0)])
        mesh.CreateFaceVertexCountsAttr([4, 4])
        mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3, 1, 4, 5, 2])
        material = self.textured(stage, mesh, {}, diffuseColor=(1.0, 0.0, 0.0))
        other = UsdShade.Material.Define(stage, "/Looks/Wood")
        UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(other)
        subset = UsdShade.MaterialBindingAPI(mesh).CreateMaterialBindSubset("right", Vt.IntArray([1]))
        UsdShade.MaterialBindingAPI.Apply(subset.GetPrim()).Bind(material)
        parts = {p.material.name: p for p in self.read(stage).parts}
        self.assertEqual(set(parts), {"Tin", "Wood"})
        self.assertGreater(float(parts["Tin"].vertices[:, 0].min()), -0.01)
        self.assertEqual(about_model(self.folder / "model.usda")["materials"], ["Tin", "Wood"])


class Lamps(WithStages):
    def test_lamps_come_along_where_they_hang_and_as_strong_as_each_other(self) -> None:
        stage = self.stage(up="Z", metres=0.1)
        self.quad(stage)
        bulb = UsdLux.SphereLight.Define(stage, "/bulb")
        bulb.CreateIntensityAttr(8.0)
        bulb.CreateRadiusAttr(0.5)
        bulb.CreateColorAttr((1.0, 0.5, 0.25))
        UsdGeom.XformCommonAPI(bulb).SetTranslate((1, 0, 4))
        spot = UsdLux.SphereLight.Define(stage, "/spot")
        spot.CreateIntensityAttr(1.0)
        spot.CreateExposureAttr(2.0)
        spot.CreateRadiusAttr(0.5)
        shaping = UsdLux.ShapingAPI.Apply(spot.GetPrim())
        shaping.CreateShapingConeAngleAttr(30.0)
        shaping.CreateShapingConeSoftnessAttr(0.5)
        UsdLux.DistantLight.Define(stage, "/sun")
        stage.GetRootLayer().Save()
        found = read_model(self.folder / "model.usda")
        one, two = found.lights
        self.assertEqual((one.name, one.cone), ("bulb", None))
        # The foot of the quad, which lies flat in this upright, is its middle: (1, 1.5) of its own units.
        np.testing.assert_allclose(one.place, [0, 0.4, 0.15], atol=1e-6)
        np.testing.assert_allclose(one.colour, [1, 0.5, 0.25], atol=1e-6)
        self.assertAlmostEqual(one.strength / two.strength, 2.0, places=5)
        assert two.cone is not None
        np.testing.assert_allclose(np.degrees([two.cone, two.edge]), [30, 15], atol=0.05)
        np.testing.assert_allclose(two.way, [0, -1, 0], atol=1e-6)
        self.assertEqual(about_model(self.folder / "model.usda")["lights"], ["bulb", "spot"])


class Moving(WithStages):
    def test_a_thing_that_hangs_on_another_turns_with_it(self) -> None:
        stage = self.stage()
        stage.SetTimeCodesPerSecond(10)
        arm = UsdGeom.Xform.Define(stage, "/arm")
        turn = arm.AddRotateYOp()
        turn.Set(0.0, 5)
        turn.Set(180.0, 25)
        hand = UsdGeom.Xform.Define(stage, "/arm/hand")
        hand.AddTranslateOp().Set((4.0, 0.0, 0.0))
        self.quad(stage, "/arm/hand/quad")
        mesh = self.read(stage)
        self.assertEqual([(c.name, round(c.seconds, 3)) for c in mesh.clips], [("Movement", 2.0)])
        assert mesh.posed is not None
        rest = mesh.posed(0, 0.0)[0][0]
        for seconds in (0.5, 1.0, 1.75):
            angle = np.radians(90 * seconds)
            moved = mesh.posed(0, seconds)[0][0] + [5, 0, 0]
            c, s = np.cos(angle), np.sin(angle)
            want = (rest + [5, 0, 0]) @ np.array([[c, 0, s], [0, 1, 0], [-s, 0, c]]).T
            np.testing.assert_allclose(moved, want, atol=1e-4)

    def test_a_surface_that_changes_from_frame_to_frame(self) -> None:
        stage = self.stage()
        stage.SetTimeCodesPerSecond(4)
        mesh = self.quad(stage)
        for time in range(5):
            mesh.GetPointsAttr().Set([(x, y, time * x / 4) for x, y, _ in QUAD], time)
        found = self.read(stage)
        assert found.posed is not None
        for seconds in (0.0, 0.25, 0.625, 1.0):
            places, ways = found.posed(0, seconds)[0]
            np.testing.assert_allclose(places[:, 2], seconds * (places[:, 0] + 1), atol=1e-5)
            normal = np.array([-seconds, 0, 1]) / np.hypot(1, seconds)
            np.testing.assert_allclose(ways, np.tile(normal, (len(ways), 1)), atol=0.02)

    def test_a_skin_bends_with_its_bones(self) -> None:
        stage = self.stage()
        stage.SetTimeCodesPerSecond(1)
        root = UsdSkel.Root.Define(stage, "/figure")
        mesh = UsdGeom.Mesh.Define(stage, "/figure/skin")
        mesh.CreatePointsAttr([(-1, 0, 0), (1, 0, 0), (1, 2, 0), (-1, 2, 0), (1, 4, 0), (-1, 4, 0)])
        mesh.CreateFaceVertexCountsAttr([4, 4])
        mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3, 3, 2, 4, 5])
        bones = UsdSkel.Skeleton.Define(stage, "/figure/bones")
        bones.CreateJointsAttr(["low", "low/high"])
        high = Gf.Matrix4d().SetTranslate((0, 2, 0))
        bones.CreateBindTransformsAttr([Gf.Matrix4d(1), high])
        bones.CreateRestTransformsAttr([Gf.Matrix4d(1), high])
        moves = UsdSkel.Animation.Define(stage, "/figure/moves")
        moves.CreateJointsAttr(["low", "low/high"])
        moves.CreateTranslationsAttr([(0, 0, 0), (0, 2, 0)])
        moves.CreateScalesAttr([(1, 1, 1), (1, 1, 1)])
        for time, angle in ((0, 0.0), (1, 90.0)):
            turned = Gf.Quatf(Gf.Rotation((1, 0, 0), angle).GetQuat())
            moves.CreateRotationsAttr().Set([Gf.Quatf(1), turned], time)
        UsdSkel.BindingAPI.Apply(root.GetPrim())
        binding = UsdSkel.BindingAPI.Apply(mesh.GetPrim())
        binding.CreateSkeletonRel().SetTargets([bones.GetPath()])
        UsdSkel.BindingAPI.Apply(bones.GetPrim()).CreateAnimationSourceRel().SetTargets([moves.GetPath()])
        binding.CreateJointIndicesPrimvar(False, 1).Set([0, 0, 1, 1, 1, 1])
        binding.CreateJointWeightsPrimvar(False, 1).Set([1.0] * 6)
        found = self.read(stage)
        assert found.posed is not None
        tip = found.posed(0, 1.0)[0][0]
        # A quarter turn about x lays the upper half down towards the viewer.
        self.assertAlmostEqual(float(tip[:, 1].max()), 2.0, places=4)
        self.assertAlmostEqual(float(tip[:, 2].max()), 2.0, places=4)


class Bad(WithStages):
    def refused(self, path: Path, word: str) -> None:
        with self.assertRaises(FormatError) as caught:
            read_model(path)
        self.assertIn(word, caught.exception.message)
        self.assertNotIn(str(self.folder), caught.exception.message)

    def test_files_that_are_none(self) -> None:
        for name, data in (("a.usda", b"#usda 1.0\ndef Mesh {"), ("b.usdc", b"PXR-USDC" + b"\1" * 90), ("c.usdz", b"PK\3\4junk"),
                           ("d.usd", b""), ("e.usda", b"\0\0\0"), ("f.usdz", b"")):  # fmt: skip
            (self.folder / name).write_bytes(data)
            self.refused(self.folder / name, "could not be read")

    def test_nothing_outside_is_looked_at(self) -> None:
        secret = self.folder / "apart" / "secret.usda"
        secret.parent.mkdir()
        secret.write_text('#usda 1.0\ndef Cube "c" {}\n')
        for k, named in enumerate((f"@{secret}@", "@../apart/secret.usda@", "@missing.usda@")):
            path = self.folder / f"out{k}.usda"
            path.write_text(f'#usda 1.0\ndef "a" (references = {named}</c>) {{}}\n')
            self.refused(path, "ZIP with all")
        with zipfile.ZipFile(self.folder / "climbs.usdz", "w") as box:
            box.writestr("../climbs.usda", "#usda 1.0\n")
        self.refused(self.folder / "climbs.usdz", "outside itself")

    def test_nothing_to_show_numbers_that_are_none_and_faces_without_corners(self) -> None:
        stage = self.stage("empty.usda")
        UsdGeom.Camera.Define(stage, "/camera")
        stage.GetRootLayer().Save()
        self.refused(self.folder / "empty.usda", "no surfaces")
        for k, points in enumerate(([(float("nan"), 0, 0)] * 4, [(0.0, 0.0, 0.0)] * 2)):
            stage = self.stage(f"bad{k}.usda")
            mesh = UsdGeom.Mesh.Define(stage, "/m")
            mesh.CreatePointsAttr(points)
            mesh.CreateFaceVertexCountsAttr([4])
            mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3])
            stage.GetRootLayer().Save()
            self.refused(self.folder / f"bad{k}.usda", "no surfaces")

    def test_a_zip_with_what_it_names(self) -> None:
        stage = self.stage("main.usda")
        part = self.stage("part.usda")
        self.quad(part)
        part.GetRootLayer().Save()
        stage.OverridePrim("/part").GetReferences().AddReference("./part.usda", "/quad")
        stage.GetRootLayer().Save()
        with zipfile.ZipFile(self.folder / "all.zip", "w") as box:
            for name in ("main.usda", "part.usda"):
                box.write(self.folder / name, f"set/{name}")
        self.assertTrue(holds_model(self.folder / "all.zip"))
        boxed_model(self.folder / "all.zip", self.folder / "all.glb")
        np.testing.assert_allclose(read_model(self.folder / "all.glb").size[:2], [2, 3])
        with zipfile.ZipFile(self.folder / "torn.zip", "w") as box:
            box.write(self.folder / "main.usda", "set/main.usda")
        with self.assertRaises(FormatError) as caught:
            boxed_model(self.folder / "torn.zip", self.folder / "torn.glb")
        self.assertIn("part.usda", caught.exception.message)
