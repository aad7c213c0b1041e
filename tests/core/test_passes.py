"""A frame in its parts adds up to the picture; files say how."""

from __future__ import annotations

import json
import zipfile

import cv2
import numpy as np
import OpenEXR

from plonket.base.colour import encode
from plonket.base.conventions import F32, U8
from plonket.base.errors import BadInput
from plonket.document.bases import LayerBase
from plonket.document.shot import Footage, Shot
from plonket.document.spot import Spot
from plonket.image.exr import read_exr
from plonket.layers.generated import GeneratedLayer
from plonket.layers.wash import WashLayer
from plonket.media import open_clip
from plonket.outputs.h264 import H264
from plonket.outputs.layers import FramePasses, folder_of, put_together
from plonket.outputs.parts import Parts
from plonket.render.deliver import finish, write_pieces
from plonket.render.frame import render_frame
from plonket.render.passes import frame_passes, write_passes
from tests.core.furnished import Furnished, Rooms
from tests.core.test_scene import SIZE, camera

W, H = SIZE


def plate() -> U8:
    """Something of every brightness."""
    y, x = np.mgrid[0:H, 0:W]
    return np.stack([x * 255 // W, y * 255 // H, (x + y) % 256], axis=-1).astype(np.uint8)


class Passes(Rooms):
    def setUp(self) -> None:
        super().setUp()
        self.near = self.box("near", (0.2, 0.3, 0.1), (200, 40, 30), x=-0.1, z=0.25)
        self.far = self.box("far", (0.3, 0.5, 0.1), (30, 60, 200), x=0.2, z=-0.35)
        self.spots["card"] = Spot(x=0.0, y=0.1, z=0.0)

    def card(self, **more: object) -> GeneratedLayer:
        noise = {"kind": "texture", "dark": "#20c040", "light": "#20c040", "dark_cover": 40.0, "light_cover": 40.0}
        return GeneratedLayer.model_validate({"id": "card", "name": "A card!", "generator": noise,
                                              "follow": {"target": "card", "perspective": True}, **more})  # fmt: skip

    def shot(self, *layers: LayerBase) -> tuple[Shot, Furnished]:
        sources = Furnished(camera(), self.spots, self.files, layers)
        sources.plates = dict.fromkeys(range(3), plate())
        footage = Footage(asset="f" * 64, name="f", width=W, height=H, rate="25/1", frames=3, in_frame=0, out_frame=2)
        shot = Shot.model_construct(**(Shot(name="s", footage=footage).__dict__ | {"stack": list(layers)}))
        return shot, sources

    def apart(self, *layers: LayerBase) -> tuple[U8, FramePasses]:
        shot, sources = self.shot(*layers)
        return render_frame(shot, sources, 1), frame_passes(shot, sources, 1)

    def codes(self, canvas: F32) -> np.ndarray:
        return np.asarray(np.round(255 * encode(np.clip(canvas[..., :3], 0, 1))))

    def test_they_add_up_to_the_picture(self) -> None:
        """With shadows, see-through things, other blends and a wash, within one of 255."""
        wash = WashLayer.model_validate({"id": "w", "name": "w", "looks": [{"id": "b", "name": "b", "kind": "blur", "radius": 6.0}]})
        add = self.card(blend="screen", opacity=70.0)
        for stack in ((self.near, self.far), (self.card(), self.near, self.far), (add, self.near), (self.near, wash, self.far)):
            whole, passes = self.apart(*stack)
            off = np.abs(self.codes(put_together(passes)) - whole)
            self.assertLessEqual(float(off.max()), 1.0, [one.id for one in stack])
        self.assertEqual([one.name for one in passes.layers], ["near_near"], "what a wash changed is in the base")

    def test_shadow_matte_depth_and_normals_are_those_of_the_thing(self) -> None:
        _, passes = self.apart(self.near)
        (one,) = passes.layers
        self.assertGreater(int((one.shadow > 0.3).sum()), 300)
        self.assertGreater(int((one.matte > 0.99).sum()), 1500)
        self.assertLess(float((one.shadow * one.matte)[one.matte > 0.99].max()), 0.02, "there is no shadow on the thing itself")
        self.assertLess(float(one.light[one.matte < 0.001].max()), 1e-4, "and no light where it is not")
        assert one.depth is not None and one.normals is not None
        # The box's front lies 5 cm before its spot, and faces the camera's side of the room.
        seen = camera()
        front = np.array([-0.1, 0.15, 0.30])
        x, y = (int(v) for v in seen.project(1, front))
        self.assertAlmostEqual(float(one.depth[y, x]), float(seen.local(1, front)[2]), delta=0.003)
        expected = seen.turn(1).T @ [0, 0, 1.0]
        np.testing.assert_allclose(one.normals[y, x], expected, atol=0.02)
        self.assertEqual(float(one.depth[one.matte < 0.001].max()), 0)

    def test_what_the_ground_mirrors_comes_apart_and_all_adds_up(self) -> None:
        wet = self.near.model_copy(update={"mirror": 40.0, "mirror_rough": 5.0})
        whole, passes = self.apart(wet, self.far)
        off = np.abs(self.codes(put_together(passes)) - whole)
        self.assertLessEqual(float(off.max()), 1.0)
        far, near = passes.layers
        self.assertIsNone(far.reflection)
        assert near.reflection is not None
        self.assertGreater(int((near.reflection[..., 3] > 0.1).sum()), 300)
        self.assertLess(float((near.reflection[..., 3] * (near.matte > 0.99)).max()), 0.02, "not on the thing itself")
        shot, sources = self.shot(wet)
        self.assertGreater(int((frame_passes(shot, sources, 1).layers[0].shadow > 0.3).sum()), 300, "its shadow is still apart")
        out = self.folder / "parts"
        write_passes(shot, sources, out, start=1, stop=2)
        files = out / "near_near" / "000000.exr", out / "base" / "000000.exr"
        rgba, base = (read_exr(file, "RGBA") for file in files)
        mirrored, shade = read_exr(files[0], [f"reflection.{c}" for c in "RGBA"]), read_exr(files[0], ["shadow.A"])
        left = 1 - rgba[..., 3:] - shade - mirrored[..., 3:]
        together = rgba[..., :3] + mirrored[..., :3] + base[..., :3] * left
        off = np.abs(self.codes(np.dstack([together, left]).astype(np.float32)) - render_frame(shot, sources, 1))
        self.assertLessEqual(float(off.max()), 1.0)

    def test_files_say_how_they_go_together(self) -> None:
        shot, sources = self.shot(self.card(), self.near)
        out = self.folder / "parts"
        write_passes(shot, sources, out, start=1, stop=2)
        page = json.loads((out / "passes.json").read_text())
        self.assertEqual((page["first_frame"], page["frames"], page["fps"], page["base"]), (1, 1, "25", "base"))
        self.assertEqual([one["folder"] for one in page["layers"]], ["near_near", "a-card_card"])
        canvas = read_exr(out / "base" / "000000.exr", "RGBA")
        for one in page["layers"]:
            rgba = read_exr(out / one["folder"] / "000000.exr", "RGBA")
            shade = read_exr(out / one["folder"] / "000000.exr", ["shadow.A"])[..., 0]
            canvas[..., :3] = rgba[..., :3] + canvas[..., :3] * (1 - rgba[..., 3] - shade)[..., None]
        off = np.abs(self.codes(canvas) - render_frame(shot, sources, 1))
        self.assertLessEqual(float(off.max()), 1.0)
        depth = read_exr(out / "a-card_card" / "000000.exr", "Z")[..., 0]
        self.assertAlmostEqual(float(np.median(depth[depth > 0])), float(camera().local(1, np.array([0, 0.1, 0.0]))[2]), delta=0.1)

    def test_delivered_in_two_pieces_they_are_one_folder_or_one_box(self) -> None:
        shot, sources = self.shot(self.card(), self.near)
        whole = self.folder / "parts"
        write_passes(shot, sources, whole, start=0, stop=3, wanted=("beauty", "shadow", "reflection", "matte", "depth"))
        parts, video = Parts(id="p", name="P"), H264(id="v", name="V")
        pieces = [self.folder / "one", self.folder / "two"]
        for piece, (a, b) in zip(pieces, ((0, 2), (2, 3)), strict=True):
            write_pieces(shot, sources, [parts, video], lambda o, at=piece: at if o is parts else at.with_suffix(".mp4"),  # type: ignore[arg-type, misc]
                         start=a, stop=b, began=0)  # fmt: skip
        finish(shot, parts, pieces, self.folder / "made", start=0, stop=3, sound=None)
        finish(shot, parts, pieces, self.folder / "made.zip", start=0, stop=3, sound=None)
        with zipfile.ZipFile(self.folder / "made.zip") as box:
            box.extractall(self.folder / "unboxed")
        names = sorted(str(p.relative_to(whole)) for p in whole.rglob("*.*"))
        for made in (self.folder / "made", self.folder / "unboxed"):
            self.assertEqual(sorted(str(p.relative_to(made)) for p in made.rglob("*.*")), names)
            self.assertEqual(json.loads((made / "passes.json").read_text()), json.loads((whole / "passes.json").read_text()))
            for name in ("base/000002.exr", "near_near/000001.exr"):
                np.testing.assert_array_equal(read_exr(made / name, "RGBA"), read_exr(whole / name, "RGBA"))
        one = parts.model_copy(update={"picture": "exr-one", "normals": True})
        write_pieces(shot, sources, [one], lambda _: self.folder / "three", start=1, stop=2, began=0)  # type: ignore[arg-type]
        with OpenEXR.File(str(self.folder / "three" / "000001.exr"), separate_channels=True) as found:
            planes = {name: np.asarray(channel.pixels) for name, channel in found.channels().items()}
        np.testing.assert_array_equal(planes["near_near.R"], read_exr(whole / "near_near/000001.exr", "R")[..., 0])
        self.assertEqual({name.partition(".")[0] for name in planes}, {"R", "G", "B", "A", "near_near", "a-card_card"})
        self.assertLessEqual({"near_near.Z", "near_near.N.X", "near_near.shadow.A"}, set(planes))
        self.assertEqual(open_clip(self.folder / "two.mp4").info.frames, 1, "a video of the same rendering")

    def test_pictures_of_sixteen_bits(self) -> None:
        shot, sources = self.shot(self.near)
        out = self.folder / "png"
        write_passes(shot, sources, out, start=0, stop=2, wanted=("beauty", "shadow", "matte"), kind="png")
        names = sorted(str(p.relative_to(out)) for p in out.rglob("*.png"))
        self.assertEqual(names, sorted([f"base/beauty/00000{k}.png" for k in range(2)] + [
            f"near_near/{name}/00000{k}.png" for name in ("beauty", "matte", "shadow") for k in range(2)]))
        picture = cv2.imread(str(out / "near_near/beauty/000001.png"), cv2.IMREAD_UNCHANGED)
        matte = cv2.imread(str(out / "near_near/matte/000001.png"), cv2.IMREAD_UNCHANGED)
        self.assertEqual((picture.dtype, picture.shape, matte.shape), (np.uint16, (H, W, 4), (H, W)))
        np.testing.assert_array_equal(picture[..., 3], matte)

    def test_what_is_asked_for_wrongly_is_refused_and_nothing_written(self) -> None:
        shot, sources = self.shot(self.near)
        for more in ({"wanted": ("light",)}, {"wanted": ("depth",), "kind": "png"}, {"kind": "tga"}, {"start": 2, "stop": 9}):
            with self.assertRaises(BadInput):
                write_passes(shot, sources, self.folder / "none", **{"start": 0, "stop": 1, **more})  # type: ignore[arg-type]
        with self.assertRaises(BadInput):
            write_passes(shot, sources, self.folder / "none.exr", start=0, stop=1)
        self.assertFalse((self.folder / "none").exists())
        self.assertEqual(folder_of(self.near.model_copy(update={"name": "../../x é"})), "x_near")
