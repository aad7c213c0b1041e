"""Models as their files describe them: materials, nodes, movements."""

from __future__ import annotations

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from plonket.base.colour import encode_8bit
from plonket.base.conventions import F32, F64
from plonket.document.spot import Spot
from plonket.layers.light import LampLayer, lamp_of
from plonket.layers.model_looks import PartLook, coats_of, seconds_at
from plonket.raytrace.request import CameraView, Coat, Instance, Lamp, Lights, RenderRequest
from plonket.raytrace.tracer import FilmSet
from plonket.room.meshes.files import about_model, read_model
from plonket.room.meshes.gathered import gathered
from plonket.room.meshes.mesh import Mesh
from synth.elements.gltf_file import GltfFile
from tests.core.test_scene import camera as room_camera

SQUARE = np.array([[-1, 0, 0], [1, 0, 0], [1, 2, 0], [-1, 2, 0]], np.float64)
FACES = np.array([[0, 1, 2], [0, 2, 3]])
UV = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], np.float64)
"""Of the square: v goes down in files."""


def square(file: GltfFile, material: int | None = None, **attributes: int) -> dict[str, Any]:
    """A card of two by two units that faces z."""
    given = {"NORMAL": file.numbers([[0, 0, 1]] * 4), "TEXCOORD_0": file.numbers(UV), **attributes}
    return file.primitive(SQUARE, FACES, material, **given)


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name)

    def path(self, file: GltfFile | bytes, name: str = "m.glb") -> Path:
        path = self.folder / name
        path.write_bytes(file if isinstance(file, bytes) else file.glb())
        return path

    def read(self, file: GltfFile | bytes, name: str = "m.glb") -> Mesh:
        return read_model(self.path(file, name))


