"""What a shot is made on: an empty canvas, a clip of the shelf, a finished video; and the footage in front of things."""

from __future__ import annotations

import uuid
import zipfile
from fractions import Fraction

import cv2
import numpy as np

from deliveries.models import Delivery
from library.models import Asset
from library.pool import pool
from plonket.keying.brightness import BrightnessKey
from plonket.media import open_clip
from plonket.media.write import Coding, VideoWriter
from plonket.outputs.common import WHOLE_COLOUR
from plonket.render.frame import render_frame
from plonket.render.sources import ShotSources
from shots.editing import document_of, find_shot
from tests.core.motion_clip import motion_clip, rate_sample
from tests.core.test_key import CLOTHS, filmed
from tests.core.test_steady import write
from tests.server.test_plate import WithPlate


def before_sky() -> np.ndarray:
    """A dark, uneven ridge before a sky that grows brighter downwards, 8-bit (360, 640, 3)."""
    rng = np.random.default_rng(6)
    rgb = np.empty((360, 640, 3), np.float32)
    rgb[:] = (np.linspace(170, 225, 360)[:, None, None] * np.array([0.85, 0.95, 1.05])).clip(0, 255)
    x = np.arange(0, 641, 20)
    ridge = np.stack([x, 200 + 25 * np.sin(x / 70) + rng.uniform(-6, 6, len(x))], axis=1)
    mask = np.zeros((360, 640), np.uint8)
    cv2.fillPoly(mask, [np.concatenate([ridge, [[640, 360], [0, 360]]]).astype(np.int32)], 1, cv2.LINE_AA)
    rock = cv2.GaussianBlur(rng.uniform(20, 110, (360, 640, 3)).astype(np.float32), (0, 0), 2)
    rgb[mask > 0] = rock[mask > 0]
    return rgb.astype(np.uint8)


class MadeOn(WithPlate):
    def test_an_empty_canvas_is_a_ground_for_things_alone(self) -> None:
        shot = self.new_shot()
        told = self.page.json("POST", f"/shots/{shot}/footage",
                              {"footage": {"source": "empty", "width": 320, "height": 480, "rate": "25", "frames": 40}})  # fmt: skip
        self.assertEqual((told["width"], told["height"], told["frames"]), (320, 480, 40))
        document = self.page.json("GET", f"/shots/{shot}")["document"]
        footage = document["footage"]
        self.assertEqual((footage["width"], footage["height"], footage["rate"], footage["frames"]), (320, 480, "25/1", 40))
        self.assertEqual(footage["opacity"], 0)
        disc = {"kind": "fill", "id": "f", "name": "F", "first": "#e04030"}
        self.edit(shot, {"op": "add", "path": "/stack/-", "value": disc})
        self.assertGreater(float(self.picture(shot, "final", 39)[..., 2].mean()), 200)
        for bad, said in (({"width": 4}, "pixels wide"), ({"rate": "999"}, "frames a second"), ({"frames": 0}, "1 to 36000"),
                          ({"rate": "0"}, "rate")):  # fmt: skip
            wanted = {"source": "empty", "width": 320, "height": 480, "rate": "25", "frames": 40} | bad
            answer = self.page.json("POST", f"/shots/{shot}/footage", {"footage": wanted}, status=400)
            self.assertIn(said, answer["message"])

    def test_a_clip_of_the_shelf_or_a_finished_video_needs_no_second_bringing_in(self) -> None:
        shot = self.shot_with_clip()
        clip = self.page.json("GET", f"/shots/{shot}")["document"]["footage"]["asset"]
        other = self.new_shot()
        self.page.json("POST", f"/shots/{other}/footage", {"footage": {"source": "shelf", "asset": clip}})
        self.assertEqual(self.page.json("GET", f"/shots/{other}")["document"]["footage"]["asset"], clip)
        still = self.page.upload(self.still())["Plonket-Asset"]
        refused = self.page.json("POST", f"/shots/{other}/footage", {"footage": {"source": "shelf", "asset": still}}, status=400)
        self.assertIn("is no clip", refused["message"])
        self.edit(shot, {"op": "replace", "path": "/footage/out_frame", "value": 7})
        self.page.json("POST", f"/shots/{shot}/deliver", {})
        made = Delivery.objects.get()
        asset = self.page.json("POST", f"/deliveries/{made.pk}/bring-in", {})
        self.assertEqual((asset["kind"], asset["frames"]), ("clip", 8))
        self.assertTrue(made.path.exists(), "the finished video stays where it is")
        self.page.json("POST", f"/shots/{other}/footage", {"footage": {"source": "shelf", "asset": asset["digest"]}})
        self.assertEqual(self.page.json("GET", f"/shots/{other}")["document"]["footage"]["frames"], 8)
        self.page.json("POST", f"/deliveries/{other}/bring-in", {}, status=404)


