"""Models that are broken or mean harm, and those in a ZIP."""

from __future__ import annotations

import base64
import cProfile
import json
import pstats
import zipfile
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np

from plonket.base.colour import linear_from_codes
from plonket.base.errors import FormatError
from plonket.room.meshes.boxed import boxed_model, holds_model
from plonket.room.meshes.files import read_model
from plonket.room.meshes.mesh import Mesh
from synth.elements.gltf_file import GltfFile
from tests.core.test_models import FACES, SQUARE, InFolder, square


class Broken(InFolder):
    def refused(self, file: GltfFile | bytes, says: str, name: str = "m.glb") -> None:
        with self.assertRaises(FormatError) as caught:
            self.read(file, name)
        self.assertIn(says, caught.exception.message)

    def card(self) -> GltfFile:
        file = GltfFile()
        file.node(mesh=file.mesh(square(file)))
        return file

    def test_nodes_in_a_circle(self) -> None:
        file = self.card()
        file.json["nodes"][0]["children"] = [1]
        file.json["nodes"].append({"children": [0]})
        self.refused(file, "in a circle")

    def test_places_that_are_none(self) -> None:
        file = GltfFile()
        places = SQUARE.copy()
        places[2, 1] = np.nan
        file.node(mesh=file.mesh(file.primitive(places, FACES)))
        del file.json["accessors"][0]["min"], file.json["accessors"][0]["max"]
        self.refused(file, "places that are none")

    def test_many_nodes_take_work_in_proportion(self) -> None:
        calls = []
        for count in (500, 4_000):
            file = self.card()
            file.json["nodes"] += [{} for _ in range(count)]
            file.json["scenes"][0]["nodes"] += list(range(1, count + 1))
            path = self.path(file)
            profile = cProfile.Profile()
            profile.runcall(read_model, path)
            calls.append(pstats.Stats(profile).total_calls)  # type: ignore[attr-defined]
        self.assertLess(calls[1], 10 * calls[0])

    def test_what_lies_beyond_the_file(self) -> None:
        for change in ({"byteOffset": 10**9}, {"byteLength": 10**9}, {"byteOffset": -4}, {"buffer": 7}, {"byteLength": "x"}):
            file = self.card()
            file.json["bufferViews"][0] |= change
            self.refused(file, "missing")
        file = self.card()
        file.json["accessors"][0]["count"] = 10**6
        self.refused(file, "beyond its end")
        file.json["accessors"][0]["count"] = 10**9
        self.refused(file, "too large")
        file = GltfFile()
        file.node(mesh=file.mesh(file.primitive(SQUARE, [[0, 1, 9]])))
        self.refused(file, "corners that are not there")

    def test_too_many_faces_are_refused_before_anything_is_unpacked(self) -> None:
        file = self.card()
        file.json["accessors"][file.json["meshes"][0]["primitives"][0]["indices"]]["count"] = 3 * 5_000_000
        self.refused(file, "two million faces")

    def test_files_beside_it_are_not_looked_for(self) -> None:
        (self.folder / "secret.png").write_bytes(b"x")
        for key, about in (("images", {"uri": "secret.png"}), ("buffers", {"uri": "/etc/hostname", "byteLength": 4})):
            file = self.card()
            if key == "images":
                material = file.material("m", pbrMetallicRoughness={"baseColorTexture": {"index": file.put("textures", {"source": 0})}})
                file.json["images"] = [about]
                file.json["meshes"][0]["primitives"][0]["material"] = material
                self.refused(file, "beside itself")
                continue
            document = json.dumps(file.json | {"buffers": [about]}).encode()
            self.refused(document, "beside itself", "m.gltf")

    def test_a_gltf_with_its_data_in_itself_is_read(self) -> None:
        file = self.card()
        address = "data:application/octet-stream;base64," + base64.b64encode(bytes(file.data)).decode()
        document = file.json | {"buffers": [{"byteLength": len(file.data), "uri": address}]}
        np.testing.assert_allclose(self.read(json.dumps(document).encode(), "m.gltf").size, [2, 2, 0])
        document["buffers"][0]["uri"] = address[:-3] + "!!!"
        self.refused(json.dumps(document).encode(), "damaged", "m.gltf")

    def test_what_is_cut_off_packed_strange_or_of_another_version(self) -> None:
        data = self.card().glb()
        self.refused(data[: len(data) // 2], "cut off")
        for key, value, says in (("extensionsRequired", ["KHR_draco_mesh_compression"], "compressed"),
                                 ("extensionsRequired", ["EXT_made_up"], "EXT_made_up"),
                                 ("asset", {"version": "1.0"}, "glTF 1.0"), ("nodes", 7, "not a list"),
                                 ("nodes", [3], "not all objects"), ("scenes", [{"nodes": [99]}], "no nodes number 99")):  # fmt: skip
            file = self.card()
            file.json[key] = value
            self.refused(file, says)
        self.refused(b"glTF" + bytes(30), "glTF 2")

    def test_a_movement_without_length_or_with_keys_out_of_order_moves_nothing_or_is_refused(self) -> None:
        file = self.card()
        file.movement("Pose", (0, "translation", [0.0], [[1, 0, 0]]))
        self.assertEqual(self.read(file).clips, ())
        file = self.card()
        file.movement("Back", (0, "translation", [1.0, 0.5], [[1, 0, 0], [0, 0, 0]]))
        self.refused(file, "keys do not fit")
        file = self.card()
        file.movement("Elsewhere", (9, "translation", [0.0, 1.0], [[1, 0, 0], [0, 0, 0]]))
        self.refused(file, "what is not there")

    def test_a_texture_is_looked_at_before_it_is_decoded_and_made_no_larger_than_needed(self) -> None:
        file = GltfFile()
        texture = {"baseColorTexture": file.picture(np.full((16, 5000, 3), 90, np.uint8))}
        file.node(mesh=file.mesh(square(file, file.material("wide", pbrMetallicRoughness=texture))))
        picture = self.read(file).parts[0].material.picture
        assert picture is not None
        self.assertEqual(picture.pixels.shape, (4, 1250, 3))
        np.testing.assert_allclose(linear_from_codes(picture.pixels), linear_from_codes(np.full((1, 1, 3), 90, np.uint8))[0, 0, 0], atol=1e-6)


class Boxed(InFolder):
    """A model of several files, in a ZIP."""

    def box(self, files: dict[str, bytes]) -> Path:
        path = self.folder / "model.zip"
        with zipfile.ZipFile(path, "w") as box:
            for name, data in files.items():
                box.writestr(name, data)
        return path

    def unboxed(self, files: dict[str, bytes]) -> Mesh:
        out = self.folder / "out.glb"
        boxed_model(self.box(files), out)
        return read_model(out)

    def beside(self, places: dict[str, str]) -> tuple[dict[str, Any], bytes, bytes]:
        """A glTF whose data and picture lie beside it, its data, and its picture."""
        file = GltfFile()
        material = file.material("card", pbrMetallicRoughness={"baseColorTexture": file.picture(np.full((8, 8, 3), 90, np.uint8))})
        file.node(mesh=file.mesh(square(file, material)))
        view = file.json["bufferViews"][file.json["images"][0].pop("bufferView")]
        picture = bytes(file.data)[view["byteOffset"] : view["byteOffset"] + view["byteLength"]]
        file.json["images"][0]["uri"] = places["picture"]
        file.json["buffers"] = [{"uri": places["data"], "byteLength": len(file.data)}]
        return file.json, bytes(file.data), picture

    def test_gltf_with_its_data_and_pictures_beside_it(self) -> None:
        document, data, picture = self.beside({"data": "card%20data.bin", "picture": "looks/wood.png"})
        mesh = self.unboxed({"thing/card.gltf": json.dumps(document).encode(), "thing/card data.bin": data,
                             "thing/looks/wood.png": picture, "thing/readme.txt": b"x"})  # fmt: skip
        np.testing.assert_allclose(mesh.size, [2, 2, 0])
        found = mesh.parts[0].material.picture
        assert found is not None
        self.assertEqual(found.pixels.shape, (8, 8, 3))
        self.assertTrue((found.pixels == 90).all())

    def test_obj_with_its_materials_and_pictures(self) -> None:
        _, _, picture = self.beside({"data": "a", "picture": "b"})
        obj = b"mtllib card.mtl\nusemtl card\nv -1 0 0\nv 1 0 0\nv 1 2 0\nvt 0 0\nvt 1 0\nvt 1 1\nf 1/1 2/2 3/3\n"
        files = {"card.obj": obj, "card.mtl": b"newmtl card\nKd 1 1 1\nmap_Kd wood.png\n", "wood.png": picture}
        found = self.unboxed(files).parts[0].material.picture
        assert found is not None
        self.assertTrue((found.pixels == 90).all())

    def test_what_is_missing_outside_or_too_large_is_refused(self) -> None:
        for place in ("gone.bin", "../../etc/passwd", "/etc/hostname"):
            document, _, picture = self.beside({"data": place, "picture": "wood.png"})
            with self.assertRaises(FormatError) as caught:
                self.unboxed({"card.gltf": json.dumps(document).encode(), "wood.png": picture})
            self.assertIn(Path(place).name, caught.exception.message)
        with self.assertRaises(FormatError), mock.patch("plonket.room.meshes.boxed.MOST_BYTES", 10_000):
            self.unboxed({"card.obj": bytes(1_000_000)})
        (self.folder / "model.zip").write_bytes(b"PK no zip")
        self.assertFalse(holds_model(self.folder / "model.zip"))
        self.assertFalse(holds_model(self.box({"000.png": b"x"})))
        self.assertTrue(holds_model(self.box({"a/b/c.gltf": b"{}"})))
        with self.assertRaises(FormatError):
            self.unboxed({"card.gltf": b"{}"})
