"""Masks and clean frames over the API: SVG out and in, more like one, the paint desk, and frames painted elsewhere."""

from __future__ import annotations

import io
import os
import zipfile
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from jobs.models import Job
from library.models import Asset
from library.pool import pool
from plonket.base.outlines import Outline, control_points
from plonket.document.hashes import mends_hash
from plonket.document.shot import read_shot
from plonket.masks.follow_outline import points_of
from plonket.render.sources import ShotSources
from plonket_server import store
from shots.exchange import look_outside
from shots.models import Exchange, Revision
from tests.core.test_follow_outline import film, off
from tests.core.test_steady import write
from tests.server.test_plate import WithPlate

MASK = {
    "kind": "outline", "id": "mask-1", "name": "Card", "rides": "to:plane", "reference_frame": 0,
    "outline": {"keys": [{"frame": 0, "points": [
        {"x": 60, "y": 50, "feather": 6}, {"x": 120, "y": 50}, {"x": 120, "y": 110, "out_x": -10, "out_y": 12}, {"x": 60, "y": 110},
    ]}]},
}  # fmt: skip


class Masks(WithPlate):
    def with_clean(self, **frame: Any) -> str:
        shot = self.measured()
        clean = {"kind": "clean", "id": "clean", "name": "Clean", "target": "plane", "masks": [MASK],
                 "frames": [{"frame": 0, **frame}], "grain": False, "light": "none"}  # fmt: skip
        self.edit(shot, {"op": "add", "path": "/plate/-", "value": clean})
        return shot

    def clean_of(self, shot: str) -> Any:
        return self.page.json("GET", f"/shots/{shot}")["document"]["plate"][0]

    def test_masks_go_out_as_svg_and_come_back_the_same(self) -> None:
        shot = self.with_clean()
        answer = self.page.get(f"/shots/{shot}/masks/clean?frame=0")
        self.assertEqual(answer.status_code, 200)
        self.assertTrue(answer["Content-Disposition"].startswith("attachment"))
        text = answer.content.decode()
        self.page.json("POST", f"/shots/{shot}/masks/clean", {"text": text, "frame": 0})
        first, second = self.clean_of(shot)["masks"]
        self.assertEqual((second["id"], second["name"], second["rides"]), ("mask-2", "Card", "footage"))
        for a, b in zip(first["outline"]["keys"][0]["points"], second["outline"]["keys"][0]["points"], strict=True):
            for key, value in a.items():
                self.assertAlmostEqual(value, b[key], delta=0.01)
        bad = self.page.json("POST", f"/shots/{shot}/masks/clean", {"text": "<svg", "frame": 0}, status=422)
        self.assertIn("not a readable SVG", bad["message"])
        self.page.json("GET", f"/shots/{shot}/masks/nothing?frame=0", status=404)

    def test_masks_that_move_go_out_and_come_back_and_are_pictures_for_others(self) -> None:
        shot = self.with_clean()
        first = self.clean_of(shot)["masks"][0]["outline"]["keys"][0]["points"]
        keys = [{"frame": f, "points": [p | {"x": p["x"] + 5 * f, "feather": 0} for p in first]} for f in (0, 4)]
        mask = {"kind": "outline", "id": "m", "name": "Goes", "rides": "footage", "outline": {"keys": keys}}
        layer = {"kind": "fill", "id": "f", "name": "F", "masks": [mask]}
        self.edit(shot, {"op": "add", "path": "/stack/-", "value": layer})
        text = self.page.get(f"/shots/{shot}/masks/f?frame=0&moving=true").content.decode()
        self.page.json("POST", f"/shots/{shot}/masks/f", {"text": text, "frame": 2})
        back = self.page.json("GET", f"/shots/{shot}")["document"]["stack"][-1]["masks"][1]["outline"]["keys"]
        self.assertEqual([key["frame"] for key in back], [0, 4])
        self.assertAlmostEqual(back[1]["points"][0]["x"], first[0]["x"] + 20, delta=0.01)
        data = self.page.get(f"/shots/{shot}/masks/f/pictures/mattes.zip").content
        with zipfile.ZipFile(io.BytesIO(data)) as box:
            third = cv2.imdecode(np.frombuffer(box.read("000002.png"), np.uint8), cv2.IMREAD_GRAYSCALE)
        assert third is not None
        self.assertEqual((int(third[80, 68]), int(third[80, 72]), int(third[80, 126])), (0, 255, 255))
        self.assertTrue(self.page.get(f"/shots/{shot}/masks/f/pictures/matte.mkv").content.startswith(b"\x1a\x45\xdf\xa3"))
        self.assertEqual(self.page.get(f"/shots/{shot}/masks/f/pictures/plane.json").status_code, 400)

    def test_masks_come_in_on_a_layer_in_a_parcel(self) -> None:
        shot = self.with_clean()
        text = self.page.get(f"/shots/{shot}/masks/clean?frame=0").content.decode()
        inside = {"kind": "fill", "id": "inside", "name": "Inside"}
        self.edit(shot, {"op": "add", "path": "/parcels/-", "value": {"id": "q", "name": "Q", "stack": [inside]}})
        self.page.json("POST", f"/shots/{shot}/masks/inside", {"text": text, "frame": 0})
        document = self.page.json("GET", f"/shots/{shot}")["document"]
        self.assertEqual([m["name"] for m in document["parcels"][0]["stack"][0]["masks"]], ["Card"])
        self.assertEqual(len(document["plate"][0]["masks"]), 1)

    def test_a_document_from_before_a_field_was_there_can_still_be_edited(self) -> None:
        shot = self.with_clean()
        asset = self.page.upload(self.still())["Plonket-Asset"]
        still = {"kind": "still", "id": "s", "name": "S", "asset": asset, "width": 40, "height": 40}
        self.edit(shot, {"op": "add", "path": "/stack/-", "value": still})
        revision = Revision.objects.filter(shot=shot).order_by("-number").first()
        assert revision is not None
        for field in ("masks", "key", "shutter"):
            del revision.document["stack"][0][field]
        revision.save()
        self.edit(shot, {"op": "replace", "path": "/stack/0/masks", "value": [{**MASK, "id": "m"}]})
        self.assertEqual(len(self.page.json("GET", f"/shots/{shot}")["document"]["stack"][0]["masks"]), 1)

    def test_more_like_one_are_found_in_its_frame(self) -> None:
        rng = np.random.default_rng(5)
        cloth = np.clip(rng.normal(0, 2, (180, 320, 3)) + (60, 140, 70), 0, 255).astype(np.uint8)
        spots = [(60, 50), (160, 60), (250, 120), (90, 130)]
        for k, (x, y) in enumerate(spots):
            turn = cv2.getRotationMatrix2D((0, 0), 20 * k, 1)[:, :2]
            for arm in ((12, 0), (0, 12)):
                dx, dy = turn @ arm
                cv2.line(cloth, (round(x - dx), round(y - dy)), (round(x + dx), round(y + dy)), (235, 230, 220), 4, cv2.LINE_AA)
        clip = write(self.folder / "cloth.mp4", [cloth] * 4)
        shot = self.new_shot()
        self.page.upload(clip, shot=shot)
        box = [{"x": x, "y": y} for x, y in ((45, 35), (75, 35), (75, 65), (45, 65))]
        mask = {**MASK, "rides": "footage", "outline": {"keys": [{"frame": 0, "points": box}]}}
        self.edit(shot, {"op": "add", "path": "/plate/-", "value": {"kind": "mend", "id": "m", "name": "M", "masks": [mask]}})
        found = self.page.json("GET", f"/shots/{shot}/masks/m/mask-1/alike?frame=1")
        places = sorted((np.array(f["matrix"]).reshape(3, 3) @ [60, 50, 1])[:2].tolist() for f in found)
        self.assertEqual(len(places), 3, found)
        for place, true in zip(places, sorted(spots[1:]), strict=True):
            self.assertLess(float(np.abs(np.array(place) - true).max()), 2.0)
        flat = {**mask, "id": "mask-2", "outline": {"keys": [{"frame": 0, "points": [
            {"x": 190, "y": 20}, {"x": 215, "y": 20}, {"x": 215, "y": 40}]}]}}  # fmt: skip
        self.edit(shot, {"op": "add", "path": "/plate/0/masks/-", "value": flat})
        refused = self.page.json("GET", f"/shots/{shot}/masks/m/mask-2/alike?frame=1", status=422)
        self.assertIn("looks like its surroundings", refused["message"])

    def test_an_outline_bends_with_what_it_shows(self) -> None:
        frames, true = film("astronaut.png", "coffee.png", 6.0)
        shot = self.new_shot()
        self.page.upload(write(self.folder / "cloth.mp4", frames[:12]), shot=shot)
        drawn = {"keys": [{"frame": 3, "points": [p.model_dump() for p in points_of(true(3))]}]}
        mask = {**MASK, "rides": "footage", "outline": drawn}
        self.edit(shot, {"op": "add", "path": "/plate/-", "value": {"kind": "mend", "id": "m", "name": "M", "masks": [mask]}})
        job = Job.objects.get(pk=self.page.json("POST", f"/shots/{shot}/masks/m/mask-1/follow", {"frame": 3})["id"])
        self.assertEqual((job.state, job.result["stopped"]), ("done", None), job.message)
        bent = Outline.model_validate(self.clean_of(shot)["masks"][0]["outline"])
        self.assertEqual([k.frame for k in bent.keys if not k.followed], [3])
        for frame in (0, 7, 11):
            self.assertLess(off(control_points(bent, frame), true(frame)), 1.0)

        # Drawn anew on a later frame and followed on from there, what lies before it stays.
        at = next(n for n, k in enumerate(bent.keys) if k.frame > 5)
        moved = [{**p.model_dump(), "x": p.x + 6} for p in bent.keys[at].points]
        frame = bent.keys[at].frame
        self.edit(shot, {"op": "replace", "path": f"/plate/0/masks/0/outline/keys/{at}", "value": {"frame": frame, "points": moved}})
        self.page.json("POST", f"/shots/{shot}/masks/m/mask-1/follow", {"frame": frame, "way": "on"})
        after = Outline.model_validate(self.clean_of(shot)["masks"][0]["outline"])
        self.assertEqual([k for k in after.keys if k.frame < frame], [k for k in bent.keys if k.frame < frame])
        self.assertAlmostEqual(float(np.mean((control_points(after, 11) - control_points(bent, 11))[:, 0])), 6.0, delta=1.0)
        self.page.json("POST", f"/shots/{shot}/undo", {})
        self.assertEqual(len(self.clean_of(shot)["masks"][0]["outline"]["keys"]), len(bent.keys))

        self.edit(shot, {"op": "replace", "path": "/plate/0/masks/0/rides", "value": "screen"})
        refused = self.page.json("POST", f"/shots/{shot}/masks/m/mask-1/follow", {"frame": 3}, status=400)
        self.assertIn("ride on the footage", refused["message"])
        self.page.json("POST", f"/shots/{shot}/masks/m/none/follow", {"frame": 3}, status=400)

    def test_masks_of_looks_follow_go_out_and_come_in_as_others_do(self) -> None:
        """Of a look over everything, and of one on a layer, which may be called the same."""
        frames, true = film("astronaut.png", "coffee.png", 6.0)
        shot = self.new_shot()
        self.page.upload(write(self.folder / "cloth.mp4", frames[:6]), shot=shot)
        drawn = {"keys": [{"frame": 2, "points": [p.model_dump() for p in points_of(true(2))]}]}
        look = {"kind": "colour", "id": "look-1", "name": "Dim", "exposure": -1,
                "masks": [{**MASK, "rides": "footage", "outline": drawn}]}  # fmt: skip
        wash = {"kind": "wash", "id": "w", "name": "W", "looks": [look]}
        self.edit(shot, {"op": "add", "path": "/finish/-", "value": look}, {"op": "add", "path": "/stack/0", "value": wash})

        def masks(address: str) -> list[dict[str, Any]]:
            document = self.page.json("GET", f"/shots/{shot}")["document"]
            looks = document["finish"] if address.startswith("_") else document["stack"][0]["looks"]
            return list(looks[0]["masks"])

        for address, other in (("_finish.look-1", "w.look-1"), ("w.look-1", "_finish.look-1")):
            before = masks(other)
            job = self.page.json("POST", f"/shots/{shot}/masks/{address}/mask-1/follow", {"frame": 2})
            self.assertEqual(Job.objects.get(pk=job["id"]).state, "done")
            bent = Outline.model_validate(masks(address)[0]["outline"])
            self.assertTrue(any(key.followed for key in bent.keys))
            self.assertLess(off(control_points(bent, 5), true(5)), 1.0)
            text = self.page.get(f"/shots/{shot}/masks/{address}?frame=2").content.decode()
            self.page.json("POST", f"/shots/{shot}/masks/{address}", {"text": text, "frame": 2})
            self.assertEqual([m["id"] for m in masks(address)], ["mask-1", "mask-2"])
            self.assertEqual(masks(other), before, "the other one stays as it was")
            self.assertEqual(self.page.get(f"/shots/{shot}/masks/{address}/pictures/mattes.zip").status_code, 200)
        for bad in ("w.none", "none.look-1", "_finish.", "_finish", "w.look-1.x"):
            self.page.json("GET", f"/shots/{shot}/masks/{bad}?frame=0", status=404)

    def test_the_desk_shows_strokes_and_half_shows_both(self) -> None:
        stroke = {"tool": "paint", "path": [[90, 80]], "size": 60, "hard": 100, "colour": "#ff0000"}
        shot = self.with_clean(strokes=[stroke])
        desk = self.picture(shot, "desk-clean", 0)
        self.assertGreater(float(desk[80, 90, 2] - desk[80, 90, 0]), 180)
        final, half, plain = (self.picture(shot, view, 0)[80, 90] for view in ("final", "half-clean", "plate"))
        self.assertGreater(float(final[2] - final[0]), 180)
        np.testing.assert_allclose(plain, final)
        self.assertTrue(40 < float(half[2] - half[0]) < float(final[2] - final[0]) - 15, (half, final))
        digest = self.page.json("GET", f"/shots/{shot}")["picture"]
        self.assertEqual(self.page.get(f"/frames/{shot}/{digest}/desk-clean/100/7.jpg").status_code, 404)

    def test_a_frame_painted_elsewhere_comes_back_by_itself(self) -> None:
        shot = self.with_clean(strokes=[{"tool": "paint", "path": [[90, 80]], "size": 20, "colour": "#00ff00"}])
        address = f"/shots/{shot}/clean/clean/0/outside"
        self.assertIsNone(self.page.json("GET", address))
        path = Path(self.page.json("POST", address)["path"])
        self.assertTrue(path.is_relative_to(store.exchange_folder()))
        sent = cv2.imread(str(path))
        assert sent is not None
        self.assertGreater(int(sent[80, 90, 1]) - int(sent[80, 90, 2]), 180, "what was painted here went out with it")
        self.assertEqual((look_outside(), look_outside()), (0, 0))
        painted = sent.copy()
        painted[60:100, 70:110] = (250, 20, 20)
        cv2.imwrite(str(path), painted)
        # Met once it may still be being written; the same again, it is taken.
        self.assertEqual((look_outside(), look_outside(), look_outside()), (0, 1, 0))
        frame = self.clean_of(shot)["frames"][0]
        self.assertEqual((frame["strokes"], len(frame["picture"])), ([], 64))
        self.assertFalse(Asset.objects.get(pk=frame["picture"]).on_shelf)
        self.assertGreater(float(self.picture(shot, "final", 0)[80, 90, 0]), 200)
        self.page.json("POST", f"/shots/{shot}/undo", {})
        self.assertEqual(len(self.clean_of(shot)["frames"][0]["strokes"]), 1)

    def test_what_cannot_be_taken_back_says_why_and_changes_nothing(self) -> None:
        shot = self.with_clean()
        address = f"/shots/{shot}/clean/clean/0/outside"
        path = Path(self.page.json("POST", address)["path"])
        number = self.page.json("GET", f"/shots/{shot}")["number"]
        cv2.imwrite(str(path), np.zeros((30, 40, 3), np.uint8))
        self.assertEqual((look_outside(), look_outside()), (0, 0))
        self.assertIn("40 x 30", self.page.json("GET", address)["problem"])
        path.write_bytes(b"not a picture at all")
        self.assertEqual((look_outside(), look_outside()), (0, 0))
        self.assertTrue(self.page.json("GET", address)["problem"])
        self.assertEqual(self.page.json("GET", f"/shots/{shot}")["number"], number)
        os.unlink(path)
        self.assertEqual(look_outside(), 0)
        self.assertEqual(self.page.send("DELETE", address).status_code, 204)
        self.assertFalse(Exchange.objects.exists())
        self.page.json("POST", f"/shots/{shot}/clean/clean/9/outside", {}, status=404)

    def test_a_picture_that_was_brought_in_can_be_taken(self) -> None:
        shot = self.with_clean()
        png = self.page.get(f"/shots/{shot}/clean/clean/0.png")
        self.assertEqual(png["Content-Type"], "image/png")
        picture = cv2.imdecode(np.frombuffer(png.content, np.uint8), cv2.IMREAD_COLOR)
        assert picture is not None
        picture[:] = (20, 20, 240)
        out = self.folder / "painted.png"
        cv2.imwrite(str(out), picture)
        digest = self.page.upload(out)["Plonket-Asset"]
        self.page.json("POST", f"/shots/{shot}/clean/clean/0/picture", {"digest": digest})
        self.assertGreater(float(self.picture(shot, "final", 0)[80, 90, 2]), 200)
        self.page.json("POST", f"/shots/{shot}/clean/clean/0/picture", {"digest": "e" * 64}, status=404)

    def test_frames_are_filled_ahead_and_what_no_frame_shows_is_told(self) -> None:
        """A hole in the same place of a clip that hardly moves is seen in no frame; the fill says so and is kept."""
        shot = self.measured()
        frames = self.page.json("GET", f"/shots/{shot}/ahead")
        self.assertEqual((frames["done"], frames["unseen"]), (0, None))
        self.assertIn("Nothing is taken out", self.page.json("POST", f"/shots/{shot}/ahead", {}, status=400)["message"])
        footage = self.page.json("GET", f"/shots/{shot}")["document"]["footage"]
        mend = {"kind": "mend", "id": "mend", "name": "Mend", "method": "time", "masks": [MASK]}
        self.edit(shot, {"op": "add", "path": "/plate/-", "value": mend},
                  {"op": "replace", "path": "/footage/out_frame", "value": 3})  # fmt: skip
        before = self.picture(shot, "plate", 2)
        job = self.page.json("POST", f"/shots/{shot}/ahead", {})
        self.assertEqual((Job.objects.get(pk=job["id"]).state, job["total"]), ("done", 4))
        told = self.page.json("GET", f"/shots/{shot}/ahead")
        self.assertEqual((told["done"], told["total"]), (4, 4))
        # The mask rides on the surface that it hides: nothing ever uncovers what is under it.
        self.assertGreater(told["unseen"], 0.9)
        self.assertIn("It hides the same place in all frames", told["says"])
        # It is what would have been made, and it does not depend on how the plate is steadied or on the range.
        document = read_shot(self.page.json("GET", f"/shots/{shot}")["document"])
        kept = store.mended_frame(mends_hash(document), 2)
        assert kept is not None
        np.testing.assert_array_equal(kept, ShotSources(document, pool()).mend_now(footage["asset"], 2))
        np.testing.assert_array_equal(self.picture(shot, "plate", 2), before)
        self.edit(shot, {"op": "add", "path": "/plate/-", "value": {"kind": "handheld", "id": "h", "name": "H"}},
                  {"op": "replace", "path": "/footage/out_frame", "value": 4})  # fmt: skip
        self.assertEqual(self.page.json("GET", f"/shots/{shot}/ahead")["done"], 4)
        self.edit(shot, {"op": "replace", "path": "/plate/0/rim", "value": 5})
        self.assertEqual(self.page.json("GET", f"/shots/{shot}/ahead")["done"], 0)