class Looks(InFolder):
    """A card before the camera, under a sun that meets it squarely and an even sky."""

    studio: FilmSet

    @classmethod
    def setUpClass(cls) -> None:
        cls.studio = FilmSet()

    def film(self, file: GltfFile, *coats: tuple[str, Coat], behind: bool = False, sun: tuple[float, float, float] = (0.0, 0.0, 1.0),
             sky: float = 0.0, samples: int = 64, lamps: tuple[Lamp, ...] = ()) -> F32:  # fmt: skip
        # Scenes are kept by the names of files, which in a store never change.
        self.films = getattr(self, "films", 0) + 1
        things = [Instance(model=str(self.path(file, f"{self.films}.glb")), stands=(np.eye(4),), coats=coats)]
        if behind:
            wall = GltfFile()
            red = wall.material("red", pbrMetallicRoughness={"baseColorFactor": [0.6, 0, 0, 1], "metallicFactor": 0})
            wall.node(mesh=wall.mesh(square(wall, red)))
            back = np.eye(4)
            back[2, 3] = -1.0
            things.append(Instance(model=str(self.path(wall, "wall.glb")), stands=(back,)))
        order = RenderRequest(
            things=tuple(things), views=(CameraView(eye=np.array([0.0, 1.0, 4.0]), turn=np.eye(3)),), focal=160.0, principal=(48.0, 48.0),
            window=(0, 0, 96, 96), ground=None, ground_colour=(0.3, 0.3, 0.3), shadows=False, samples=samples,
            lights=Lights(sun=sun, sun_light=(0.8, 0.8, 0.8), sky_light=(sky, sky, sky), soft=0.05, lamps=lamps),
        )  # fmt: skip
        return self.studio.film(order)

    def card(self, *, tints: F64 | None = None, **about: Any) -> GltfFile:
        file = GltfFile()
        material = file.material("card", **about)
        extra = {} if tints is None else {"COLOR_0": file.numbers(tints)}
        file.node(mesh=file.mesh(square(file, material, **extra)))
        return file

    def matte(self, colour: tuple[float, float, float] = (0.5, 0.5, 0.5), **more: Any) -> dict[str, Any]:
        return {"baseColorFactor": [*colour, more.pop("alpha", 1.0)], "metallicFactor": 0.0, "roughnessFactor": 1.0, **more}

    def middle(self, filmed: F32) -> F32:
        return np.asarray(filmed[30:66, 30:66].mean(axis=(0, 1)))

    def test_its_colour_is_linear_and_times_its_picture_and_its_corners(self) -> None:
        plain = self.middle(self.film(self.card(pbrMetallicRoughness=self.matte((0.5, 0.25, 0.1)))))
        np.testing.assert_allclose(plain[:3] / plain[0], [1, 0.5, 0.2], atol=0.06)
        pixels = np.zeros((16, 16, 3), np.uint8)
        pixels[:] = encode_8bit(np.array([[[0.5, 0.25, 0.1]]], np.float32))[0, 0]
        file = GltfFile()
        material = file.material("card", pbrMetallicRoughness=self.matte((1, 1, 1)) | {"baseColorTexture": file.picture(pixels)})
        file.node(mesh=file.mesh(square(file, material)))
        np.testing.assert_allclose(self.middle(self.film(file))[:3], plain[:3], rtol=0.03)
        tinted = self.card(tints=np.array([[0.5, 0.25, 0.1]] * 4), pbrMetallicRoughness=self.matte((1, 1, 1)))
        np.testing.assert_allclose(self.middle(self.film(tinted))[:3], plain[:3], rtol=0.03)

    def test_a_picture_lies_the_right_way_up_and_is_moved_as_the_file_says(self) -> None:
        pixels = np.zeros((16, 16, 3), np.uint8)
        pixels[:8, :8] = 255
        for transform, bright in (({}, (0, 0)), ({"offset": [0.5, 0.0]}, (0, 1)), ({"offset": [0.0, 0.5]}, (1, 0)),
                                  ({"rotation": np.pi / 2, "offset": [0.0, 1.0]}, (0, 1))):  # fmt: skip
            file = GltfFile()
            texture = file.picture(pixels, extensions={"KHR_texture_transform": transform})
            material = file.material("card", pbrMetallicRoughness=self.matte((1, 1, 1)) | {"baseColorTexture": texture})
            file.node(mesh=file.mesh(square(file, material)))
            seen = self.film(file)[..., 0]
            quarters = np.array([[seen[20:40, 20:40].mean(), seen[20:40, 56:76].mean()], [seen[56:76, 20:40].mean(), seen[56:76, 56:76].mean()]])
            self.assertEqual(np.unravel_index(quarters.argmax(), (2, 2)), bright, (transform, quarters))

    def test_half_of_what_lies_behind_is_seen_through_what_covers_half(self) -> None:
        solid = self.film(self.card(pbrMetallicRoughness=self.matte((0.1, 0.1, 0.8))), sky=0.2)
        half = self.card(pbrMetallicRoughness=self.matte((0.1, 0.1, 0.8), alpha=0.5), alphaMode="BLEND")
        over_nothing = self.film(half, sky=0.2, samples=256)
        self.assertAlmostEqual(float(self.middle(over_nothing)[3]), 0.5, delta=0.02)
        np.testing.assert_allclose(self.middle(over_nothing)[:3], 0.5 * self.middle(solid)[:3], rtol=0.06)
        # Before a red wall, which stands in its half shadow.
        wall = self.middle(self.film(half, behind=True, sky=0.2, samples=256))
        self.assertAlmostEqual(float(wall[3]), 1.0, delta=0.01)
        self.assertGreater(float(wall[0]), 1.5 * float(self.middle(over_nothing)[0]))
        self.assertAlmostEqual(float(wall[2]), float(self.middle(over_nothing)[2]), delta=0.03)

    def test_what_is_cut_out_by_its_picture_is_not_there(self) -> None:
        pixels = np.full((32, 32, 4), 200, np.uint8)
        pixels[:, :16, 3], pixels[:, 16:, 3] = 100, 160
        file = GltfFile()
        texture = {"baseColorTexture": file.picture(pixels)}
        material = file.material("leaf", alphaMode="MASK", pbrMetallicRoughness=self.matte((1, 1, 1)) | texture)
        file.node(mesh=file.mesh(square(file, material)))
        cover = self.film(file)[..., 3]
        self.assertLess(float(cover[30:66, 24:42].max()), 0.01)
        self.assertGreater(float(cover[30:66, 54:72].min()), 0.99)

    def test_clear_glass_covers_little_and_mirrors_and_throws_hardly_any_shadow(self) -> None:
        clear = {"KHR_materials_transmission": {"transmissionFactor": 1.0}}
        pane = self.card(pbrMetallicRoughness=self.matte((1, 1, 1)) | {"roughnessFactor": 0.0}, extensions=clear)
        seen = self.middle(self.film(pane, sky=1.0, sun=(0.6, 0.0, 0.8), samples=256))
        # Of a pane with 1.5 about 8 per cent is mirrored, of a sky that is one all round.
        self.assertAlmostEqual(float(seen[3]), 0.077, delta=0.03)
        self.assertAlmostEqual(float(seen[1]), 0.077, delta=0.03)
        red = self.middle(self.film(pane, behind=True, sun=(0.1, 0.1, 0.98), samples=256))
        bare = self.middle(self.film(pane, ("", Coat(shown=False)), behind=True, sun=(0.1, 0.1, 0.98), samples=256))
        self.assertGreater(float(red[0]), 0.7 * float(bare[0]))

    def test_bumps_turn_the_light_as_a_card_that_is_turned(self) -> None:
        sun = (0.0, 0.5, 0.866)
        for axis, way in ((0, (0.5, 0.0, 0.866)), (1, (0.0, 0.5, 0.866))):
            file = GltfFile()
            pixels = np.zeros((8, 8, 3), np.uint8)
            pixels[:] = np.round((np.array(way) + 1) / 2 * 255)
            material = file.material("card", pbrMetallicRoughness=self.matte(), normalTexture=file.picture(pixels))
            file.node(mesh=file.mesh(square(file, material)))
            bumped = float(self.middle(self.film(file, sun=sun))[1])
            plain = float(self.middle(self.film(self.card(pbrMetallicRoughness=self.matte()), sun=sun))[1])
            expected = (np.array(way) @ sun) / sun[2]
            self.assertAlmostEqual(bumped / plain, expected, delta=0.08, msg=str(axis))

    def test_pictures_of_roughness_metal_and_glow_say_the_same_as_single_numbers(self) -> None:
        sun = (0.3, 0.0, 0.95)
        plain = self.card(pbrMetallicRoughness={"baseColorFactor": [0.9, 0.6, 0.2, 1], "metallicFactor": 0.8, "roughnessFactor": 0.4},
                          emissiveFactor=[0.2, 0.1, 0.4])  # fmt: skip
        file = GltfFile()
        surface, glow = np.zeros((8, 8, 3), np.uint8), np.zeros((8, 8, 3), np.uint8)
        surface[..., 1], surface[..., 2] = round(0.4 * 255), round(0.8 * 255)
        glow[:] = encode_8bit(np.array([[[0.2, 0.1, 0.4]]], np.float32))[0, 0]
        material = file.material("card", emissiveFactor=[1, 1, 1], emissiveTexture=file.picture(glow), pbrMetallicRoughness={
            "baseColorFactor": [0.9, 0.6, 0.2, 1], "metallicRoughnessTexture": file.picture(surface)})  # fmt: skip
        file.node(mesh=file.mesh(square(file, material)))
        np.testing.assert_allclose(self.middle(self.film(file, sun=sun, sky=0.3))[:3], self.middle(self.film(plain, sun=sun, sky=0.3))[:3],
                                   rtol=0.05)  # fmt: skip

    def test_a_bulb_and_a_spotlight_shine_as_a_small_rectangle_as_strong(self) -> None:
        camera, spot, dark = room_camera(), Spot(), (0.0, 0.0, -1.0)
        card = self.card(pbrMetallicRoughness=self.matte())

        def lit(**how: object) -> F32:
            layer = LampLayer.model_validate({"id": "l", "name": "l", "colour": "#ffffff", "wide": 0.1, "tall": 0.1, **how})
            lamp = lamp_of(layer, camera, spot, 1)
            assert lamp is not None
            # A metre before the card's middle, facing it.
            at = np.diag([1.0, 1.0, -1.0, 1.0]) @ np.diag([*np.linalg.norm(lamp.place[:3, :3], axis=0), 1.0])
            at[:3, 3] = [0, 1, 1]
            return self.film(card, sun=dark, lamps=(replace(lamp, place=at),))[..., 1]

        soft, bulb, cone = lit(), lit(shape="point"), lit(shape="spot", cone=60.0, cone_soft=20.0)
        middle = np.s_[44:52, 44:52]
        self.assertAlmostEqual(float(bulb[middle].mean()) / float(soft[middle].mean()), 1.0, delta=0.05)
        self.assertAlmostEqual(float(cone[middle].mean()) / float(bulb[middle].mean()), 1.0, delta=0.03)
        # A cone of 60 degrees reaches .58 m to each side here, which is 23 pixels.
        self.assertGreater(float(cone[46:50, 48 + 14 : 48 + 17].mean()), 0.5 * float(bulb[46:50, 48 + 14 : 48 + 17].mean()))
        self.assertLess(float(cone[46:50, 48 + 25 : 48 + 36].max()), 0.02)
        self.assertGreater(float(bulb[46:50, 48 + 25 : 48 + 36].min()), 0.1)

    def test_parts_of_one_material_are_filmed_as_one_and_look_as_before(self) -> None:
        file = GltfFile()
        made = [file.material(name, pbrMetallicRoughness=self.matte(colour))
                for name, colour in (("red", (0.6, 0.1, 0.1)), ("blue", (0.1, 0.1, 0.6)))]  # fmt: skip
        places = [(-0.7, 0.3), (0.7, 0.3), (-0.7, 1.3), (0.7, 1.3)]
        for k, (x, y) in enumerate(places):
            file.node(mesh=file.mesh(square(file, made[k % 2])), translation=[x, y, 0], scale=[0.3, 0.3, 0.3])
        whole = self.read(file)
        one = gathered(whole)
        self.assertEqual(([part.material.name for part in whole.parts], [part.material.name for part in one.parts]),
                         (["red", "blue"] * 2, ["red", "blue"]))  # fmt: skip
        corners = [np.concatenate([p.vertices[p.faces].reshape(-1, 9) for p in mesh.parts]) for mesh in (whole, one)]
        self.assertEqual(sorted(map(tuple, corners[0].round(9))), sorted(map(tuple, corners[1].round(9))))
        seen = self.film(file)
        for k, (x, y) in enumerate(places):
            column, row = int(48 + 160 * x / 4), int(48 - 160 * (y + 0.3 - 1) / 4)
            colour = seen[row - 2 : row + 3, column - 2 : column + 3, :3].mean(axis=(0, 1))
            self.assertEqual(int(np.argmax(colour)), 2 * (k % 2))
            self.assertGreater(float(colour.max()), 3 * float(colour[1]))
        # What is called nothing, or moves by itself, stays apart.
        plain = replace(whole, parts=tuple(replace(p, material=replace(p.material, name="")) for p in whole.parts))
        self.assertEqual(len(gathered(plain).parts), 4)
        self.assertIs(gathered(moving := replace(whole, posed=lambda _clip, _at: [])), moving)

    def test_coats_lie_over_materials_by_name(self) -> None:
        file = GltfFile()
        names = ("left", "right")
        for name, x in zip(names, (-0.6, 0.6), strict=True):
            material = file.material(name, pbrMetallicRoughness=self.matte())
            file.node(mesh=file.mesh(square(file, material)), translation=[x, 0.5, 0], scale=[0.5, 0.5, 0.5])
        self.assertEqual(about_model(self.path(file))["materials"], list(names))
        painted = coats_of("own", [PartLook(material="left", paint="#ff0000"), PartLook(material="right", shown=False)])
        seen = self.film(file, *painted)
        left, right = (seen[60:76, c - 8 : c + 8].mean(axis=(0, 1)) for c in (27, 69))
        self.assertGreater(float(left[0]), 20 * float(left[1]))
        self.assertLess(float(right[3]), 0.01)
        glowing = self.film(file, *coats_of("glow", []), sun=(0.0, 0.0, -1.0))
        self.assertAlmostEqual(float(glowing[60:76, 19:35, 0].mean()), 0.75, delta=0.02)
        self.assertEqual(coats_of("own", [PartLook(material="left")]), ())


