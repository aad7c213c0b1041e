"""The stack over the API: tables, parcels in edits, matching, lining up, cut-outs, layers by themselves, previews."""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np

from jobs.models import Job
from library.models import Asset
from shots.models import Shot
from tests.core import test_looks_light
from tests.core.test_cutout import scene
from tests.core.test_steady import write
from tests.server.test_plate import WithPlate


class StackApi(WithPlate):
    def still_layer(self, shot: str, **more: Any) -> dict[str, Any]:
        asset = self.page.upload(self.still())["Plonket-Asset"]
        layer = {"kind": "still", "id": "s", "name": "S", "asset": asset, "width": 40, "height": 40, "x": 320.0, "y": 180.0} | more
        self.edit(shot, {"op": "add", "path": "/stack/-", "value": layer})
        return layer

    def test_a_colour_table_is_taken_in_and_used_and_a_bad_one_refused(self) -> None:
        shot = self.shot_with_clip()
        path = self.folder / "swap.cube"
        path.write_text(test_looks_light.Tables.CUBE)
        digest = self.page.upload(path)["Plonket-Asset"]
        told = self.page.json("GET", f"/assets/{digest}")
        self.assertEqual((told["kind"], told["state"], told["name"]), ("table", "ready", "swap"))
        self.still_layer(shot, looks=[{"kind": "cube", "id": "look-1", "name": "Table", "table": digest}])
        # The red square is blue through a table that swaps the two.
        seen = self.picture(shot, "final", 3)[170:190, 310:330].mean(axis=(0, 1))
        self.assertGreater(float(seen[0]), 150)
        self.assertLess(float(seen[2]), 70)
        bad = self.folder / "bad.cube"
        bad.write_text("LUT_3D_SIZE 2\n0 0 zero\n")
        answer = self.page.upload(bad)
        self.assertEqual(answer.status_code, 422)
        self.assertIn("Line 2", answer.json()["message"])
        self.assertEqual(Asset.objects.filter(kind="table").count(), 1)

    def test_a_layer_moves_into_a_parcel_and_is_edited_there(self) -> None:
        shot = self.shot_with_clip()
        self.still_layer(shot)
        before = self.picture(shot, "final", 3)
        shows = {"kind": "parcel", "id": "p", "name": "P", "parcel": "q", "width": 640, "height": 360, "x": 320.0, "y": 180.0}
        self.edit(shot, {"op": "add", "path": "/parcels/-", "value": {"id": "q", "name": "Q", "stack": []}},
                  {"op": "move", "from": "/stack/0", "path": "/parcels/0/stack/0"},
                  {"op": "add", "path": "/stack/0", "value": shows})  # fmt: skip
        np.testing.assert_allclose(self.picture(shot, "final", 3), before, atol=3)
        self.edit(shot, {"op": "test", "path": "/parcels/0/stack/0/id", "value": "s"},
                  {"op": "replace", "path": "/parcels/0/stack/0/x", "value": 100.0})  # fmt: skip
        self.assertGreater(float(np.abs(self.picture(shot, "final", 3) - before).max()), 100)
        bad = self.edit(shot, {"op": "remove", "path": "/parcels/0"}, status=400)
        self.assertIn("shows a parcel that is not in the shot", str(bad["message"]))
        # What lies inside can be asked about like any other layer.
        self.assertIsNone(self.page.json("GET", f"/shots/{shot}/layers/s/matte?frame=1"))

    def test_matching_is_one_step_and_says_what_it_measured(self) -> None:
        shot = self.shot_with_clip()
        rng = np.random.default_rng(2)
        sharp = np.repeat(np.repeat(rng.integers(20, 235, (20, 24), np.uint8), 10, axis=0), 10, axis=1)
        path = self.folder / "sharp.png"
        cv2.imwrite(str(path), cv2.cvtColor(sharp, cv2.COLOR_GRAY2BGR))
        asset = self.page.upload(path)["Plonket-Asset"]
        layer = {"kind": "still", "id": "s", "name": "S", "asset": asset, "width": 240, "height": 200, "x": 320.0, "y": 180.0}
        self.edit(shot, {"op": "add", "path": "/stack/-", "value": layer})
        answer = self.page.json("POST", f"/shots/{shot}/layers/s/match", {"frame": 3})
        self.assertTrue(answer["says"])
        looks = answer["shot"]["document"]["stack"][0]["looks"]
        self.assertTrue(looks and all(k["id"].startswith("match-") for k in looks))
        self.assertEqual(answer["shot"]["undo"], "Match S to the plate")
        self.page.json("POST", f"/shots/{shot}/undo", {})
        self.assertEqual(self.page.json("GET", f"/shots/{shot}")["document"]["stack"][0]["looks"], [])
        self.edit(shot, {"op": "replace", "path": "/stack/0/x", "value": 5000.0})
        gone = self.page.json("POST", f"/shots/{shot}/layers/s/match", {"frame": 3}, status=400)
        self.assertIn("too little", gone["message"])
        self.page.json("POST", f"/shots/{shot}/layers/none/match", {"frame": 3}, status=400)

    def test_a_second_recording_is_lined_up_by_its_picture(self) -> None:
        frames = [scene(f)[0] for f in range(16)]
        shot = self.new_shot()
        self.page.upload(write(self.folder / "first.mp4", frames, crf=8), shot=shot)
        second = [cv2.convertScaleAbs(f, alpha=0.8, beta=12) for f in frames[6:]]
        asset = self.page.upload(write(self.folder / "second.mp4", second, crf=8))["Plonket-Asset"]
        layer = {"kind": "still", "id": "k", "name": "Second", "asset": asset, "width": 640, "height": 360, "x": 320.0, "y": 180.0}
        self.edit(shot, {"op": "add", "path": "/stack/-", "value": layer})
        job = Job.objects.get(pk=self.page.json("POST", f"/shots/{shot}/layers/k/lineup", {"by": "picture"})["id"])
        self.assertEqual((job.state, job.result["starts"], job.done), ("done", 6, job.total))
        self.assertIn("sure" if job.result["says"] != "certain" else "certain", job.result["says"])
        placed = self.page.json("GET", f"/shots/{shot}")["document"]["stack"][0]
        self.assertEqual((placed["starts"], placed["pace"]), (6, "own"))
        silent = Job.objects.get(pk=self.page.json("POST", f"/shots/{shot}/layers/k/lineup", {"by": "sound"})["id"])
        self.assertIn("no sound", silent.message)

    def test_strokes_cut_a_subject_out_in_its_own_pixels(self) -> None:
        shot = self.shot_with_clip()
        asset = self.page.upload(write(self.folder / "walker.mp4", [scene(f)[0] for f in range(4)], crf=6))["Plonket-Asset"]
        layer = {"kind": "still", "id": "w", "name": "Walker", "asset": asset, "width": 640, "height": 360, "x": 320.0, "y": 180.0,
                 "size": 50.0, "key": {"kind": "cutout"}}  # fmt: skip
        self.edit(shot, {"op": "add", "path": "/stack/-", "value": layer})

        def seen(x: float, y: float) -> tuple[float, float]:
            return 320 + (x - 320) / 2, 180 + (y - 180) / 2

        for subject, a, b in ((True, (240, 110), (240, 300)), (False, (90, 60), (90, 320)), (False, (420, 60), (420, 320))):
            answer = self.page.json("POST", f"/shots/{shot}/layers/w/strokes", {
                "frame": 0, "subject": subject, "width": 12, "points": [seen(*a), seen(*b)]})  # fmt: skip
        strokes = answer["document"]["stack"][0]["key"]["strokes"]
        self.assertEqual([s["subject"] for s in strokes], [True, False, False])
        np.testing.assert_allclose(strokes[0]["points"], [(240, 110), (240, 300)], atol=0.2)
        self.assertAlmostEqual(strokes[0]["width"], 24, delta=0.1)
        matte = self.picture(shot, "matte", 0)[..., 0]
        true = cv2.resize(scene(0)[1], (320, 180), interpolation=cv2.INTER_AREA) * 255
        self.assertLess(float(np.abs(matte[90:270, 160:480] - true).mean()), 5)
        self.page.json("POST", f"/shots/{shot}/layers/w/strokes", {"frame": 0, "points": [[-900, -900]]}, status=400)
        self.edit(shot, {"op": "replace", "path": "/stack/0/key", "value": None})
        self.page.json("POST", f"/shots/{shot}/layers/w/strokes", {"frame": 0, "points": [seen(240, 200)]}, status=400)

    def test_a_layer_by_itself_and_its_softest_edge(self) -> None:
        shot = self.shot_with_clip()
        self.still_layer(shot, shown=False, turn=30.0)
        grey = self.picture(shot, "over-404040-s", 2)
        self.assertLess(float(np.ptp(grey[:100, :100])), 6)
        self.assertGreater(float(grey[180, 320, 2] - grey[180, 320, 0]), 100)
        checker = self.picture(shot, "checker-s", 2)
        self.assertGreater(float(checker[:100, :100, 0].std()), 15)
        digest = self.page.json("GET", f"/shots/{shot}")["picture"]
        self.assertEqual(self.page.get(f"/frames/{shot}/{digest}/over-404040-none/100/2.jpg").status_code, 400)
        spot = self.page.json("GET", f"/shots/{shot}/layers/s/edge?frame=2")
        # Turned, the square's sides are soft: the spot lies on one of them, 20 px from its middle and more.
        self.assertTrue(19 < np.hypot(spot["x"] - 320, spot["y"] - 180) < 32, spot)

    def test_generated_elements_have_previews_and_forms(self) -> None:
        kinds = self.page.json("GET", "/kinds/generator")
        self.assertIn("ring", [k["kind"] for k in kinds])
        answer = self.page.get("/generated/ring.jpg")
        self.assertEqual((answer.status_code, answer["Content-Type"]), (200, "image/jpeg"))
        self.assertEqual(self.page.get("/generated/nothing.jpg").status_code, 400)
        shot = self.shot_with_clip()
        layer = {"kind": "generated", "id": "g", "name": "G", "x": 320.0, "y": 180.0, "generator": {"kind": "flare"}}
        self.edit(shot, {"op": "add", "path": "/stack/-", "value": layer})
        self.assertGreater(float(self.picture(shot, "final", 2)[180, 320].min()), 200)
        stored = Shot.objects.select_related("current").get(pk=shot).current
        assert stored is not None
        self.assertEqual(stored.document["stack"][0]["generator"]["points"], 6)
        bad = self.edit(shot, {"op": "replace", "path": "/stack/0/generator", "value": {"kind": "dragon"}}, status=400)
        self.assertIn("generator", str(bad["message"]))

    def test_a_wobbling_number_is_stored_and_rendered(self) -> None:
        shot = self.shot_with_clip()
        self.still_layer(shot, opacity={"base": 50.0, "wobble": {"kind": "steps", "amount": 45.0, "every": 1.0, "seed": 3}})
        reds = {round(float(self.picture(shot, "final", f)[180, 320, 2])) for f in range(6)}
        self.assertGreater(len(reds), 3)
        bad = self.edit(shot, {"op": "replace", "path": "/stack/0/opacity",
                               "value": {"base": 50.0, "wobble": {"amount": -3}}}, status=400)  # fmt: skip
        self.assertIn("opacity", str(bad["message"]))