class InFront(WithPlate):
    def made_on(self, rgb: np.ndarray) -> str:
        shot = self.new_shot()
        path = write(self.folder / "footage.mp4", [rgb] * 6, crf=6)
        asset = self.page.upload(path)["Plonket-Asset"]
        self.page.json("POST", f"/shots/{shot}/footage", {"footage": {"source": "shelf", "asset": asset}})
        return shot

    def test_footage_is_keyed_and_what_is_put_under_it_is_behind(self) -> None:
        rgb, truth = filmed(CLOTHS["green"])
        shot = self.made_on(rgb)
        answer = self.page.json("POST", f"/shots/{shot}/front", {"what": "screen", "name": "Keyed footage"})
        made = answer["shot"]["document"]["stack"][0]
        self.assertEqual((made["id"], made["kind"], made["key"]["kind"]), (answer["made"], "plate", "screen"))
        self.assertEqual(answer["shot"]["document"]["footage"]["opacity"], 0)
        self.edit(shot, {"op": "add", "path": "/stack/-", "value": {"kind": "fill", "id": "f", "name": "F", "first": "#263c70"}})
        seen = self.picture(shot, "final", 2)
        far = cv2.dilate(truth, np.ones((15, 15))) == 0
        self.assertLess(float(np.abs(seen[far] - (0x70, 0x3C, 0x26)).mean()), 4)
        # Its cloth is picked and its matte judged as those of any keyed layer.
        colour = self.page.json("GET", f"/shots/{shot}/layers/{made['id']}/colour?frame=1&x0=40&y0=40&x1=60&y1=60")["colour"]
        self.assertGreater(int(colour[3:5], 16), int(colour[1:3], 16) + 30)
        told = self.page.json("GET", f"/shots/{shot}/layers/{made['id']}/matte?frame=1")
        self.assertTrue(0.2 < told["covered"] < 0.6, told)
        self.page.json("POST", f"/shots/{shot}/undo", {})
        back = self.page.json("POST", f"/shots/{shot}/undo", {})["document"]
        self.assertEqual((back["stack"], back["footage"]["opacity"]), ([], 100))

    def test_a_sky_is_found_and_what_is_before_it_kept(self) -> None:
        rgb = before_sky()
        shot = self.made_on(rgb)
        answer = self.page.json("POST", f"/shots/{shot}/front", {"what": "sky", "name": "Before the sky"})
        layer = answer["shot"]["document"]["stack"][0]
        self.assertEqual(layer["masks"][0]["mode"], "keep")
        self.edit(shot, {"op": "add", "path": "/stack/-", "value": {"kind": "fill", "id": "f", "name": "F", "first": "#20303a"}})
        seen = self.picture(shot, "final", 2)
        self.assertLess(float(np.abs(seen[20:150] - (0x3A, 0x30, 0x20)).mean()), 3)
        self.assertLess(float(np.abs(seen[270:, :, ::-1] - rgb[270:]).mean()), 6)
        nothing = self.made_on(np.full((360, 640, 3), 120, np.uint8))
        refused = self.page.json("POST", f"/shots/{nothing}/front", {"what": "sky", "name": "Sky"}, status=422)
        self.assertIn("No sky was found", refused["message"])

    def test_strokes_on_the_footage_bring_a_part_forward(self) -> None:
        rgb, truth = filmed(CLOTHS["blue"])
        shot = self.made_on(rgb)
        made = self.page.json("POST", f"/shots/{shot}/front", {"what": "strokes", "name": "Brought forward"})["made"]
        self.page.json("POST", f"/shots/{shot}/layers/{made}/strokes",
                       {"frame": 0, "subject": True, "width": 20, "points": [[300, 120], [340, 180], [320, 320]]})  # fmt: skip
        answer = self.page.json("POST", f"/shots/{shot}/layers/{made}/strokes",
                                {"frame": 0, "subject": False, "width": 20, "points": [[40, 40], [600, 30], [600, 300]]})  # fmt: skip
        self.assertEqual(len(answer["document"]["stack"][0]["key"]["strokes"]), 2)
        self.edit(shot, {"op": "add", "path": "/stack/-", "value": {"kind": "fill", "id": "f", "name": "F", "first": "#c03020"}})
        seen = self.picture(shot, "final", 3)
        self.assertLess(float(np.abs(seen[20:60, 40:120] - (0x20, 0x30, 0xC0)).mean()), 6)
        solid = cv2.erode(truth, np.ones((25, 25))) > 0.999
        solid[:, :260] = solid[:, 380:] = False
        self.assertLess(float(np.abs(seen[..., ::-1][solid] - rgb[solid]).mean()), 12)
        outside = {"frame": 0, "subject": True, "width": 5, "points": [[-50, -50]]}
        self.page.json("POST", f"/shots/{shot}/layers/{made}/strokes", outside, status=400)
        self.page.json("POST", f"/shots/{self.new_shot()}/front", {"what": "screen", "name": "X"}, status=400)

    def test_a_still_is_footage_for_as_long_as_one_likes(self) -> None:
        asset = self.page.upload(self.still())["Plonket-Asset"]
        shot = self.new_shot()
        wanted = {"source": "still", "asset": asset, "rate": "25", "frames": 40}
        self.page.json("POST", f"/shots/{shot}/footage", {"footage": wanted})
        footage = self.page.json("GET", f"/shots/{shot}")["document"]["footage"]
        self.assertEqual((footage["frames"], footage["width"], footage["height"], footage["opacity"]), (40, 40, 40, 100))
        rgb = render_frame(document_of(find_shot(uuid.UUID(shot))), ShotSources(document_of(find_shot(uuid.UUID(shot))), pool()), 39)
        np.testing.assert_allclose(rgb[20, 20], [255, 0, 0], atol=2)
        self.page.json("POST", f"/shots/{shot}/footage", {"footage": wanted | {"frames": 0}}, status=400)
        clip = footage["asset"]
        self.page.json("POST", f"/shots/{shot}/footage", {"footage": wanted | {"asset": clip}}, status=400)

    def test_a_clip_with_coverage_keeps_it_as_footage(self) -> None:
        path = self.folder / "cut.mov"
        with VideoWriter(path, (64, 48), Fraction(25), coding=Coding(codec="prores", planes=WHOLE_COLOUR, key_every=1, b_frames=0,
                                                                     covered=True)) as out:  # fmt: skip
            for _ in range(5):
                picture = np.full((48, 64, 4), 200, np.uint8)
                picture[:, :, 3] = np.where(np.arange(64) < 32, 255, 0)
                out.write(picture)
        shot = self.new_shot()
        self.assertEqual(self.page.upload(path, shot=shot).status_code, 204)
        self.assertEqual(self.page.json("GET", f"/shots/{shot}")["document"]["footage"]["ground"], "clear")
        asset = self.page.json("GET", f"/shots/{shot}")["document"]["footage"]["asset"]
        for level in (0, 1, 2):
            # A key takes more off; what was not there does not come back.
            keyed = pool().keyed(asset, 3, BrightnessKey(keeps="bright"), level).level(0)[0]
            middle = keyed.shape[1] // 2
            self.assertLess(float(keyed[:, middle + 3 :].max()), 0.02)
            self.assertGreater(float(keyed[4:-4, 4 : middle - 3, 3].min()), 0.95)
        self.page.json("POST", f"/shots/{shot}/deliver", {})
        clip = open_clip(Delivery.objects.get().path)
        self.addCleanup(clip.close)
        rgba = clip.rgba(3)
        self.assertLess(int(rgba[:, 36:, 3].max()), 4)
        self.assertGreater(int(rgba[:, :28, 3].min()), 251)

    def test_a_zip_of_numbered_pictures_with_one_missing(self) -> None:
        path = self.folder / "storm.zip"
        with zipfile.ZipFile(path, "w") as box:
            for k in (8, 9, 10, 12):
                box.writestr(f"storm/storm-{k}.png", cv2.imencode(".png", np.full((48, 64, 3), 10 * k, np.uint8))[1].tobytes())
            box.writestr("storm/notes.txt", "by hand")
        shot = self.new_shot()
        self.assertEqual(self.page.upload(path, shot=shot).status_code, 204)
        footage = self.page.json("GET", f"/shots/{shot}")["document"]["footage"]
        self.assertEqual(footage["frames"], 5)
        clip = pool().clip(footage["asset"])
        seen = [int(clip.rgb(k)[24, 32, 0]) for k in range(5)]
        np.testing.assert_allclose(seen, [80, 90, 100, 100, 120], atol=1)
        self.assertEqual(self.page.json("GET", f"/assets/{footage['asset']}")["missing"], "3")

    def test_missing_ones_are_named_before_they_are_sent(self) -> None:
        names = [f"storm-{k}.png" for k in (8, 9, 10, 12)]
        self.assertEqual(self.page.json("POST", "/pictures/missing", {"names": names}), {"missing": "11"})
        self.assertEqual(self.page.json("POST", "/pictures/missing", {"names": names[:3]}), {"missing": ""})

    def test_a_recorded_gyroscope_is_known_and_at_hand_when_a_camera_is_measured(self) -> None:
        path = self.folder / "phone.mp4"
        motion_clip(path, [(k / 200, rate_sample(0.1, 0, 0)) for k in range(200)])
        shot = self.new_shot()
        self.assertEqual(self.page.upload(path, shot=shot).status_code, 204)
        footage = self.page.json("GET", f"/shots/{shot}")["document"]["footage"]
        told = self.page.json("GET", f"/assets/{footage['asset']}")
        self.assertEqual((told["gyroscope"], told["transfer"]), (True, "sdr"))
        record = ShotSources(document_of(find_shot(uuid.UUID(shot))), pool()).gyroscope()
        assert record is not None
        np.testing.assert_allclose(record.rates, np.tile([0.1, 0, 0], (200, 1)), atol=1e-6)
        plain = self.shot_with_clip()
        self.assertIsNone(ShotSources(document_of(find_shot(uuid.UUID(plain))), pool()).gyroscope())

    def test_seen_through_it_is_delivered_with_coverage(self) -> None:
        rgb, truth = filmed(CLOTHS["green"])
        shot = self.made_on(rgb)
        self.page.json("POST", f"/shots/{shot}/front", {"what": "screen", "name": "Keyed footage"})
        self.edit(shot, {"op": "replace", "path": "/footage/ground", "value": "clear"})
        self.page.json("POST", f"/shots/{shot}/deliver", {})
        made = Delivery.objects.get()
        self.assertEqual(made.path.name, "finished.mov")
        clip = open_clip(made.path)
        self.addCleanup(clip.close)
        self.assertEqual(clip.info.frames, 6)
        self.assertLess(float(np.abs(clip.rgba(5)[..., 3] / 255 - truth).mean()), 0.012)
        answer = self.page.get(f"/deliveries/{made.pk}/file?download")
        self.assertIn(".mov", answer.headers["Content-Disposition"])
        told = self.page.json("GET", "/deliveries")[0]
        self.assertEqual((told["kind"], told["shows"], told["file"][-4:]), ("prores4444", "nothing", ".mov"))
        self.assertEqual(Asset.objects.count(), 1)