class Moving(InFolder):
    def bar(self) -> GltfFile:
        """Two bones: the upper half of a strip hangs on the second, which bends by a right angle in two seconds."""
        file = GltfFile()
        places = np.array([[x, y, 0] for y in (0, 1, 2) for x in (-0.1, 0.1)], np.float64)
        faces = [[0, 1, 2], [2, 1, 3], [2, 3, 4], [4, 3, 5]]
        joints = np.array([[0, 0, 0, 0]] * 2 + [[0, 1, 0, 0]] * 2 + [[1, 0, 0, 0]] * 2)
        weights = np.array([[1, 0, 0, 0]] * 2 + [[0.5, 0.5, 0, 0]] * 2 + [[1, 0, 0, 0]] * 2, np.float64)
        strip = file.primitive(places, faces, None, JOINTS_0=file.numbers(joints, 5123), WEIGHTS_0=file.numbers(weights))
        upper = file.node(root=False, translation=[0, 1, 0])
        lower = file.node(children=[upper])
        back = np.tile(np.eye(4), (2, 1, 1))
        back[1, 1, 3] = -1
        skin = file.put("skins", {"joints": [lower, upper], "inverseBindMatrices": file.numbers(back)})
        file.node(mesh=file.mesh(strip), skin=skin)
        half = np.sqrt(0.5)
        file.movement("Bend", (upper, "rotation", [0.0, 2.0], [[0, 0, 0, 1], [0, 0, half, half]]))
        return file

    def test_a_skin_bends_with_its_bones(self) -> None:
        mesh = self.read(self.bar())
        self.assertEqual([(c.name, c.seconds) for c in mesh.clips], [("Bend", 2.0)])
        assert mesh.posed is not None
        rest, bent = mesh.parts[0].vertices, mesh.posed(0, 2.0)[0][0]
        np.testing.assert_allclose(mesh.posed(0, 0.0)[0][0], rest, atol=1e-9)
        # What hangs on the upper bone alone turns about (0, 1): up becomes left.
        top = np.abs(rest[:, 1] - 2) < 1e-6
        about = rest[top] - [0, 1, 0]
        np.testing.assert_allclose(bent[top], np.stack([-about[:, 1], about[:, 0], about[:, 2]], axis=1) + [0, 1, 0], atol=1e-6)
        np.testing.assert_allclose(bent[rest[:, 1] < 0.5], rest[rest[:, 1] < 0.5], atol=1e-9)
        middle = np.abs(rest[:, 1] - 1) < 1e-6
        np.testing.assert_allclose(bent[middle], rest[middle] * [0.5, 0, 1] + [[0, 1, 0]] + np.stack(
            [np.zeros(middle.sum()), rest[middle][:, 0] / 2, np.zeros(middle.sum())], axis=1), atol=1e-6)  # fmt: skip
        # Half-way it is half bent: turns go evenly, and normals with them.
        turned = mesh.posed(0, 1.0)[0][1]
        np.testing.assert_allclose(np.linalg.norm(turned, axis=1), 1, atol=1e-6)

    def test_nodes_turn_grow_and_carry_others_by_steps_lines_and_curves(self) -> None:
        when = [0.0, 1.0]
        curve = [[[0, 0, 0], [0, 0, 0], [3, 0, 0]], [[3, 0, 0], [2, 0, 0], [0, 0, 0]]]
        for kind, values, at, expected in (("LINEAR", [[0, 0, 0], [2, 0, 0]], 0.25, 0.5), ("STEP", [[0, 0, 0], [2, 0, 0]], 0.9, 0.0),
                                           ("CUBICSPLINE", np.array(curve, float).reshape(-1, 3), 0.5, 1.0),
                                           ("CUBICSPLINE", np.array(curve, float).reshape(-1, 3), 0.25, 0.59375)):  # fmt: skip
            file = GltfFile()
            child = file.node(root=False, mesh=file.mesh(square(file)), scale=[0.5, 0.5, 0.5])
            parent = file.node(children=[child], translation=[0, 0, 0])
            file.movement("Go", (parent, "translation", when, values), interpolation=kind)
            mesh = self.read(file)
            assert mesh.posed is not None
            moved = mesh.posed(0, at)[0][0] - mesh.parts[0].vertices
            np.testing.assert_allclose(moved, np.broadcast_to([expected, 0, 0], moved.shape), atol=1e-6)
            np.testing.assert_allclose(mesh.size, [1, 1, 0], atol=1e-6)

    def test_shapes_mix_by_their_weights(self) -> None:
        file = GltfFile()
        up = np.zeros((4, 3))
        up[2:, 1] = 1.0
        primitive = square(file) | {"targets": [{"POSITION": file.numbers(up)}, {"POSITION": file.numbers(up * [1, -1, 1])}]}
        node = file.node(mesh=file.mesh(primitive, weights=[0.0, 0.0]))
        file.movement("Stretch", (node, "weights", [0.0, 1.0], np.array([[0, 0], [1, 0.5]], float).ravel()))
        mesh = self.read(file)
        assert mesh.posed is not None
        self.assertAlmostEqual(float(mesh.posed(0, 1.0)[0][0][:, 1].max()), 2.5)
        self.assertAlmostEqual(float(mesh.posed(0, 0.5)[0][0][:, 1].max()), 2.25)

    def test_time_goes_once_again_and_again_or_to_and_fro(self) -> None:
        def at(frame: float, goes: str, pace: float = 1.0) -> float:
            return seconds_at(frame, 25.0, 10.0, pace, 2.0, goes)

        self.assertEqual([at(f, "once") for f in (0, 10, 35, 60, 500)], [0, 0, 1, 2, 2])
        np.testing.assert_allclose([at(f, "round") for f in (10, 35, 60, 85)], [0, 1, 0, 1], atol=1e-9)
        np.testing.assert_allclose([at(f, "to_and_fro") for f in (10, 35, 60, 85, 110)], [0, 1, 2, 1, 0], atol=1e-9)
        self.assertEqual(at(35, "once", 2.0), 2.0)
        self.assertEqual(at(10, "once", -1.0), 2.0)
        self.assertEqual(seconds_at(50, 25.0, 0, 1.0, 0.0, "round"), 0.0)

    def test_it_is_filmed_as_it_moves(self) -> None:
        file = GltfFile()
        node = file.node(mesh=file.mesh(square(file)))
        file.movement("Go", (node, "translation", [0.0, 1.0], [[0, 0, 0], [4, 0, 0]]))
        path = str(self.path(file))
        order = RenderRequest(
            things=(Instance(model=path, stands=(np.eye(4),), poses=((0, 0.0),)),),
            views=(CameraView(eye=np.array([0.0, 1.0, 8.0]), turn=np.eye(3)),), focal=160.0, principal=(48.0, 48.0),
            window=(0, 0, 96, 96), ground=None, ground_colour=(0.3, 0.3, 0.3), shadows=False, samples=4,
            lights=Lights(sun=(0.0, 0.0, 1.0), sun_light=(0.8, 0.8, 0.8), sky_light=(0.2, 0.2, 0.2), soft=0.05),
        )  # fmt: skip
        studio = FilmSet()
        found = []
        for seconds in (0.0, 0.25, 0.0):
            cover = studio.film(replace(order, things=(replace(order.things[0], poses=((0, seconds),)),)))[..., 3]
            found.append(float((cover.sum(axis=0) * (np.arange(96) + 0.5)).sum() / cover.sum()))
        np.testing.assert_allclose(found, [48, 68, 48], atol=0.1)
