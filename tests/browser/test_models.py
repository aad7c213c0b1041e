"""A model with all that its file describes: brought in as several files, stood in a room, moving, painted, part of it hidden."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path

import numpy as np
import trimesh
from playwright.sync_api import expect

from library.models import Asset
from plonket.base.conventions import F64
from synth.elements.models import little_windmill
from tests.browser.filmed_room import SIZE, FilmedRoom, room
from tests.browser.stage import until

FRAMES, AT = 8, 3


def boxed(folder: Path) -> Path:
    """The windmill as a ZIP: its description, its data and its pictures, each a file of its own."""
    data = little_windmill()
    length = int.from_bytes(data[12:16], "little")
    document, body = json.loads(data[20 : 20 + length]), data[28 + length :]
    path = folder / "windmill.zip"
    with zipfile.ZipFile(path, "w") as box:
        for k, image in enumerate(document["images"]):
            view = document["bufferViews"][image.pop("bufferView")]
            box.writestr(f"mill/looks/{k}.png", body[view["byteOffset"] : view["byteOffset"] + view["byteLength"]])
            image["uri"] = f"looks/{k}.png"
        document["buffers"][0]["uri"] = "mill.bin"
        box.writestr("mill/mill.bin", body)
        box.writestr("mill/mill.gltf", json.dumps(document))
    return path


class Windmill(FilmedRoom):
    def stand(self) -> None:
        """The filmed room with its true camera, and the windmill on its bench."""
        self.begin(FRAMES)
        page = self.page
        self.go_to(AT)
        self.red_before = self.red(self.picture())
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(boxed(self.folder))
        until(lambda: Asset.objects.filter(name="windmill", state="ready").exists(), 60, "the model on the shelf")
        page.get_by_role("dialog").get_by_role("button", name="Plonk windmill").click()
        x, y = room().pixels(np.array([[0.15, 0.0, 0.35]]))[AT, 0]
        page.mouse.click(*self.screen(float(x), float(y), SIZE))
        until(lambda: len(self.document()["stack"]) == 1, 20, "the layer")
        self.type_number("Height", 0.4)
        until(lambda: self.layer()["tall"] == 0.4, 20, "the height")

    def layer(self) -> dict[str, object]:
        return self.document()["stack"][0]  # type: ignore[no-any-return]

    def picture(self) -> F64:
        self.caught_up()
        return np.asarray(self.canvas_pixels(), np.float64)

    def red(self, rgb: F64) -> int:
        """How many pixels are as red as the stripes of its sails; see `red_before`."""
        return int(((rgb[..., 0] > 1.8 * rgb[..., 1]) & (rgb[..., 0] > 90)).sum())

    def test_it_turns_is_painted_and_loses_its_sails(self) -> None:
        page = self.page
        self.stand()
        still = self.picture()
        self.assertGreater(self.red(still), self.red_before + 150)
        page.get_by_role("combobox", name="Movement of the model").click()
        page.get_by_role("option", name="Turn, 4.0 s").click()
        until(lambda: self.layer()["moving"] is True, 20, "the movement")
        self.assertEqual((self.layer()["clip"], self.layer()["clip_seconds"]), (0, 4.0))
        self.type_number("Speed", 400)
        until(lambda: self.layer()["pace"] == 400, 20, "its speed")
        turned = self.picture()
        # A tenth of a second at four times the speed is a tenth of a turn.
        self.assertGreater(int((np.abs(turned - still).max(axis=2) > 40).sum()), 200)
        self.assertGreater(self.red(turned), self.red_before + 150)

        page.get_by_role("button", name="Hide Sails").click()
        until(lambda: self.layer()["parts"] != [], 20, "the sails to go")
        self.assertEqual(self.layer()["parts"], [{"material": "Sails", "shown": False, "paint": None, "surface": "own"}])
        bare = self.picture()
        self.assertLess(self.red(bare), self.red_before + 20)
        page.get_by_role("button", name="Show Sails").click()
        until(lambda: self.layer()["parts"] == [], 20, "the sails again")

        page.get_by_role("button", name="Paint Wood").click()
        until(lambda: self.layer()["parts"] != [], 20, "the paint")
        colour = page.get_by_label("Colour of Wood", exact=True)
        colour.fill("#20c040")
        colour.blur()
        until(lambda: self.layer()["parts"][0]["paint"] == "#20c040", 20, "its colour")  # type: ignore[index]
        painted = self.picture()
        green = (painted[..., 1] > 1.5 * painted[..., 0]) & (painted[..., 1] > 60)
        self.assertGreater(int(green.sum()), 150)
        page.get_by_role("button", name="All as in its file").click()
        until(lambda: self.layer()["parts"] == [], 20, "all as it was")
        self.caught_up()
        page.keyboard.press("Control+z")
        until(lambda: len(self.layer()["parts"]) == 1, 20, "undo")  # type: ignore[arg-type]
        page.reload()
        expect(page.get_by_role("button", name="Undo")).to_be_enabled()
        self.assertEqual(len(self.layer()["parts"]), 1)  # type: ignore[arg-type]


class Town(FilmedRoom):
    def test_a_town_of_one_model_stands_in_the_haze(self) -> None:
        page = self.page
        self.begin(FRAMES)
        self.go_to(AT)
        house = self.folder / "house.glb"
        mesh = trimesh.creation.box((0.1, 0.1, 0.1))
        black = trimesh.visual.material.PBRMaterial(baseColorFactor=[8, 8, 8, 255], metallicFactor=0.0, roughnessFactor=1.0)
        mesh.visual = trimesh.visual.TextureVisuals(uv=np.zeros((len(mesh.vertices), 2)), material=black)
        mesh.export(house)
        page.keyboard.press("p")
        page.get_by_label("Files to bring in").set_input_files(house)
        until(lambda: Asset.objects.filter(name="house", state="ready").exists(), 60, "the model on the shelf")
        page.get_by_role("dialog").get_by_role("button", name="Plonk house").click()
        x, y = room().pixels(np.array([[0.0, 0.0, 0.4]]))[AT, 0]
        page.mouse.click(*self.screen(float(x), float(y), SIZE))
        until(lambda: len(self.document()["stack"]) == 1, 20, "the layer")
        for label, value in (("Height", 0.12), ("Side by side", 3), ("Rows", 3), ("Apart sideways", 0.3), ("Apart in depth", 0.3),
                             ("Sizes", 20), ("Seed", 3)):  # fmt: skip
            self.type_number(label, value)
        until(lambda: self.document()["stack"][0]["copies_seed"] == 3, 20, "the town")
        self.caught_up()
        clear = np.asarray(self.canvas_pixels(), np.float64)
        self.type_number("Haze", 50)
        self.type_number("At", 1.5)
        until(lambda: self.document()["stack"][0]["haze_at"] == 1.5, 20, "the haze")
        self.caught_up()
        hazy = np.asarray(self.canvas_pixels(), np.float64)
        # The further off a house stands, the more of it is lost: what was black is lighter towards the back.
        lost = (hazy - clear).mean(axis=2)
        there = np.argwhere(lost > 8)
        self.assertGreater(len(there), 4000)
        near, far = np.quantile(there[:, 0], [0.85, 0.15])
        seen = [float(hazy[y, x].mean()) for y, x in (there[there[:, 0] > near].T, there[there[:, 0] < far].T)]
        self.assertGreater(seen[0], 80, "the nearest was black")
        self.assertGreater(seen[1], seen[0] + 8)
